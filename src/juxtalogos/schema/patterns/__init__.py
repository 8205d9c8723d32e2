"""Patterns of ECMA-262 and of XML Schema: parsed by us, matched by engines that no pattern and no text can
hang.
"""

from juxtalogos.schema.patterns.engine import Pattern, PatternTimeout, compile_pattern, compile_xsd_pattern
from juxtalogos.schema.patterns.generate import matching_texts
from juxtalogos.schema.patterns.parse import PatternError

__all__ = [
    "Pattern",
    "PatternError",
    "PatternTimeout",
    "compile_pattern",
    "compile_xsd_pattern",
    "matching_texts",
]
