"""Conflicts: whether an operation is declared to be refused for the state that things are in, and whether it
was.
"""

from __future__ import annotations

import re

from juxtalogos.compose.provoking import BROKEN_NAME, GONE_NAME
from juxtalogos.explore.bench import Trial
from juxtalogos.model.contract import Operation

_CONFLICT = re.compile(
    r"taken|exist|duplicate|already|busy|ended|closed|conflict|in[_-]?use|state|locked|occupied|finish|running|still|assigned|cancel|used|open|active|reserved|released|started|allotted|over$|done",
    re.IGNORECASE,
)
"""What names of faults have in them that are about the state that things are in."""


def declares_conflict(operation: Operation) -> bool:
    """Whether an operation is declared to be refused for the state that things are in."""
    return any(
        answer.status == "409" or (answer.fault and conflict_named(answer.fault))
        for answer in operation.answers
    )


def conflict_named(fault: str) -> bool:
    """Whether a fault's name tells of a conflict: none of what is not there, or of what is malformed."""
    return bool(_CONFLICT.search(fault)) and not GONE_NAME.search(fault) and not BROKEN_NAME.search(fault)


def is_conflict(seen: Trial) -> bool:
    """Whether an answer says that something stands in the way."""
    return seen.status == 409 if not seen.fault else conflict_named(seen.fault)
