"""What the name of an operation or a path says that it does, and what it is about."""

from __future__ import annotations

import re
from functools import lru_cache

from juxtalogos.conventions.words import from_words, word_set, words
from juxtalogos.model.contract import Intent

_WORD = re.compile(r"[A-Z]?[a-z]+|[A-Z]+(?![a-z])|\d+")
_INTENTS = (
    Intent.LIST,
    Intent.READ,
    Intent.CREATE,
    Intent.UPDATE,
    Intent.REPLACE,
    Intent.DELETE,
    Intent.EMPTY,
    Intent.ACT,
)
_READS = (Intent.LIST, Intent.READ)
_many = word_set("verbs.many")


@from_words
def verbs() -> dict[str, Intent]:
    """What the first word of a name says that an operation does."""
    return {word: intent for intent in _INTENTS for word in words(f"verbs.{intent}")}


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


@lru_cache(maxsize=10_000)
def words_of(name: str) -> tuple[str, ...]:
    """The words of a name, in lower case: `addPortCall`, `add_port_call`."""
    return tuple(word.lower() for word in _WORD.findall(name))


@lru_cache(maxsize=10_000)
def plain(name: str) -> str:
    """A name without what people separate its words by, in lower case."""
    return re.sub(r"[^a-z0-9]", "", name.lower())


def intent_of(name: str) -> Intent:
    """What a name says that an operation does; `UNKNOWN` where its first word is no verb that we know.

    To delete all, or many at once, is to empty.
    """
    parts = words_of(name)
    many = any(word in _many() for word in parts)
    while parts and parts[0] in _many():
        parts = parts[1:]
    found = verbs().get(parts[0], Intent.UNKNOWN) if parts else Intent.UNKNOWN
    return Intent.EMPTY if found is Intent.DELETE and many else found


def only_reads(name: str) -> bool:
    """Whether an operation's name says that it only reads: `getPassage`, `ListJobs`."""
    return intent_of(name) in _READS


def noun_of(name: str) -> str:
    """What an operation is about, by its name: `getPassage` is about a passage."""
    return singular("".join(word for word in words_of(name)[1:] if word not in _many()))
