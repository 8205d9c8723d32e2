"""What operations do to what a run did not make, as far as verbs, names, summaries and shapes say.

One judgement for all formats. Verbs count before shape, whatever the method: a GET that logs out switches the
service, and so does a PUT of `/restart`, although items lie below it.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace
from typing import Any

from juxtalogos.conventions.naming import intent_of, last_part, noun_of, singular, verbs, words_of
from juxtalogos.conventions.words import word_set
from juxtalogos.model.contract import Intent, Operation
from juxtalogos.model.danger import Danger

_destroys, _switches = word_set("danger.destroys"), word_set("danger.switches")
_beginning = word_set("danger.beginning")
_others, _in_reading = word_set("danger.others"), word_set("danger.reading")
_READING = (Intent.LIST, Intent.READ)
_BY_INTENT = {
    Intent.LIST: Danger.READS,
    Intent.READ: Danger.READS,
    Intent.CREATE: Danger.CREATES,
    Intent.EMPTY: Danger.DESTROYS,
}


@dataclass(frozen=True, slots=True)
class _Made:
    """What the operations of a contract can create: there a run can have items of its own."""

    resources: frozenset[str]
    nouns: frozenset[str]

    def holds(self, operation: Operation) -> bool:
        """Whether an operation works on, or below, an item that a run can have made."""
        key = operation.resource
        if operation.on_item and key in self.resources:
            return True
        if "{}" in key:
            above = key.rpartition("/{}")[0]
            while above:
                if above in self.resources:
                    return True
                above = above.rpartition("/{}")[0]
        return not key and bool(operation.noun) and operation.noun in self.nouns


def with_danger(operations: Sequence[Operation]) -> list[Operation]:
    """The operations of a contract with their danger; a safe one that reaches further is safe no more."""
    spoken = {operation.id: _by_verbs(operation) for operation in operations}
    made = _made(operation for operation in operations if spoken[operation.id] is None)
    return [_judged(operation, spoken[operation.id], made) for operation in operations]


def danger_by_intent(intent: Intent) -> Danger:
    """What an operation does of which a person has said what it is for."""
    return _BY_INTENT.get(intent, Danger.OWN)


def _judged(operation: Operation, spoken: Danger | None, made: _Made) -> Operation:
    danger = spoken or danger_by_intent(operation.intent)
    if operation.safe and spoken is None:
        danger = Danger.READS
    elif danger in (Danger.DESTROYS, Danger.SWITCHES) and made.holds(operation):
        danger = Danger.OWN  # it can only reach what the run made
    safe = operation.safe and danger is Danger.READS
    return replace(operation, danger=danger, safe=safe)


def _made(operations: Iterable[Operation]) -> _Made:
    resources: set[str] = set()
    nouns: set[str] = set()
    written: set[str] = set()
    for operation in operations:
        if operation.intent is Intent.CREATE:
            resources.add(operation.resource)
            nouns.add(operation.noun)
        elif operation.intent is Intent.REPLACE and operation.on_item:
            written.add(operation.resource)
    return _Made(frozenset((resources | written) - {""}), frozenset(nouns - {""}))


def _by_verbs(operation: Operation) -> Danger | None:
    """What the verbs of an operation say; None where they say nothing of danger."""
    name = operation.declared_id or ("" if " " in operation.id else operation.id)
    name = name.rpartition(".")[2]
    segment = "" if "{" in operation.path.rpartition("/")[2] else last_part(operation.path)
    first_words = [words[0] for text in (name, segment) if (words := words_of(text))]
    if not operation.safe and operation.summary:
        told = [singular(word) for word in words_of(operation.summary)[:1]]
        begins = operation.intent is Intent.CREATE and bool(operation.resource)
        # To start an item of a collection is to create it.
        first_words += [word for word in told if not (begins and word in _beginning())]
    reads = bool(words_of(name)) and verbs().get(words_of(name)[0]) in _READING
    if operation.safe:
        # A noun may be spelled like a verb (`GET /release`): few words mean one where something is read.
        said = [] if reads else [word for word in first_words if word in _in_reading()]
    else:
        alone = words_of(segment) if len(words_of(segment)) > 1 or not operation.on_item else ()
        said = [*first_words, *(word for word in alone if word in _switches())]
    for danger, named in (
        (Danger.DESTROYS, _destroys()),
        (Danger.SWITCHES, _switches()),
        (Danger.OTHERS, _others()),
    ):
        if any(word in named for word in said):
            return danger
    many = any(intent_of(text) is Intent.EMPTY and noun_of(text) for text in (name, segment) if text)
    return Danger.DESTROYS if many and not operation.safe else None


SAID = (*(str(intent) for intent in Intent if intent is not Intent.UNKNOWN), "switch", "destroy")
"""Words by which a person says what an operation does."""


def said_to_do(word: str) -> dict[str, Any]:
    """What a person's word sets of an operation; ValueError where it is none of `SAID`."""
    if word == "switch":
        return {"intent": Intent.ACT, "safe": False, "danger": Danger.SWITCHES}
    intent = Intent.EMPTY if word == "destroy" else Intent(word)
    return {"intent": intent, "safe": intent in _READING, "danger": danger_by_intent(intent)}
