"""Links between steps: an input of one takes a value of an earlier one's answer, by `/pointer`, `header.NAME`
or JSONPath.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass, replace
from itertools import count
from typing import Any

from juxtalogos.model.contract import Contract, Operation
from juxtalogos.model.errors import UsageError, nearest, quoted
from juxtalogos.model.location import split_pointer
from juxtalogos.suite.inputs import first_items
from juxtalogos.suite.language.selectors import BadSelector, json_path


@dataclass(frozen=True, slots=True)
class StepLink:
    """An input that takes a value from an earlier step's answer, not a literal."""

    address: str
    step: str
    output: str
    expression: str
    selector: str = ""
    """A JSONPath, the first of whose nodes it is; the expression is its context then."""

    @property
    def reference(self) -> str:
        return f"$steps.{self.step}.outputs.{self.output}"


def link_of(address: str, step: str, source: str) -> StepLink:
    """The link to what stands at a source: empty for the whole body, `/pointer`, `header.NAME`, or a JSONPath
    that begins with `$`.

    UsageError where it is none of these.
    """
    if source.startswith("$"):
        try:
            json_path(source)
        except BadSelector as error:
            raise UsageError(str(error), mend="write one such as $.items[?@.free == true].berthId") from None
        named = re.findall(r"\.([A-Za-z_][A-Za-z0-9_]*)", re.sub(r"\[[^\]]*\]", "", source))
        return StepLink(address, step, named[-1] if named else "chosen", "$response.body", source)
    if source and not source.startswith(("/", "header.")):
        raise UsageError(
            f"{quoted(source)} is not a place in a response",
            mend="write /path, header.NAME or a JSONPath ($.items[0].id)",
        )
    output = re.sub(r"[^A-Za-z0-9_-]+", "-", source.rpartition("/")[2].rpartition(".")[2]) or "body"
    if source.startswith("header."):
        return StepLink(address, step, output, f"$response.{source}")
    return StepLink(address, step, output, f"$response.body#{source}" if source else "$response.body")


def give_output(steps: Any, link: StepLink) -> StepLink:
    """Lets an earlier step put out what a link takes; the link, its output's name changed where another value
    has it. KeyError when the step is gone.
    """
    step = next((earlier for earlier in steps if earlier.get("stepId") == link.step), None)
    if step is None:
        raise KeyError(f"the step {link.step} is no longer there")
    key, other = ("x-juxtalogos-outputs", "outputs") if link.selector else ("outputs", "x-juxtalogos-outputs")
    wanted: Any = (
        {"type": "jsonpath", "selector": link.selector, "first": True} if link.selector else link.expression
    )
    own, others = step.get(key, {}), step.get(other, {})
    names = (link.output if number == 1 else f"{link.output}-{number}" for number in count(1))
    name = next(word for word in names if word not in others and own.get(word, wanted) == wanted)
    step.setdefault(key, {})[name] = wanted
    return replace(link, output=name)


def drop_unused(case: Any, reference: str) -> None:
    """Takes back an output of a step that nothing in the case refers to any more."""
    found = re.fullmatch(r"\$steps\.([\w-]+)\.outputs\.([\w-]+)", reference)
    pattern = re.compile(rf"(\$?steps\.{found[1]}\.(outputs\.)?){found[2]}(?![\w-])") if found else None
    if found is None or pattern is None or any(map(pattern.search, _texts(case))):
        return
    for step in case["steps"]:
        for key in ("outputs", "x-juxtalogos-outputs"):
            if step.get("stepId") == found[1] and found[2] in step.get(key, {}):
                del step[key][found[2]]
                if not step[key]:
                    del step[key]


def _texts(value: Any) -> Iterator[str]:
    if isinstance(value, dict | list):
        for member in value.values() if isinstance(value, dict) else value:
            yield from _texts(member)
    elif isinstance(value, str):
        yield value


def check_source(contract: Contract, operation: Operation, source: str) -> None:
    """UsageError where no declared answer has a value there, and each says what it has."""
    rows = list(_declared_places(contract, operation))
    if not rows or source.startswith("header.") or not source:
        return
    if not source.startswith("$"):
        if first_items(source) not in map(first_items, rows):
            raise UsageError(
                f"no response of {operation.id} has {source}",
                mend=nearest(source, [row for row in rows if row]),
            )
        return
    names = {token for row in rows for token in split_pointer(row)}
    for name in re.findall(
        r"[.@]\.?([A-Za-z_][A-Za-z0-9_]*)(?!\w*\()", re.sub(r"'[^']*'|\"[^\"]*\"", "''", source)
    ):
        if name not in names:
            raise UsageError(f"no response of {operation.id} has {quoted(name)}", mend=nearest(name, names))


def _declared_places(contract: Contract, operation: Operation) -> Iterator[str]:
    """Every place of the declared answers of success; nothing where one leaves open what it has."""
    found: list[str] = []
    for answer in operation.answers:
        for media in answer.media if answer.outcome.succeeded else ():
            outline = [row.path for row in contract.schema(media.schema).outline()] if media.schema else []
            if len(outline) < 2 or any("NAME" in split_pointer(path) for path in outline):
                return
            found += outline
    yield from found
