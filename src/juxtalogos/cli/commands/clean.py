"""`clean`: removes what runs created and left behind."""

from __future__ import annotations

import argparse
from typing import Any

from juxtalogos.cli.shared.layout import counted
from juxtalogos.cli.shared.options import (
    EXIT_FAILED,
    EXIT_HELD,
    Arguments,
    add_common,
    add_grant,
    add_identity,
    add_target,
    header_field,
    terminal,
    workspace,
)
from juxtalogos.cli.shared.targeting import add_agreement, agreed, show_target
from juxtalogos.cli.shared.terminal import Terminal
from juxtalogos.ledger import Ledger, UndoRecord, open_ledger
from juxtalogos.model.errors import JuxtalogosError, UsageError
from juxtalogos.run.engine.loop import run_loop
from juxtalogos.run.target.session import Identity, open_session
from juxtalogos.run.undo.cleaning import Undone, place_of, undo
from juxtalogos.workspace.trust import Grant
from juxtalogos.workspace.workspace import Workspace

DESCRIPTION = """\
Remove what a run created and did not remove itself, and write back what it changed: after an
interrupt, a kill or a refused deletion. The ledger records what was created before it is asked for.
Requests go to the run's own target, newest first, and each result is looked at.

--all covers all runs, explorations and learning at a target.

exit status: 0 all recorded items are removed; 1 some could not be removed and are listed."""
EXAMPLE = """\
  juxtalogos clean
  juxtalogos clean 17
  juxtalogos clean --all --target acceptance
"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("number", nargs="?", type=int, metavar="RUN", help="the run (default: the latest)")
    parser.add_argument("--all", action="store_true", help="all runs, explorations and learning")
    parser.add_argument("--show", action="store_true", help="list what is left without removing it")
    add_target(parser)
    add_agreement(parser)
    add_identity(parser)
    add_grant(parser)
    add_common(parser)


class _CleanArguments(Arguments):
    number: int | None
    all: bool
    show: bool
    target: str | None
    yes_to: str
    role: str
    credential: list[str]
    header: list[str]
    no_credentials: bool
    trust: str
    sends: list[str]


def run(args: _CleanArguments) -> int:
    home, out = workspace(args), terminal(args)
    if args.all and args.number is not None:
        raise UsageError("--all covers every run", mend="leave the number out, or --all")
    with open_ledger(home.ledger_path, write=not args.show) as ledger:
        number, left = _left(args, home, ledger)
        whose = f"run {number}" if number is not None else "all runs"
        if args.show or not left:
            _show(args, out, number, whose, left)
            return EXIT_FAILED if left else EXIT_HELD
        done: list[Undone] = []
        for target in dict.fromkeys(record.target for record in left):
            records = [record for record in left if record.target == target]
            try:
                done += _undo(args, home, ledger, target, records)
            except JuxtalogosError as error:
                if not args.all:
                    raise
                done += [Undone(record, False, error.what) for record in records]  # the other targets go on
    failed = [one for one in done if not one.done]
    if args.json:
        out.json(
            {
                "version": 2,
                "run": number,
                "removed": len(done) - len(failed),
                "left": [
                    {"step": place_of(case.record), "operation": case.record.operation, "why": case.told}
                    for case in failed
                ],
            }
        )
    else:
        out.line(f"removed {len(done) - len(failed)} of {len(done)} that {whose} left behind")
        if failed:
            out.table(
                ("left", "operation", "why"),
                [(place_of(case.record), case.record.operation, (case.told, "note")) for case in failed],
                styles=("name",),
            )
    return EXIT_FAILED if failed else EXIT_HELD


def _left(args: _CleanArguments, home: Workspace, ledger: Ledger) -> tuple[int | None, list[UndoRecord]]:
    """(the run, or None for all; what is to be undone). Of all runs only what lies at one target."""
    if not args.all:
        number = args.number
        if number is None:
            number = max((one.id for one in ledger.runs(limit=1)), default=0)
        record = ledger.run(number) if number else ledger.run()
        return record.id, ledger.undone(record.id)
    left = ledger.undone()
    if args.target is None:
        return None, left
    names = {args.target, home.target(args.target, ()).reference}
    return None, [record for record in left if record.target in names]


def _show(
    args: _CleanArguments, out: Terminal, number: int | None, whose: str, left: list[UndoRecord]
) -> None:
    rows = [(place_of(entry), f"{entry.contract}:{entry.operation}", entry.target) for entry in left]
    if args.json:
        told: dict[str, Any] = {"version": 2, "run": number}
        out.json({**told, "left": [dict(zip(("step", "operation", "target"), row)) for row in rows]})
    elif rows:
        out.table(("to be undone by", "operation", "target"), rows, styles=("name",))
        out.note((f"{counted(len(rows), 'item')}: juxtalogos clean without --show removes them", "note"))
    else:
        out.line(f"the ledger lists nothing that {whose} left behind")


def _undo(
    args: _CleanArguments, home: Workspace, ledger: Ledger, name: str, left: list[UndoRecord]
) -> list[Undone]:
    """What became of the records of one target."""
    target = agreed(home.target(args.target or name or None, [left[0].contract]), args.yes_to, writes=True)
    names = [one for one in dict.fromkeys(entry.contract for entry in left) if one in home.contract_names()]
    if not names:
        raise UsageError(
            f"the contract {left[0].contract} is no longer in this workspace",
            mend="import it again under that name",
        )
    session = open_session(
        {one: home.contract(one) for one in names},
        target,
        home.root,
        with_credentials=not args.no_credentials,
        config=home.config,
        identity=Identity(args.role, tuple(args.credential), tuple(map(header_field, args.header))),
        grant=Grant.of(args.trust, args.sends),
    )
    show_target(terminal(args), session.target, session.contracts)
    return run_loop(undo(session, ledger, left))
