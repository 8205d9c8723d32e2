"""The XML schema engine: XSD 1.0 documents, read into components; elements checked, sampled and broken by
them.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from juxtalogos.schema.xml.engine import SchemaSet, compile_schemas

__all__ = ["SchemaSet", "compile_schemas", "laid_out"]


def laid_out(content: bytes) -> str:
    """An XML document with an element a line, for people; empty where it is none."""
    from juxtalogos.schema.xml.tell import text

    return text.laid_out(content) or ""


def __getattr__(name: str) -> Any:
    """The library's face is loaded when it is asked for: who looks at one schema of a WSDL does without."""
    if name not in __all__:
        raise AttributeError(name)
    from juxtalogos.schema.xml import engine

    return getattr(engine, name)
