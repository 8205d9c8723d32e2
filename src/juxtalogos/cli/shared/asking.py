"""`call --ask`: each input asked for with what is allowed, judged at once."""

from __future__ import annotations

import sys
from dataclasses import dataclass
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


@dataclass(frozen=True, slots=True)
class Asker:
    """Asks a person for each input."""

    out: Terminal
    contract: Contract

    def inputs(self, operation: Operation, inputs: Inputs) -> Inputs:
        """Inputs as a person gives them; an empty line keeps the sample, or leaves an optional one out."""
        hint = (
            "an empty line accepts the value in brackets; - leaves an input out; ! before a "
            "value sends it although it is not allowed"
        )
        self.out.note((hint, "note"))
        values: dict[str, Any] = dict(inputs.values)
        for declared_input in operation.inputs:
            row = (
                next(iter(self.contract.schema(declared_input.schema).outline()), None)
                if declared_input.schema
                else None
            )
            current = values.pop(declared_input.address, ABSENT)
            given = self.ask(
                Question(
                    declared_input.address,
                    declared_input.schema,
                    row,
                    declared_input.required,
                    declared_input.description,
                    current,
                )
            )
            if given is not ABSENT:
                values[declared_input.address] = given
        found = Inputs(values, inputs.body, inputs.content_type)
        media = chosen_media(operation, inputs.content_type)
        return self.body(found, media.schema) if media and media.schema else found

    def body(self, inputs: Inputs, ref: SchemaRef) -> Inputs:
        """The inputs with a body, asked for place by place."""
        for row in self.contract.schema(ref).outline():
            if not _is_asked(row):
                continue
            current = _at(inputs.body, row.path)
            question = Question(f"body{row.path}", ref, row, row.required, row.description, current, row.path)
            given = self.ask(question)
            if given is not ABSENT:
                inputs = with_values(inputs, {question.address: given})
            elif current is not ABSENT:
                inputs = Inputs(
                    inputs.values, without_place(inputs.body, split_pointer(row.path)), inputs.content_type
                )
        return inputs

    def ask(self, question: Question) -> Any:
        """The value; ABSENT where the input is left out."""
        self.out.note((question.address, "name"), "  ", (question.facts, "note"))
        current = question.current
        shown = "" if current is ABSENT else current if isinstance(current, str) else dump_json(current)
        while True:
            text = _line(shown)
            if text == "":
                return current
            if text == "!-" or (text == "-" and not question.required):
                return ABSENT
            if text == "-":
                self.out.note(("  it is required; write !- to leave it out anyway", "remark"))
                continue
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


def _at(body: Any, path: str) -> Any:
    for token in split_pointer(path):
        if not isinstance(body, dict) or token not in body:
            return ABSENT
        body = body[token]
    return body
