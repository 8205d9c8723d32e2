"""`call --ask`: each input asked for with what is allowed, judged at once."""

from __future__ import annotations

import sys
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass, replace
from enum import Enum
from typing import Any

from juxtalogos.cli.shared.terminal import Terminal, clean
from juxtalogos.documents.jsontext import dump_json
from juxtalogos.exchange.media import chosen_media
from juxtalogos.formats import wire_of
from juxtalogos.model.contract import Contract, Operation
from juxtalogos.model.errors import UsageError
from juxtalogos.model.location import split_pointer
from juxtalogos.model.schema import ABSENT, OutlineRow, SchemaRef
from juxtalogos.model.wire import Inputs
from juxtalogos.suite.comparing import leaves
from juxtalogos.suite.inputs import with_values, without_place


@dataclass(frozen=True, slots=True)
class Question:
    """One input to ask for; `current` is what an empty line takes."""

    address: str
    schema: SchemaRef | None
    row: OutlineRow | None
    required: bool
    meaning: str
    current: Any
    pointer: str = ""

    @property
    def facts(self) -> str:
        """What a person is told of the input, on one line."""
        need = "required" if self.required else "optional"
        told = [
            self.row.type if self.row else "any",
            need,
            self.row.allowed if self.row else "",
            " ".join(self.meaning.split()),
        ]
        return "; ".join(filter(None, told))


class Back(Enum):
    """The answer of a person who wants to change the one before."""

    BACK = "back"


@dataclass(frozen=True, slots=True)
class Asker:
    """Asks a person for each input, then shows the request before it is sent."""

    out: Terminal
    contract: Contract
    preview: Callable[[Inputs], Iterable[str]]
    """The request as it would be sent, in lines that may be shown."""

    def inputs(self, operation: Operation, inputs: Inputs) -> Inputs:
        """Inputs as a person gives them; an empty line keeps the sample, or leaves an optional one out.
        UsageError where the person sends nothing after all.
        """
        hint = (
            "an empty line accepts the value in brackets; - leaves an input out; < goes back; ! before a "
            "value sends it although it is not allowed"
        )
        self.out.note((hint, "note"))
        questions = list(self.questions(operation, inputs))
        states = [inputs]
        """As they were before each question; the last one as they are now."""
        answers: dict[str, Any] = {}
        while True:
            while len(states) <= len(questions):
                question = questions[len(states) - 1]
                current = dict(_single(states[-1])).get(question.address, ABSENT)
                current = answers.get(question.address, current)
                told = f"{len(states)} of {len(questions)}"
                given = self.ask(replace(question, current=current), told)
                if given is not Back.BACK:
                    answers[question.address] = given
                    states.append(_answered(states[-1], question.address, given))
                elif len(states) > 1:
                    states.pop()
                else:
                    self.out.note(("  this is the first input", "remark"))
            if self.agreed(states[-1]):
                return states[-1]
            states.pop()

    def questions(self, operation: Operation, inputs: Inputs) -> Iterator[Question]:
        """What is asked for, in its order: the inputs beside the body, then the body place by place."""
        for one in operation.inputs:
            rows = self.contract.schema(one.schema).outline() if one.schema else ()
            row = next(iter(rows), None)
            yield Question(one.address, one.schema, row, one.required, one.description, ABSENT)
        media = chosen_media(operation, inputs.content_type)
        ref = media.schema if media else None
        for row in self.contract.schema(ref).outline() if ref else ():
            if _is_asked(row):
                yield Question(f"body{row.path}", ref, row, row.required, row.description, ABSENT, row.path)

    def agreed(self, inputs: Inputs) -> bool:
        """Shows the request; whether it is to be sent. UsageError where nothing is to be sent."""
        self.out.note(("the request", "head"))
        for line in self.preview(inputs):
            self.out.note(f"  {line}")
        try:
            text = _line("Enter sends it, < goes back, q sends nothing").strip().lower()
        except UsageError:
            if sys.stdin.isatty():
                raise
            return True  # the answers came from a file, and every question has one
        if text in ("q", "n", "no"):
            raise UsageError("nothing was sent", mend="call it again when you know the values")
        return text != "<"

    def ask(self, question: Question, told: str = "") -> Any:
        """The value; ABSENT where the input is left out; BACK where the one before is to change."""
        self.out.note((question.address, "name"), "  ", (question.facts, "note"), (f"   {told}", "note"))
        choices = question.row.choices if question.row is not None else ()
        if choices:
            numbered = (f"{number} {_shown(one)}" for number, one in enumerate(choices[:MOST_CHOICES], 1))
            self.out.note(("  " + "   ".join(numbered) + ("   …" * (len(choices) > MOST_CHOICES)), "note"))
        current = question.current
        while True:
            text = _line("" if current is ABSENT else _shown(current))
            if text == "":
                return current
            if text == "<":
                return Back.BACK
            if text == "!-" or (text == "-" and not question.required):
                return ABSENT
            if text == "-":
                self.out.note(("  it is required; write !- to leave it out anyway", "remark"))
                continue
            chosen = _chosen(choices, text)
            if chosen is not ABSENT:
                return chosen
            value = wire_of(self.contract).parse_text(
                question.schema, question.pointer, text.removeprefix("!")
            )
            wrong = "" if text.startswith("!") else self.wrong(question, value)
            if not wrong:
                return value
            self.out.note((f"  {wrong}", "deviation"))

    def wrong(self, question: Question, value: Any) -> str:
        """Why a value is not allowed; empty when it is."""
        ref, row = question.schema, question.row
        if ref is None or row is None:
            return ""
        deviations = [one for one in self.contract.schema(ref).check_part(row, value) if not one.advisory]
        return f"{deviations[0].declared} expected, {deviations[0].observed} given" if deviations else ""


MOST_CHOICES = 30
"""Choices that are listed by number."""


def _shown(value: Any) -> str:
    return value if isinstance(value, str) else dump_json(value)


def _chosen(choices: Sequence[Any], text: str) -> Any:
    """The choice of a number, unless the number is itself one of the values; ABSENT for none."""
    if not text.isdigit() or any(_shown(one) == text for one in choices):
        return ABSENT
    number = int(text[:4])
    return choices[number - 1] if 1 <= number <= min(len(choices), MOST_CHOICES) else ABSENT


def _single(inputs: Inputs) -> Iterator[tuple[str, Any]]:
    """(address, value) of what may be asked for."""
    yield from inputs.values.items()
    yield from ((f"body{path}", value) for path, value in leaves(inputs.body) if inputs.body is not ABSENT)


def _answered(inputs: Inputs, address: str, given: Any) -> Inputs:
    """Inputs with an answer; without the input where it is left out."""
    if given is not ABSENT:
        return with_values(inputs, {address: given})
    if not address.startswith("body"):
        return replace(inputs, values={name: one for name, one in inputs.values.items() if name != address})
    return replace(inputs, body=without_place(inputs.body, split_pointer(address[4:])))


def _line(shown: str) -> str:
    sys.stderr.write(f"  [{clean(shown)}] ")
    sys.stderr.flush()
    line = sys.stdin.readline()
    if not line:
        raise UsageError(
            "the input ended before every question was answered",
            mend="answer every question, or leave --ask out",
        )
    return line.rstrip("\r\n")


def _is_asked(row: OutlineRow) -> bool:
    """Single values that stand at a place of their own; items of lists and choices take the sample."""
    return row.scalar and not any(token.isdigit() or token == "NAME" for token in split_pointer(row.path))
