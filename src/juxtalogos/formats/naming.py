"""Names as people make them: what a path or an operation's name tells of what it is about."""

from __future__ import annotations

import re

_READS = re.compile(r"(?i:get|list|find|read|query|search|fetch|show|look|check|count|describe|retrieve)(?![a-z])")


def last_part(path: str) -> str:
    """The last fixed segment of a path: of `/berths/{id}` it is `berths`."""
    fixed = [part for part in path.split("/") if part and "{" not in part]
    return fixed[-1] if fixed else ""


def first_part(path: str) -> str:
    """The first fixed segment of a path."""
    return next((part for part in path.split("/") if part and "{" not in part), "")


def singular(word: str) -> str:
    """An English word in lower case, in the singular as far as its ending tells."""
    word = word.lower()
    if word.endswith("ies"):
        return word[:-3] + "y"
    if word.endswith(("sses", "shes", "ches", "xes")):
        return word[:-2]
    return word[:-1] if word.endswith("s") and not word.endswith("ss") else word


def only_reads(name: str) -> bool:
    """Whether an operation's name says that it only reads: `getPassage`, `ListJobs`."""
    return _READS.match(name) is not None


def noun_of(name: str) -> str:
    """What an operation is about, by its name: `getPassage` is about a passage."""
    words = re.findall(r"[A-Z]?[a-z0-9]+|[A-Z]+(?![a-z])", name)
    return singular("".join(words[1:]))
