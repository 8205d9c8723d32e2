"""`clean`: removes what a run created and left behind."""

from __future__ import annotations

import argparse

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
from juxtalogos.ledger import open_ledger
from juxtalogos.model.errors import UsageError
from juxtalogos.run.engine.loop import run_loop
from juxtalogos.run.target.session import Identity, open_session
from juxtalogos.run.undo.cleaning import place_of, undo
from juxtalogos.workspace.trust import Grant

DESCRIPTION = """\
Remove what a run created and did not remove itself, for example after an interrupt, a kill or a
refused deletion. The ledger records what was created. Deletions go to the run's own target, newest
first.

exit status: 0 all recorded items are removed; 1 some could not be removed and are listed."""
EXAMPLE = """\
  juxtalogos clean
  juxtalogos clean 17
"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("number", nargs="?", type=int, metavar="RUN", help="the run (default: the latest)")
    parser.add_argument("--show", action="store_true", help="list what is left without removing it")
    add_target(parser)
    add_identity(parser)
    add_grant(parser)
    add_common(parser)


class _CleanArguments(Arguments):
    number: int | None
    show: bool
    target: str | None
    role: str
    credential: list[str]
    header: list[str]
    no_credentials: bool
    trust: str
    sends: list[str]


def run(args: _CleanArguments) -> int:
    home, out = workspace(args), terminal(args)
    with open_ledger(home.ledger_path, write=not args.show) as ledger:
        number = (
            args.number
            if args.number is not None
            else max((one.id for one in ledger.runs(limit=1)), default=0)
        )
        record = ledger.run(number) if number else ledger.run()
        left = ledger.undone(record.id)
        if args.show or not left:
            rows = [(place_of(entry), f"{entry.contract}:{entry.operation}", entry.target) for entry in left]
            if args.json:
                out.json(
                    {
                        "version": 1,
                        "run": record.id,
                        "left": [dict(zip(("step", "operation", "target"), row)) for row in rows],
                    }
                )
            elif rows:
                out.table(("to be undone by", "operation", "target"), rows, styles=("name",))
            else:
                out.line(f"the ledger lists nothing that run {record.id} left behind")
            return EXIT_FAILED if left else EXIT_HELD
        target = home.target(args.target or left[0].target or None, [left[0].contract])
        names = [
            name for name in dict.fromkeys(entry.contract for entry in left) if name in home.contract_names()
        ]
        if not names:
            raise UsageError(
                f"the contract {left[0].contract} is no longer in this workspace",
                mend="import it again under that name",
            )
        session = open_session(
            {name: home.contract(name) for name in names},
            target,
            home.root,
            with_credentials=not args.no_credentials,
            config=home.config,
            identity=Identity(args.role, tuple(args.credential), tuple(map(header_field, args.header))),
            grant=Grant.of(args.trust, args.sends),
        )
        done = run_loop(undo(session, ledger, left))
    failed = [one for one in done if not one.done]
    if args.json:
        out.json(
            {
                "version": 1,
                "run": record.id,
                "removed": len(done) - len(failed),
                "left": [
                    {"step": place_of(case.record), "operation": case.record.operation, "why": case.told}
                    for case in failed
                ],
            }
        )
    else:
        out.line(f"removed {len(done) - len(failed)} of {len(done)} that run {record.id} left behind")
        if failed:
            out.table(
                ("left", "operation", "why"),
                [(place_of(case.record), case.record.operation, (case.told, "note")) for case in failed],
                styles=("name",),
            )
    return EXIT_FAILED if failed else EXIT_HELD
