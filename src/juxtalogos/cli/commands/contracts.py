"""`contracts`: list them with what uses them, rename and remove one."""

from __future__ import annotations

import argparse

from juxtalogos.cli.shared.confirming import confirmed
from juxtalogos.cli.shared.layout import counted
from juxtalogos.cli.shared.options import EXIT_HELD, Arguments, add_common, terminal, workspace
from juxtalogos.ledger import open_ledger
from juxtalogos.model.errors import UsageError
from juxtalogos.suite.document.contracts import (
    Referring,
    all_referring,
    referring,
    remove_contract,
    rename_contract,
)
from juxtalogos.suite.document.reader import suite_name
from juxtalogos.workspace.workspace import Workspace

DESCRIPTION = """\
List the contracts of a workspace with the suites and targets that use them, rename one, or remove
one. Suites, configuration, what was learned and kept responses follow a new name; runs in the ledger
keep the old one. Before a contract that suites use is removed, the command asks."""
EXAMPLE = """\
  juxtalogos contracts
  juxtalogos contracts rename berths quays
  juxtalogos contracts remove registry
"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "action", nargs="?", choices=("list", "rename", "remove"), default="list", help="what to do"
    )
    parser.add_argument("name", nargs="?", default="", metavar="CONTRACT", help="the contract")
    parser.add_argument("new", nargs="?", default="", metavar="NAME", help="rename: its new name")
    parser.add_argument(
        "--anyway", action="store_true", help="remove: also where suites cannot be run without it"
    )
    add_common(parser)


class _ContractsArguments(Arguments):
    action: str
    name: str
    new: str
    anyway: bool


def run(args: _ContractsArguments) -> int:
    home, out = workspace(args), terminal(args)
    if args.anyway and args.action != "remove":
        raise UsageError("--anyway is for `contracts remove`", mend="juxtalogos contracts remove CONTRACT")
    if args.action == "list":
        return _list(args, home)
    if args.new and args.action == "remove":
        raise UsageError("`remove` takes one contract", mend=f"juxtalogos contracts remove {args.name}")
    if not args.name or (args.action == "rename" and not args.new):
        form = "rename CONTRACT NAME" if args.action == "rename" else "remove CONTRACT"
        raise UsageError("name the contract", mend=f"juxtalogos contracts {form}")
    found = referring(home, args.name)
    _nothing_left(home, args.name)
    if args.action == "rename":
        rename_contract(home, args.name, args.new)
        out.line("renamed: ", (args.name, "name"), f" is {args.new} now")
    else:
        _agree(home, args, found)
        remove_contract(home, args.name)
        out.line("removed: ", (args.name, "name"), ("   its runs are kept", "note"))
    for text in found.told(home):
        out.line((text, "note"), indent=2)
    return EXIT_HELD


def _nothing_left(home: Workspace, name: str) -> None:
    """UsageError where runs left something behind that only this contract can remove."""
    if not home.ledger_path.exists():
        return
    with open_ledger(home.ledger_path) as ledger:
        left = [record for record in ledger.undone() if record.contract == name]
    if left:
        what = f"runs left {counted(len(left), 'item')} behind that need {name} to be removed"
        raise UsageError(what, mend="juxtalogos clean --all")


def _agree(home: Workspace, args: _ContractsArguments, found: Referring) -> None:
    if not found.suites or args.anyway:
        return
    names = ", ".join(suite_name(path, home) for path in found.suites[:6])
    told = f"{counted(len(found.suites), 'suite')} cannot be run without {args.name} ({names})"
    if not confirmed(f"{told}: remove it?"):
        raise UsageError(
            told, mend="--anyway removes it all the same; or first: juxtalogos suite remove SUITE"
        )


def _list(args: _ContractsArguments, home: Workspace) -> int:
    out = terminal(args)
    if args.name:
        raise UsageError(f"`list` takes no {args.name}", mend=f"juxtalogos show {args.name}")
    names = home.contract_names()
    found_of = all_referring(home, names)
    rows = [(home.contract(name), found_of[name], str(home.origin(name).get("source"))) for name in names]
    if args.json:
        data = [
            {
                "contract": contract.name,
                "format": contract.format,
                "operations": len(contract.operations),
                "source": source,
                "suites": [suite_name(path, home) for path in found.suites],
                "targets": list(found.targets),
            }
            for contract, found, source in rows
        ]
        out.json({"version": 1, "contracts": data})
    elif not rows:
        out.note(("no contracts yet: juxtalogos import SOURCE", "note"))
    else:
        told = [
            (
                contract.name,
                contract.format,
                len(contract.operations),
                ", ".join(suite_name(path, home) for path in found.suites[:4])
                + (" …" if len(found.suites) > 4 else ""),
                source,
            )
            for contract, found, source in rows
        ]
        headings = ("contract", "format", "operations", "suites", "imported from")
        out.table(headings, told, styles=("name",), right=(2,))
    return EXIT_HELD
