"""`parameters`: named values that a person sets once for many steps."""

from __future__ import annotations

import argparse

from juxtalogos.cli.shared.confirming import confirmed
from juxtalogos.cli.shared.layout import counted
from juxtalogos.cli.shared.options import EXIT_HELD, Arguments, add_common, terminal, workspace
from juxtalogos.cli.shared.parameters import WrittenParameter, written_parameters
from juxtalogos.cli.shared.terminal import Terminal
from juxtalogos.documents.jsontext import dump_json
from juxtalogos.exchange.redact import MASK
from juxtalogos.model.errors import UsageError, nearest, quoted
from juxtalogos.model.schema import ABSENT
from juxtalogos.suite.document.editor import editing
from juxtalogos.suite.document.history import noted
from juxtalogos.suite.document.reader import find_suite, read_suites, suite_paths
from juxtalogos.suite.document.setting import read_back
from juxtalogos.suite.language.formulas import BadFormula, parse_formula
from juxtalogos.suite.parameters import KINDS, SharedParameter, fitting, is_of
from juxtalogos.workspace.secrets import SECRET_LIKE
from juxtalogos.workspace.workspace import Workspace

DESCRIPTION = """\
List, set and remove parameters: named values that steps take as $inputs.NAME. A parameter holds
everywhere, at one target (--target), or in one suite (--suite); a value of a target stands over one of
everything, and that over one of a suite. `run --set NAME=VALUE` gives a value for one run.

`juxtalogos suite set SUITE#CASE#STEP ADDRESS=$inputs.NAME` puts a parameter in place of a value; if the
parameter is new, the value becomes that of the parameter in this suite."""
EXAMPLE = """\
  juxtalogos parameters
  juxtalogos parameters set agent='Merrow Agency' visit==format(today()+days(3),'YYYY-MM-DD')
  juxtalogos parameters set berth=B4 --target acceptance
  juxtalogos parameters set lines --type integer --suite visit
  juxtalogos parameters remove berth --target acceptance
"""
_LONGEST = 34
"""Characters of a value that are shown; `-v` shows all."""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "action", nargs="?", choices=("list", "set", "remove"), default="list", help="what to do"
    )
    parser.add_argument(
        "settings",
        nargs="*",
        metavar="NAME[=VALUE]",
        help="set: a value by its type, or as JSON; NAME==FORMULA computes it; remove: the name",
    )
    parser.add_argument("--type", default="", choices=KINDS, help="set: the type that its value must have")
    where = parser.add_mutually_exclusive_group()
    where.add_argument("--target", default="", metavar="NAME", help="at this target only")
    where.add_argument("--suite", default="", metavar="SUITE", help="in this suite only")
    parser.add_argument(
        "--anyway", action="store_true", help="remove: also where steps are left without a value"
    )
    add_common(parser)


class _ParameterArguments(Arguments):
    action: str
    settings: list[str]
    type: str
    target: str
    suite: str
    anyway: bool


def run(args: _ParameterArguments) -> int:
    home, out = workspace(args), terminal(args)
    for action, name in (("set", "type"), ("remove", "anyway")):
        if getattr(args, name) and args.action != action:
            raise UsageError(
                f"--{name} is for `parameters {action}`", mend=f"juxtalogos parameters {action} NAME"
            )
    if args.action == "list":
        if args.settings:
            raise UsageError(
                f"{quoted(args.settings[0])} is no option of a list",
                mend="juxtalogos parameters set NAME=VALUE",
            )
        return _list(args, home, out)
    if not args.settings:
        raise UsageError("name a parameter", mend=f"juxtalogos parameters {args.action} NAME")
    if args.target:
        home.config.target(args.target)
    if args.action == "remove":
        return _remove(args, home, out)
    changes = [_change(home, args, text) for text in args.settings]
    _write(args, home, dict(changes))
    for name, one in changes:
        told = one.told if one.formula else f"= {one.told}"
        if not one.has_value:
            told = f"has no value yet, and is of type {one.kind}"
        out.line("set: ", (name, "name"), f" {told}", (f"   {_where(args)}", "note"))
    return EXIT_HELD


def _list(args: _ParameterArguments, home: Workspace, out: Terminal) -> int:
    found = written_parameters(home, read_suites(home, suite_paths(home))[0])
    if args.target:
        found = [one for one in found if one.target in ("", args.target) and not one.suite]
    if args.suite:
        found = [one for one in found if one.suite in ("", args.suite)]
    if args.json:
        data = [
            {
                "name": one.name,
                "type": one.parameter.type or None,
                "value": _value(one),
                "formula": one.parameter.formula or None,
                "target": one.target or None,
                "suite": one.suite or None,
                "given": one.parameter.has_value,
                "uses": one.uses,
            }
            for one in found
        ]
        out.json({"version": 1, "parameters": data})
        return EXIT_HELD
    if not found:
        out.note(("no parameters yet: juxtalogos parameters set NAME=VALUE", "note"))
        return EXIT_HELD
    rows = [
        (
            one.name,
            one.parameter.type,
            _shown(out, one),
            one.scope,
            counted(len(one.uses), "case") if one.uses else "",
        )
        for one in found
    ]
    out.table(("parameter", "type", "value", "applies to", "used by"), rows, styles=("name",))
    return EXIT_HELD


def _value(one: WrittenParameter) -> object:
    if one.hidden:
        return MASK
    return None if one.parameter.value is ABSENT else one.parameter.value


def _shown(out: Terminal, one: WrittenParameter) -> str:
    told = MASK if one.hidden else one.parameter.told if one.parameter.has_value else "no value"
    return told if out.verbose or len(told) <= _LONGEST else f"{told[:_LONGEST]}…"


def _where(args: _ParameterArguments) -> str:
    if args.target:
        return f"at the target {args.target}"
    return f"in the suite {args.suite}" if args.suite else "everywhere"


def _change(home: Workspace, args: _ParameterArguments, text: str) -> tuple[str, SharedParameter]:
    """(name, what it is from now on) of `NAME`, `NAME=VALUE` or `NAME==FORMULA`."""
    name, equals, value = text.partition("=")
    if not name or not name.replace("-", "").replace("_", "").isalnum():
        raise UsageError(f"{quoted(name)} is no name of a parameter", mend="use letters, digits, - and _")
    before = _there(home, args).get(name)
    kind = args.type or (SharedParameter.of(before).kind if before is not None else "")
    if not equals:
        if not kind:
            raise UsageError(f"{name} has neither a value nor a type", mend=f"{name}=VALUE, or --type string")
        kept = SharedParameter.of(before) if before is not None else SharedParameter()
        if kept.value is not ABSENT and not is_of(kept.value, kind):
            raise UsageError(
                f"the value of {name} is not of type {kind}", mend=f"give one: {name}=VALUE --type {kind}"
            )
        return name, SharedParameter(kind, kept.value, kept.formula)
    if value.startswith("="):
        try:
            parse_formula(value[1:])
        except BadFormula as error:
            raise UsageError(
                f"{quoted(value[1:])} is no formula: {error}", mend="see docs/suites.md"
            ) from None
        return name, SharedParameter(kind, formula=value[1:].strip())
    if SECRET_LIKE.search(name):
        raise UsageError(
            f"{name} looks like a secret, and a secret itself is never kept",
            mend=f"give it for each run: juxtalogos run --set {name}=env:NAME",
        )
    made = SharedParameter(kind, fitting(name, value, kind))
    if not args.suite and "null" in dump_json(made.value) and _has_null(made.value):
        raise UsageError(
            f"{name} has null in it, which juxtalogos.toml cannot hold",
            mend="set it in a suite: --suite SUITE",
        )
    return name, made


def _has_null(value: object) -> bool:
    if isinstance(value, dict | list):
        return any(map(_has_null, value.values() if isinstance(value, dict) else value))
    return value is None


def _there(home: Workspace, args: _ParameterArguments) -> dict[str, object]:
    """What is written in the place that is meant."""
    if args.suite:
        return dict(read_suites(home, [find_suite(home, args.suite)])[0][0].variables)
    if args.target:
        return dict(home.config.own_variables.get(args.target, {}))
    return dict(home.config.variables)


def _write(args: _ParameterArguments, home: Workspace, changes: dict[str, SharedParameter | None]) -> None:
    """Writes parameters, None for one that goes, where they are meant to be."""
    written = {name: ABSENT if one is None else one.written() for name, one in changes.items()}
    if not args.suite:
        home.set_variables(args.target, written)
        return
    path = find_suite(home, args.suite)
    told = f"parameters {args.action} {' '.join(args.settings)}"
    with noted(home, told), read_back(home, path), editing(path) as document:
        held = document.setdefault("x-juxtalogos-variables", {})
        for name, one in written.items():
            if one is ABSENT:
                held.pop(name, None)
            else:
                held[name] = one
        if not held:
            del document["x-juxtalogos-variables"]


def _remove(args: _ParameterArguments, home: Workspace, out: Terminal) -> int:
    there = _there(home, args)
    known = written_parameters(home, read_suites(home, suite_paths(home))[0])
    for name in args.settings:
        if name not in there:
            others = [one.scope for one in known if one.name == name and one.scope != "nothing gives it"]
            mend = f"it is set for: {', '.join(others)}" if others else nearest(name, there)
            raise UsageError(f"no parameter {quoted(name)} is set {_where(args)}", mend=mend)
    for name in args.settings:
        own = next(
            one for one in known if (one.name, one.target, one.suite) == (name, args.target, args.suite)
        )
        elsewhere = any(one is not own and one.name == name and one.parameter.has_value for one in known)
        if own.uses and not elsewhere and not args.anyway:
            told = f"{name} is used by {counted(len(own.uses), 'case')} ({', '.join(own.uses[:3])})"
            if not confirmed(f"{told}, which fail without it: remove it?"):
                raise UsageError(
                    f"{told}, and nothing else gives it", mend="--anyway removes it all the same"
                )
    _write(args, home, dict.fromkeys(args.settings))
    for name in args.settings:
        out.line("removed: ", (name, "name"), (f"   {_where(args)}", "note"))
    return EXIT_HELD
