"""Parameters as commands see them: where each is written, what uses it, and values given for one run."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass, field
from typing import Any

from juxtalogos.documents.jsontext import NotJson, parse_json
from juxtalogos.model.contract import Operation
from juxtalogos.model.errors import UsageError, nearest, quoted
from juxtalogos.suite.document.reader import read_suites, suite_name, suite_paths
from juxtalogos.suite.inputs import resolve_address
from juxtalogos.suite.language.formulas import FormulaContext, settled
from juxtalogos.suite.model import Suite
from juxtalogos.suite.parameters import SharedParameter, fitting
from juxtalogos.workspace.secrets import SECRET_LIKE
from juxtalogos.workspace.workspace import Workspace

_NAMED = re.compile(r"\$inputs\.([A-Za-z0-9_\-]+)")
_USED = re.compile(r"\$?inputs\.([A-Za-z0-9_\-]+)")


@dataclass(slots=True)
class WrittenParameter:
    """A parameter in one place; one that steps use, and that no place has, stands in none."""

    name: str
    parameter: SharedParameter
    target: str = ""
    suite: str = ""
    uses: list[str] = field(default_factory=list)
    """The cases that use it, as SUITE#CASE."""

    @property
    def hidden(self) -> bool:
        """Whether its value looks like a secret that somebody wrote into a file."""
        return isinstance(self.parameter.value, str) and bool(SECRET_LIKE.search(self.name))

    @property
    def scope(self) -> str:
        """What it applies to, for a person."""
        if not self.parameter.has_value and not self.parameter.kind:
            return "nothing gives it"
        return (
            f"target {self.target}" if self.target else f"suite {self.suite}" if self.suite else "everything"
        )


def written_parameters(home: Workspace, suites: Iterable[Suite]) -> list[WrittenParameter]:
    """Every parameter of a workspace, those that steps use and nothing gives last."""
    suites = list(suites)
    found = [
        WrittenParameter(name, SharedParameter.of(value)) for name, value in home.config.variables.items()
    ]
    for target in home.config.targets.values():
        own = home.config.own_variables.get(target.name, {})
        found += [
            WrittenParameter(name, SharedParameter.of(value), target=target.name)
            for name, value in own.items()
        ]
    for suite in suites:
        found += [
            WrittenParameter(name, SharedParameter.of(value), suite=suite.name)
            for name, value in suite.variables.items()
        ]
    uses: dict[str, dict[str, None]] = {}
    for suite in suites:
        for case, names in used_in(suite):
            for name in names:
                uses.setdefault(name, {})[f"{suite.name}#{case}"] = None
    for one in found:
        one.uses = [place for place in uses.get(one.name, ()) if one.suite in ("", place.partition("#")[0])]
    given = {one.name for one in found}
    found.sort(key=lambda one: one.name)
    return found + [
        WrittenParameter(name, SharedParameter(), uses=list(places))
        for name, places in sorted(uses.items())
        if name not in given
    ]


def used_in(suite: Suite) -> Iterator[tuple[str, set[str]]]:
    """(case, names) of the parameters that its steps use, and that it does not give itself: no default,
    formula or column of a table.
    """
    for case in suite.cases:
        if case.table is not None:
            continue  # what its columns are called stands in another file
        own = {*case.inputs, *case.formulas}
        names = {
            name
            for step in case.written
            for _, text in step.flows
            for name in _USED.findall(text)
            if name not in own
        }
        if names:
            yield case.id, names


def given_values(
    home: Workspace, suites: Iterable[Suite], settings: Iterable[str]
) -> Iterator[tuple[str, Any]]:
    """(name, value) of `NAME=VALUE` texts, by the declared types. UsageError for a name that no case and no
    parameter has, or a value of another type.
    """
    settings = list(settings)
    if not settings:
        return
    kinds = {one.name: one.parameter.kind for one in written_parameters(home, suites) if one.parameter.kind}
    known = set(kinds) | set(home.config.variables)
    known |= {name for target in home.config.targets.values() for name in target.variables}
    for suite in suites:
        known |= set(_USED.findall(suite.document.text.decode("utf-8", "replace"))) | set(suite.variables)
        known |= {name for case in suite.cases for name in (*case.inputs, *case.formulas, *case.kinds)}
    for text in settings:
        name, equals, value = text.partition("=")
        if not equals or not name:
            raise UsageError(f"{quoted(text)} has no '='", mend="write --set NAME=VALUE")
        if name not in known:
            raise UsageError(
                f"no case has an input {quoted(name)}", mend=nearest(name, known) or "they have no inputs"
            )
        yield name, fitting(name, value, kinds[name]) if name in kinds else _plain(value)


def known_values(home: Workspace, target: Mapping[str, Any], saved_in: str) -> dict[str, Any]:
    """The parameters of a call: those of its target, over those of the suite that it is saved in."""
    name = saved_in.partition("#")[0]
    paths = [path for path in suite_paths(home) if suite_name(path, home) == name] if name else []
    own = read_suites(home, paths)[0][0].variables if paths else {}
    return {**settled(own, FormulaContext(), name), **target}


def split_named(
    operation: Operation, settings: Iterable[str], values: Mapping[str, Any]
) -> tuple[list[str], dict[str, str]]:
    """(settings with values of their own, names of parameters by address): `ADDRESS=$inputs.NAME` takes what
    the parameter has. UsageError where it has nothing.
    """
    plain: list[str] = []
    named: dict[str, str] = {}
    for setting in settings:
        address, _, text = setting.partition("=")
        found = _NAMED.fullmatch(text)
        if found is None:
            plain.append(f"{address}={text[1:]}" if text.startswith("$$inputs.") else setting)
            continue
        if found[1] not in values:
            mend = nearest(found[1], values) or f"juxtalogos parameters set {found[1]}=VALUE"
            raise UsageError(f"the parameter {quoted(found[1])} has no value here", mend=mend)
        named[resolve_address(operation, address.strip())] = found[1]
    return plain, named


def _plain(text: str) -> Any:
    try:
        return parse_json(text)
    except NotJson:
        return text
