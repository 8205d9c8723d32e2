"""`plans`: stored run plans, and how long cases take."""

from __future__ import annotations

import argparse
import shlex
from dataclasses import fields, replace

from juxtalogos.cli.shared.layout import counted
from juxtalogos.cli.shared.options import EXIT_HELD, Arguments, add_common, terminal, workspace
from juxtalogos.cli.shared.parameters import given_values
from juxtalogos.cli.shared.run_options import add_run_options, numbers_fit, over, stored_plan, typed_plan
from juxtalogos.cli.shared.terminal import Terminal
from juxtalogos.documents.jsontext import dump_json
from juxtalogos.ledger import open_ledger
from juxtalogos.model.errors import UsageError, quoted
from juxtalogos.run.engine.arranging import note_durations
from juxtalogos.run.engine.selecting import Selection, choose, paths_of
from juxtalogos.suite.document.reader import read_suites
from juxtalogos.workspace.plans import StoredPlan
from juxtalogos.workspace.secrets import SECRET_LIKE, reference_in
from juxtalogos.workspace.workspace import Workspace

DESCRIPTION = """\
List, set, copy and remove stored run plans: a selection of cases with the options of a run, kept in
juxtalogos.toml. `juxtalogos run --plan NAME` runs one; options typed there stand over those of the
plan. `set` changes only what is named; `--clear OPTION` takes an option out of a plan.

`durations` writes how long each case took in past runs to durations.json, by which `run --part K/N`
divides cases into parts of about the same length. Keep that file with the suites: every machine must
divide by the same numbers."""
EXAMPLE = """\
  juxtalogos plans set nightly visit fleet --target acceptance --jobs 8 --stop-at-first
  juxtalogos plans set nightly --set lines=6 --clear jobs
  juxtalogos plans copy nightly weekly
  juxtalogos plans
  juxtalogos plans durations
  juxtalogos run --plan nightly --part 1/3
"""
_OPTIONS = tuple(one.name.replace("_", "-") for one in fields(StoredPlan))


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "action",
        nargs="?",
        choices=("list", "set", "copy", "remove", "durations"),
        default="list",
        help="what to do",
    )
    parser.add_argument("name", nargs="?", default="", metavar="PLAN", help="a plan's name")
    parser.add_argument(
        "what",
        nargs="*",
        metavar="SUITE[#CASE[#STEP]]",
        help="set: what it runs (default: every suite); copy: the name of the copy",
    )
    parser.add_argument("--target", metavar="NAME", help="a target of juxtalogos.toml")
    parser.add_argument("--role", default="", metavar="ROLE", help="use the credentials of this role")
    add_run_options(parser)
    parser.add_argument(
        "--clear",
        action="append",
        default=[],
        metavar="OPTION",
        choices=_OPTIONS,
        help=f"set: an option that the plan leaves to the command: {', '.join(_OPTIONS)}",
    )
    add_common(parser)


class _PlanArguments(Arguments):
    action: str
    name: str
    what: list[str]
    settings: list[str]
    clear: list[str]


def run(args: _PlanArguments) -> int:
    home, out = workspace(args), terminal(args)
    typed = typed_plan(args)
    if args.action != "set" and (typed != StoredPlan(what=tuple(args.what)) or args.settings or args.clear):
        raise UsageError(
            "options of a run are for `plans set`", mend=f"juxtalogos plans set {args.name or 'PLAN'} ..."
        )
    if args.action == "durations":
        return _durations(args, home, out)
    if args.action == "list":
        return _list(args, home, out)
    if not args.name:
        raise UsageError("name a plan", mend=f"juxtalogos plans {args.action} PLAN")
    if args.action == "set":
        return _set(args, home, out, typed)
    if args.action == "copy":
        return _copy(args, home, out)
    if args.what:
        raise UsageError("`remove` takes one plan", mend=f"juxtalogos plans remove {args.name}")
    stored_plan(home, args.name)
    home.set_plan(args.name, None)
    out.line("removed: ", (args.name, "name"))
    return EXIT_HELD


def _named(name: str) -> str:
    if not name.replace("-", "").replace("_", "").isalnum():
        raise UsageError(f"{quoted(name)} is no name of a plan", mend="use letters, digits, - and _")
    return name


def _set(args: _PlanArguments, home: Workspace, out: Terminal, typed: StoredPlan) -> int:
    """Everything is looked up before it is written: a plan that cannot run is refused."""
    numbers_fit(typed)
    plan = over(typed, home.config.plans.get(_named(args.name), StoredPlan()))
    blank = StoredPlan()
    plan = replace(
        plan, **{one.replace("-", "_"): getattr(blank, one.replace("-", "_")) for one in args.clear}
    )
    selection = Selection(plan.what, plan.tag, plan.operation)
    suites = read_suites(home, paths_of(home, selection))[0]
    refs = choose(home, suites, selection)
    if plan.target:
        home.config.target(plan.target).role(plan.role)
    inputs = dict(given_values(home, suites, args.settings))
    for name, value in inputs.items():
        if SECRET_LIKE.search(name) and reference_in(str(value)) != value:
            what = f"{name} looks like a secret, and a secret itself is never kept"
            raise UsageError(what, mend=f"write {name}=env:NAME")
    plan = replace(plan, inputs={**plan.inputs, **inputs})
    home.set_plan(args.name, plan)
    out.line("written: ", (args.name, "name"), f"   {counted(len(refs), 'case')}: {_told(plan)}")
    out.note((f"next: juxtalogos run --plan {args.name}", "note"))
    return EXIT_HELD


def _copy(args: _PlanArguments, home: Workspace, out: Terminal) -> int:
    if len(args.what) != 1:
        raise UsageError("name the copy", mend=f"juxtalogos plans copy {args.name} NAME")
    new = _named(args.what[0])
    plan = stored_plan(home, args.name)
    if new in home.config.plans:
        raise UsageError(f"there is a plan {quoted(new)} already", mend="choose another name, or remove it")
    home.set_plan(new, plan)
    out.line("written: ", (new, "name"), f"   {_told(plan)}")
    return EXIT_HELD


def _list(args: _PlanArguments, home: Workspace, out: Terminal) -> int:
    plans = home.config.plans
    if args.what:
        raise UsageError("`list` takes one plan", mend=f"juxtalogos plans list {args.name}")
    if args.name:
        plans = {args.name: stored_plan(home, args.name)}
    if args.json:
        out.json({"version": 1, "plans": [{"name": name, **one.written()} for name, one in plans.items()]})
    elif not plans:
        out.note(("no plans yet: juxtalogos plans set NAME SUITE ...", "note"))
    else:
        out.table(("plan", "runs"), [(name, _told(one)) for name, one in plans.items()], styles=("name",))
    return EXIT_HELD


def _told(plan: StoredPlan) -> str:
    """As it would be typed behind `juxtalogos run`."""
    words = list(plan.what) or ["(every suite)"]
    for name, value in plan.written().items():
        if name in ("what", "inputs"):
            continue
        for one in value if isinstance(value, list) else [value]:
            words += [f"--{name}"] if one is True else [f"--{name}", shlex.quote(str(one))]
    for name, value in plan.inputs.items():
        text = value if isinstance(value, str) else dump_json(value)
        words += ["--set", shlex.quote(f"{name}={text}")]
    return " ".join(words)


def _durations(args: _PlanArguments, home: Workspace, out: Terminal) -> int:
    if args.name or args.what:
        raise UsageError("`durations` takes no name", mend="juxtalogos plans durations")
    with open_ledger(home.ledger_path) as ledger:
        path, count = note_durations(home.root, ledger)
    if not count:
        raise UsageError("no case ran yet", mend="run them first: juxtalogos run")
    out.line("written: ", (path.relative_to(home.root), "name"), f"   {counted(count, 'case')}")
    return EXIT_HELD
