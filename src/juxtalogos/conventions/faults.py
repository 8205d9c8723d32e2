"""What the name of a fault says that it means."""

from __future__ import annotations

import re

from juxtalogos.conventions.naming import plain
from juxtalogos.conventions.words import from_words, words
from juxtalogos.model.outcome import Outcome, Wrong

_NO_SUCH = re.compile(r"^[Nn]o(?=[A-Z_])")
"""`NoBerth`, `no_berth`: the plain name does not show where the word ends."""
_BAD = re.compile(r"^[Bb]ad(?=[A-Z_])|[a-z_]Bad(?=[A-Z_])")
_PAST = re.compile(r"over$", re.IGNORECASE)


@from_words
def _parts() -> tuple[re.Pattern[str], ...]:
    return tuple(
        re.compile("|".join(map(re.escape, words(f"faults.{kind}"))))
        for kind in ("absent", "invalid", "conflict")
    )


def means_absent(name: str) -> bool:
    """Whether a fault's name says that something does not exist."""
    return bool(_NO_SUCH.search(name) or _parts()[0].search(plain(name)))


def means_invalid(name: str) -> bool:
    """Whether a fault's name says that the request is malformed or a value is wrong."""
    return bool(_BAD.search(name) or _parts()[1].search(plain(name)))


def means_conflict(name: str) -> bool:
    """Whether a fault's name says that the state of things does not allow it, and neither
    of the two others.
    """
    return bool(_PAST.search(name) or _parts()[2].search(plain(name))) and not (
        means_absent(name) or means_invalid(name)
    )


def fault_outcome(name: str) -> Outcome:
    """What a fault means, by its name; invalid where the name does not say."""
    if means_absent(name):
        return Outcome.ABSENT
    return Outcome.CONFLICT if means_conflict(name) else Outcome.INVALID


def meant_for(name: str, wrong: Wrong) -> bool:
    """Whether a fault's name says that it is for such a request."""
    if wrong in (Wrong.GONE, Wrong.UNKNOWN, Wrong.REFERENCE):
        return means_absent(name)
    if wrong is Wrong.VALUE:
        return means_invalid(name)
    return wrong is Wrong.CONFLICT and means_conflict(name)
