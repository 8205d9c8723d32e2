"""Reading a suite document: faults told with file, line, a caret under the place, and a remedy; expressions
and criteria.
"""

from __future__ import annotations

from collections.abc import Collection, Mapping
from typing import Any, NoReturn

from juxtalogos.documents.positions import lines, position
from juxtalogos.model.document import Document
from juxtalogos.model.errors import SuiteError, nearest, quoted
from juxtalogos.model.location import Location
from juxtalogos.schema.patterns import PatternError, compile_pattern
from juxtalogos.suite.language.conditions import BadCondition, parse_condition, reads
from juxtalogos.suite.language.expressions import BadExpression, Expression, expressions_in, parse_expression
from juxtalogos.suite.language.formulas import BadFormula, Formula, parse_formula, reads_of
from juxtalogos.suite.language.selectors import (
    JSONPATH_VERSIONS,
    VERSIONS,
    BadSelector,
    check_xpath,
    json_path,
    prefixes_in,
)
from juxtalogos.suite.model import Criterion

_TYPES = ("simple", "regex", "jsonpath", "xpath")
_EXCERPT = 110


class NodeReader:
    """What every part of a suite is read with."""

    def __init__(self, document: Document) -> None:
        self.document = document
        self.namespaces: dict[str, str] = {}

    def fail(self, what: str, at: Location, mend: str = "", offset: int = 0) -> NoReturn:
        """SuiteError; `offset` counts characters into a text that is the value at a place."""
        place = position(self.document, at.pointer)
        text = lines(self.document)[place.line - 1] if self.document.text.strip() else ""
        column = place.column - 1 + offset
        start = max(0, column - _EXCERPT // 2)
        excerpt = f"\n    {text[start : start + _EXCERPT]}\n    {' ' * (column - start)}^"
        raise SuiteError(what + excerpt, where=f"{self.document.uri}:{place.line}:{place.column}", mend=mend)

    def mapping(self, value: Any, at: Location, what: str) -> dict[str, Any]:
        """The value, known to be a mapping; else SuiteError."""
        if not isinstance(value, dict):
            self.fail(f"{what} is no mapping", at, "see the Arazzo standard, version 1.0.1")
        return value

    def listing(self, holder: dict[str, Any], key: str, at: Location, *, needed: bool = False) -> list[Any]:
        """A list by its key; SuiteError when it is none, or needed and not there."""
        value = holder.get(key, [])
        if not isinstance(value, list) or (needed and not value):
            what = f"`{key}` must be a list{' of one or more' if needed else ''}"
            self.fail(what, at.child(key) if key in holder else at, f"add `{key}`")
        return value

    def text(self, holder: dict[str, Any], key: str, at: Location) -> str:
        """A text by its key; SuiteError when it is none."""
        value = holder.get(key)
        if not isinstance(value, str) or not value:
            self.fail(f"`{key}` must be a text", at.child(key) if key in holder else at, f"add `{key}`")
        return value

    def keys(self, value: dict[str, Any], known: Collection[str], at: Location) -> None:
        """SuiteError at the first key that is not known."""
        for key in value:
            if key not in known and not key.startswith("x-"):
                self.fail(f"unknown key {quoted(key)}", at.child(key), nearest(key, known))
            if key.startswith("x-juxtalogos-") and key not in known:
                self.fail(
                    f"unknown extension {quoted(key)}",
                    at.child(key),
                    nearest(key, [entry for entry in known if entry.startswith("x-")]),
                )

    def caret(self, at: Location, text: str, offset: int) -> int:
        """Where in the line a character of a value stands: behind its key, and a quote before it."""
        line = lines(self.document)[position(self.document, at.pointer).line - 1]
        begins = line.find(text, position(self.document, at.pointer).column - 1)
        return begins + offset - (position(self.document, at.pointer).column - 1) if begins >= 0 else 0

    def expression(self, text: Any, at: Location, known: KnownNames) -> Expression:
        """A runtime expression whose names lead somewhere; else SuiteError."""
        try:
            found = parse_expression(str(text))
        except BadExpression as error:
            self.fail(str(error), at, "see docs/suites.md for the expressions")
        self.reads([found], at, known)
        return found

    def reads(self, expressions: list[Expression], at: Location, known: KnownNames) -> None:
        """What expressions read comes before, and is there."""
        for found in expressions:
            if found.form == "steps":
                step, output = found.parts[0], found.parts[1]
                if step not in known.steps:
                    self.fail(
                        f"{quoted(found.text)} reads from a step that does not come before",
                        at,
                        nearest(step, known.steps),
                    )
                outputs = known.steps[step]
                if outputs is not None and output not in outputs and output.partition(".")[0] not in outputs:
                    self.fail(
                        f"the step {step} has no output {quoted(output)}",
                        at,
                        nearest(output, outputs) or f"add it to the outputs of {step}",
                    )
            elif found.form == "source" and found.parts[0] not in known.sources:
                self.fail(
                    f"there is no source {quoted(found.parts[0])}", at, nearest(found.parts[0], known.sources)
                )

    def expressions(self, value: Any, at: Location, known: KnownNames) -> None:
        """SuiteError when an expression within a value leads nowhere."""
        for text in expressions_in(value):
            self.expression(text, at, known)

    def formula(self, text: Any, at: Location, known: KnownNames) -> Formula:
        """A formula; SuiteError when it is none."""
        try:
            found = parse_formula(str(text))
        except BadFormula as error:
            self.fail(str(error), at, "see docs/suites.md for formulas", self.caret(at, str(text), error.at))
        self.reads(reads_of(found), at, known)
        return found

    def criterion(self, value: Any, at: Location, known: KnownNames) -> Criterion:
        """A criterion; SuiteError when it is none."""
        criterion = self.mapping(value, at, "a criterion")
        self.keys(criterion, ("context", "condition", "type", "x-juxtalogos-presumed"), at)
        condition = self.text(criterion, "condition", at)
        kind, version = self.criterion_type(criterion.get("type", "simple"), at.child("type"))
        context = criterion.get("context", "")
        place = at.child("condition")
        if kind != "simple":
            if not context:
                self.fail("a criterion with a `type` needs a `context`", at, "add one such as $response.body")
            self.expression(context, at.child("context"), known)
        try:
            if kind == "simple":
                self.reads(reads(parse_condition(condition)), place, known)
            elif kind == "regex":
                compile_pattern(condition)
            elif kind == "jsonpath":
                json_path(condition)
            else:
                check_xpath(condition, version, {**prefixes_in(condition), **self.namespaces})
        except BadCondition as error:
            self.fail(
                str(error), place, "correct the condition there", self.caret(place, condition, error.at)
            )
        except PatternError as error:
            self.fail(f"{quoted(condition)} is no regular expression: {error}", place, "correct the pattern")
        except BadSelector as error:
            self.fail(str(error), place, "correct it there")
        return Criterion(
            condition, at, str(context), kind, version, criterion.get("x-juxtalogos-presumed") is True
        )

    def criterion_type(self, value: Any, at: Location) -> tuple[str, str]:
        """(type, version): a word, or an object that names the version too."""
        kind, version = value, ""
        if isinstance(value, dict):
            kind, version = value.get("type"), str(value.get("version", ""))
            known = JSONPATH_VERSIONS if kind == "jsonpath" else tuple(VERSIONS)
            if kind not in ("jsonpath", "xpath") or version not in known:
                self.fail(
                    f"unknown expression type {quoted(kind)} with version {quoted(version)}",
                    at,
                    "known: jsonpath " + ", ".join(JSONPATH_VERSIONS) + "; xpath " + ", ".join(VERSIONS),
                )
        if kind not in _TYPES:
            self.fail(f"unknown criterion type {quoted(kind)}", at, nearest(str(kind), _TYPES))
        return str(kind), version


class KnownNames:
    """What an expression may read at some place: steps that came before with their outputs, sources."""

    def __init__(self, sources: Collection[str], steps: Mapping[str, Collection[str] | None]) -> None:
        self.sources = sources
        self.steps = steps
        """By id the names of its outputs; None where these are not known."""
