"""The words that may stand where the cursor is. Only the standard library is loaded, and what was indexed
before: a shell asks at every press of a key.
"""

from __future__ import annotations

import os
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass, field
from typing import Any

from juxtalogos.cli.completing.known import Known

MOST = 2_000
"""Words that are offered at once."""


@dataclass(slots=True)
class Typed:
    """A command line up to the cursor."""

    grammar: dict[str, Any]
    """Commands with their options and verbs (see `grammar.py`)."""
    words: list[str]
    """After the program's name, without the last one."""
    current: str
    """The word that is being typed."""
    command: str = ""
    verb: str = ""
    options: dict[str, Any] = field(default_factory=dict)
    positionals: list[dict[str, Any]] = field(default_factory=list)
    given: list[str] = field(default_factory=list)
    """Positional words so far."""
    values: dict[str, str] = field(default_factory=dict)
    """What options were given, by their destination."""
    waiting: dict[str, Any] | None = None
    """The option whose value is being typed."""

    def __post_init__(self) -> None:
        for word in self.words:
            if self.waiting is not None:
                self.values[self.waiting["dest"]] = word
                self.waiting = None
            elif word.startswith("-") and word != "-":
                name, equals, value = word.partition("=")
                option = self.options.get(name)
                if option is not None and option["takes"]:
                    if equals:
                        self.values[option["dest"]] = value
                    else:
                        self.waiting = option
            elif not self.command:
                self._enter(word)
            elif self.verbs and not self.verb:
                self.verb = word
                self._take(self.verbs.get(word, {}))
            else:
                self.given.append(word)

    @property
    def verbs(self) -> dict[str, Any]:
        """The verbs of the command, where it has some."""
        found: dict[str, Any] = self.grammar["commands"].get(self.command, {}).get("verbs", {})
        return found

    def _enter(self, word: str) -> None:
        self.command = word
        self._take(self.grammar["commands"].get(word, {}))

    def _take(self, parser: dict[str, Any]) -> None:
        self.options = {name: one for one in parser.get("options", ()) for name in one["names"]}
        self.positionals = parser.get("positionals", [])


def candidates(grammar: dict[str, Any], known: Known, words: list[str], current: str) -> list[str]:
    """What may stand for the current word, complete words; one that something else must follow ends in `=`,
    `#` or `/`.
    """
    typed = Typed(grammar, words, current)
    found = dict.fromkeys(_found(typed, known))
    # Names come out of definitions and suites: one with control characters is not for a terminal.
    return [one for one in found if one.startswith(current) and one.isprintable()][:MOST]


def _found(typed: Typed, known: Known) -> Iterable[str]:
    if typed.waiting is not None:
        return _values(typed, known, typed.waiting)
    if not typed.command:
        return list(typed.grammar["commands"])
    name, equals, _ = typed.current.partition("=")
    if equals and name in typed.options:
        return (f"{name}={one}" for one in _values(typed, known, typed.options[name]))
    if typed.current.startswith("-"):
        return typed.options
    if typed.verbs and not typed.verb:
        return typed.verbs
    if not typed.positionals:
        return ()
    return _values(typed, known, typed.positionals[min(len(typed.given), len(typed.positionals) - 1)])


def _values(typed: Typed, known: Known, argument: dict[str, Any]) -> Iterable[str]:
    """What an option, or a positional word, may be given."""
    if argument["choices"]:
        return list(argument["choices"])
    form, dest = argument["form"], argument["dest"]
    for forms, give in _GIVEN:
        if form in forms or dest in forms:
            return give(typed, known)
    return ()


def _operations(typed: Typed, known: Known) -> Iterator[str]:
    names = list(known.contracts())
    prefix = typed.current.partition(":")[0] if ":" in typed.current else ""
    for name in names:
        for one in known.operations(name):
            yield f"{name}:{one}" if prefix else one


def _contracts_and_operations(typed: Typed, known: Known) -> Iterator[str]:
    yield from known.contracts()
    yield from _operations(typed, known)


def _addresses(typed: Typed, known: Known) -> Iterator[str]:
    """`ADDRESS=`, and behind it the values that are allowed."""
    operation = _operation(typed, known)
    address, equals, _ = typed.current.partition("=")
    for name, allowed in known.inputs(operation):
        if not equals:
            yield f"{name}="
        elif name == address:
            yield from (f"{name}={one}" for one in allowed)


def _bare_addresses(typed: Typed, known: Known) -> Iterator[str]:
    yield from (name for name, _ in known.inputs(_operation(typed, known)))


def _operation(typed: Typed, known: Known) -> str:
    """The operation that a command line is about: named itself, or that of a step."""
    for word in typed.given:
        found = known.operation_of_step(word) if "#" in word else word
        if found and known.inputs(found):
            return found
    return typed.given[0] if typed.given else ""


def _places(typed: Typed, known: Known) -> Iterator[str]:
    """Suites, behind `#` their cases, behind that their steps."""
    suite, mark, rest = typed.current.partition("#")
    if not mark:
        yield from known.folders()
        for name in known.suites():
            yield name
            yield f"{name}#"
        return
    case, second, _ = rest.partition("#")
    for name, steps in known.cases(suite):
        if not second:
            yield f"{suite}#{name}"
        elif name == case:
            yield from (f"{suite}#{name}#{step}" for step in steps)


def _steps_of_case(typed: Typed, known: Known) -> Iterator[str]:
    suite, _, rest = (typed.given[0] if typed.given else "").partition("#")
    case = rest.partition("#")[0]
    for name, steps in known.cases(suite):
        if name == case:
            yield from steps


def _named_inputs(typed: Typed, known: Known) -> Iterator[str]:
    yield from (f"{name}=" for name in known.parameters())


def _first_name(typed: Typed, known: Known) -> Iterator[str]:
    """The `name` of commands whose first word is what to do."""
    by_command: dict[str, Callable[[], Iterable[str]]] = {
        "targets": known.targets,
        "plans": known.plans,
        "contracts": known.contracts,
    }
    yield from by_command.get(typed.command, tuple)()


def _roles(typed: Typed, known: Known) -> Iterator[str]:
    yield from known.roles(typed.values.get("target", ""))


def _files(typed: Typed, known: Known) -> Iterator[str]:
    """Paths below the folder that is typed."""
    folder, _, start = typed.current.rpartition("/")
    above = f"{folder}/" if "/" in typed.current else ""
    try:
        entries = sorted(os.scandir(above or "."), key=lambda one: one.name)
    except OSError:
        return
    for one in entries:
        if one.name.startswith(start) and (start.startswith(".") or not one.name.startswith(".")):
            yield f"{above}{one.name}{'/' if one.is_dir() else ''}"


def _cases_and_operations(typed: Typed, known: Known) -> Iterator[str]:
    yield from _places(typed, known)
    yield from _operations(typed, known)


_GIVEN: tuple[tuple[tuple[str, ...], Callable[[Typed, Known], Iterable[str]]], ...] = (
    (("SUITE#CASE#STEP", "SUITE#CASE", "SUITE#CASE[#STEP]", "SUITE[#CASE[#STEP]]", "TO"), _places),
    (("SUITE", "suite"), lambda typed, known: known.suites()),
    (("CONTRACT or OPERATION",), _contracts_and_operations),
    (("SUITE#CASE, OPERATION or FINDING",), _cases_and_operations),
    (("CONTRACT", "contract"), lambda typed, known: known.contracts()),
    (("OPERATION", "operation", "sign_in"), _operations),
    (("ADDRESS=VALUE", "ADDRESS=@OPERATION#/path"), _addresses),
    (("ADDRESS",), _bare_addresses),
    (("NAME=VALUE", "NAME[=VALUE]"), _named_inputs),
    (("STEP",), _steps_of_case),
    (("ROLE",), _roles),
    (("TAG",), lambda typed, known: known.tags()),
    (("TARGET", "target"), lambda typed, known: known.targets()),
    (("plan",), lambda typed, known: known.plans()),
    (("PLAN", "name"), _first_name),
    (("FILE", "DIR", "SOURCE", "folder"), _files),
)
