"""`suite copy`, `rename`, `move`, `remove`, `tag`, `disable`, `enable` and `undo`: where things stand."""

from __future__ import annotations

import argparse
from datetime import datetime
from pathlib import Path

from juxtalogos.cli.shared.confirming import confirmed
from juxtalogos.cli.shared.options import EXIT_HELD, terminal, workspace
from juxtalogos.cli.suite.verbs import SuiteArguments, Verb, add_place, case_place
from juxtalogos.model.errors import UsageError
from juxtalogos.suite.document.history import changes, take_back
from juxtalogos.suite.document.managing import SuitePlace, copy_place, place_of, remove, rename, tag, users
from juxtalogos.suite.document.setting import step_at
from juxtalogos.suite.document.stepping import move_step, set_disabled
from juxtalogos.workspace.workspace import Workspace, find_workspace

_ANY = "SUITE[#CASE[#STEP]]"


class _MoveArguments(SuiteArguments):
    to: str
    into: Path | None
    before: str
    after: str
    anyway: bool


class _RemoveArguments(SuiteArguments):
    anyway: bool


class _TagArguments(SuiteArguments):
    tags: list[str]
    describe: str


class _UndoArguments(SuiteArguments):
    list: bool


def _named(home: Workspace, place: SuitePlace) -> SuitePlace:
    """The place with the name of its step, where it was given by number."""
    return SuitePlace(place.suite, place.case, step_at(home, place).step.id) if place.step else place


def _add_anyway(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "--anyway", action="store_true", help="do it even if something refers to it and must be corrected"
    )


def _check_users(home: Workspace, place: SuitePlace, verb: str, *, anyway: bool) -> list[str]:
    """What refers to a place. A person is asked, or UsageError, where it could not be run any more."""
    needed = users(home, place)
    if needed and not anyway:
        told = "; ".join(needed[:5])
        if not confirmed(f"{place} is needed by {told}, which must be corrected then: {verb} it?"):
            raise UsageError(
                f"{place} is needed by {told}",
                mend=f"correct that first, or juxtalogos suite {verb} {place} --anyway",
            )
    return needed


def _remove_arguments(parser: argparse.ArgumentParser) -> None:
    add_place(parser, _ANY)
    _add_anyway(parser)


def _remove(args: _RemoveArguments) -> int:
    home, out = workspace(args), terminal(args)
    place = _named(home, place_of(args.place))
    needed = _check_users(home, place, "remove", anyway=args.anyway)
    remove(home, place)
    out.line("removed: ", (str(place), "name"), ("   to take it back: juxtalogos suite undo", "note"))
    for text in needed:
        out.line((f"must be corrected: {text}", "remark"), indent=2)
    return EXIT_HELD


def _copy_arguments(parser: argparse.ArgumentParser) -> None:
    add_place(parser, _ANY)
    parser.add_argument("to", metavar="TO", help="the new place")
    parser.add_argument("--into", type=Path, metavar="DIR", help="into this other workspace")


def _copy(args: _MoveArguments) -> int:
    home, out = workspace(args), terminal(args)
    place = _named(home, place_of(args.place))
    path = copy_place(home, place, place_of(args.to), into=find_workspace(args.into) if args.into else None)
    out.line("copied: ", (str(place), "name"), f" to {args.to}   ", (str(path), "note"))
    return EXIT_HELD


def _move_arguments(parser: argparse.ArgumentParser) -> None:
    add_place(parser, _ANY)
    parser.add_argument("to", nargs="?", default="", metavar="TO", help="the new place")
    parser.add_argument("--into", type=Path, metavar="DIR", help="into this other workspace")
    where = parser.add_mutually_exclusive_group()
    where.add_argument("--before", default="", metavar="STEP", help="a step: before this one of its case")
    where.add_argument("--after", default="", metavar="STEP", help="a step: behind this one of its case")
    _add_anyway(parser)


def _move(args: _MoveArguments) -> int:
    home, out = workspace(args), terminal(args)
    place, beside = _named(home, place_of(args.place)), args.before or args.after
    if bool(args.to) is bool(beside):
        raise UsageError(
            "say where to: a place, or --before or --after a step",
            mend=f"juxtalogos suite move {place} TO",
        )
    if beside:
        if not place.step or args.into:
            raise UsageError(
                "--before and --after move a step within its case",
                mend="juxtalogos suite move SUITE#CASE#STEP --before STEP",
            )
        number = move_step(home, place, beside, after=bool(args.after))
        out.line("moved: ", (str(place), "name"), f" is step {number} now")
        return EXIT_HELD
    into = find_workspace(args.into) if args.into else None
    needed = _check_users(home, place, "move", anyway=args.anyway)
    path = copy_place(home, place, place_of(args.to), into=into)
    remove(home, place, last_too=True)
    out.line("moved: ", (str(place), "name"), f" to {args.to}   ", (str(path), "note"))
    for text in needed:
        out.line((f"must be corrected: {text}", "remark"), indent=2)
    return EXIT_HELD


def _rename_arguments(parser: argparse.ArgumentParser) -> None:
    add_place(parser, _ANY)
    parser.add_argument("to", metavar="NAME", help="the new name")


def _rename(args: _MoveArguments) -> int:
    home, out = workspace(args), terminal(args)
    place = _named(home, place_of(args.place))
    path = rename(home, place, args.to)
    out.line("renamed: ", (str(place), "name"), f" is {args.to}   ", (str(path), "note"))
    return EXIT_HELD


def _tag_arguments(parser: argparse.ArgumentParser) -> None:
    add_place(parser, "SUITE#CASE")
    parser.add_argument("tags", nargs="*", metavar="TAG", help="its tags, in place of those before")
    parser.add_argument("--describe", default="", metavar="TEXT", help="the description of the case")


def _tag(args: _TagArguments) -> int:
    place = case_place(args.place, "tag SUITE#CASE TAG")
    tag(workspace(args), place, args.tags, args.describe)
    terminal(args).line("tagged: ", (str(place), "name"), f"  {', '.join(args.tags)}")
    return EXIT_HELD


def _place_arguments(parser: argparse.ArgumentParser) -> None:
    add_place(parser, "SUITE#CASE[#STEP]")
    _add_anyway(parser)


def _disable(args: _RemoveArguments) -> int:
    home, out = workspace(args), terminal(args)
    place, disabled = place_of(args.place), args.verb == "disable"
    if not place.case:
        raise UsageError("name a case or a step", mend=f"juxtalogos suite {args.verb} SUITE#CASE[#STEP]")
    place = _named(home, place)
    if place.step and disabled:
        _check_users(home, place, "disable", anyway=args.anyway)
    lost = set_disabled(home, place, disabled)
    out.line(f"{args.verb}d: ", (str(place), "name"))
    for text in lost:
        out.line((f"takes a value from it and has none now: {text}", "remark"), indent=2)
    return EXIT_HELD


def _undo_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--list", action="store_true", help="list the changes that can be taken back")


def _undo(args: _UndoArguments) -> int:
    home, out = workspace(args), terminal(args)
    if args.list:
        rows = [
            (datetime.fromtimestamp(one.when).strftime("%Y-%m-%d %H:%M:%S"), one.what, ", ".join(one.before))
            for one in changes(home)
        ]
        if args.json:
            out.json(
                {
                    "version": 1,
                    "changes": [
                        {"when": one.when, "what": one.what, "files": list(one.before)}
                        for one in changes(home)
                    ],
                }
            )
        else:
            out.table(("when", "what", "files"), rows, styles=("note", "name"))
        return EXIT_HELD
    undone = take_back(home)
    if args.json:
        out.json({"version": 1, "takenBack": undone.what, "files": list(undone.before)})
        return EXIT_HELD
    out.line("taken back: ", (undone.what, "name"), f"   {', '.join(undone.before)}")
    return EXIT_HELD


REMOVE = Verb(_remove_arguments, _remove, "juxtalogos suite remove mine#vessels#read", True)
COPY = Verb(_copy_arguments, _copy, "juxtalogos suite copy berths#listVessels mine#vessels", True)
MOVE = Verb(_move_arguments, _move, "juxtalogos suite move mine#fleet#read --after register", True)
RENAME = Verb(_rename_arguments, _rename, "juxtalogos suite rename mine#vessels fleet", True)
TAG = Verb(_tag_arguments, _tag, "juxtalogos suite tag mine#fleet nightly --describe 'every vessel'", True)
DISABLE = Verb(_place_arguments, _disable, "juxtalogos suite disable mine#fleet#read", True)
ENABLE = Verb(_place_arguments, _disable, "juxtalogos suite enable mine#fleet#read", True)
UNDO = Verb(_undo_arguments, _undo, "juxtalogos suite undo", json=True)
