"""`call --ask`: each input asked for with what is allowed, judged at once."""

from __future__ import annotations

import sys
from typing import Any

from juxtalogos.cli.terminal import Terminal, clean
from juxtalogos.documents.jsontext import dump_json
from juxtalogos.exchange.media import chosen_media
from juxtalogos.model.contract import Contract, Operation, SchemaRef
from juxtalogos.model.errors import UsageError
from juxtalogos.model.location import split_pointer
from juxtalogos.model.seams import ABSENT, Format, Inputs, OutlineRow
from juxtalogos.suite.inputs import with_values

_SCALARS = ("string", "integer", "number", "boolean", "null")


def ask_inputs(out: Terminal, form: Format, contract: Contract, operation: Operation, inputs: Inputs) -> Inputs:
    """Inputs as a person gives them; an empty line keeps the sample, or leaves an optional one out."""
    out.note(
        (
            "an empty line takes the value in brackets; - leaves an input out; ! before a value sends it though it is not allowed",
            "note",
        )
    )
    values: dict[str, Any] = dict(inputs.values)
    for one in operation.inputs:
        row = next(iter(contract.schema(one.schema).outline()), None) if one.schema else None
        given = _ask(
            out,
            form,
            contract,
            one.address,
            one.schema,
            "",
            row,
            one.required,
            values.get(one.address, ABSENT),
            one.description,
        )
        if given is ABSENT:
            values.pop(one.address, None)
        else:
            values[one.address] = given
    found = Inputs(values, inputs.body, inputs.content_type)
    media = chosen_media(operation, inputs.content_type)
    if media is None or media.schema is None:
        return found
    rows = [row for row in contract.schema(media.schema).outline() if _is_asked(row)]
    for row in rows:
        current = _at(found.body, row.path)
        given = _ask(
            out, form, contract, f"body{row.path}", media.schema, row.path, row, row.required, current, row.description
        )
        if given is not ABSENT:
            found = with_values(found, {f"body{row.path}": given})
        elif current is not ABSENT:
            found = Inputs(found.values, _without(found.body, split_pointer(row.path)), found.content_type)
    return found


def _is_asked(row: OutlineRow) -> bool:
    """Single values that stand at a place of their own; items of lists and choices take the sample."""
    kind = row.type.partition(" ")[0]
    return kind in _SCALARS and not any(token.isdigit() or token == "NAME" for token in split_pointer(row.path))


def _ask(
    out: Terminal, form: Format, contract: Contract, address: str, ref: SchemaRef | None, pointer: str, row: OutlineRow | None,
    required: bool, current: Any, meaning: str,
) -> Any:  # fmt: skip
    facts = [
        row.type if row else "any",
        "required" if required else "optional",
        row.allowed if row else "",
        " ".join(meaning.split()),
    ]
    out.note((address, "name"), "  ", ("; ".join(filter(None, facts)), "note"))
    shown = "" if current is ABSENT else current if isinstance(current, str) else dump_json(current)
    while True:
        sys.stderr.write(f"  [{clean(shown)}] ")
        sys.stderr.flush()
        line = sys.stdin.readline()
        if not line:
            raise UsageError(
                "the input ended before every question was answered", mend="answer each, or leave --ask out"
            )
        text = line.rstrip("\r\n")
        if text == "":
            return current
        if text == "-":
            if not required:
                return ABSENT
            out.note(("  it is required; write !- to leave it out all the same", "remark"))
            continue
        if text == "!-":
            return ABSENT
        knowingly, text = text.startswith("!"), text.removeprefix("!")
        value = form.parse_text(contract, ref, pointer, text)
        wrong = "" if knowingly else _wrong(contract, row, ref, value)
        if not wrong:
            return value
        out.note((f"  {wrong}", "deviation"))


def _wrong(contract: Contract, row: OutlineRow | None, ref: SchemaRef | None, value: Any) -> str:
    """Why a value is not allowed; empty when it is."""
    if ref is None or row is None or row.place is None:
        return ""
    own = SchemaRef(ref.dialect, row.place.document, row.place.pointer, ref.direction)
    deviations = [one for one in contract.schema(own).check(value) if not one.advisory]
    return f"{deviations[0].declared} expected, {deviations[0].observed} given" if deviations else ""


def _at(body: Any, path: str) -> Any:
    for token in split_pointer(path):
        if not isinstance(body, dict) or token not in body:
            return ABSENT
        body = body[token]
    return body


def _without(body: Any, tokens: list[str]) -> Any:
    if len(tokens) == 1:
        return {key: item for key, item in body.items() if key != tokens[0]}
    return {**body, tokens[0]: _without(body[tokens[0]], tokens[1:])}
