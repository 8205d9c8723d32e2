"""`import`: a definition -> a contract."""

from __future__ import annotations

import argparse
import re
from collections import Counter
from pathlib import Path

from juxtalogos.cli.options import EXIT_FAILED, EXIT_HELD, EXIT_UNUSABLE, Arguments, add_common, terminal, workspace
from juxtalogos.documents.positions import position
from juxtalogos.model.contract import Contract, Fault
from juxtalogos.model.location import Position
from juxtalogos.workspace.importing import keep, read_source

DESCRIPTION = """\
Read a definition (OpenAPI 3.0 or 3.1, JSON or YAML) from a file or folder, with all files it refers to, and
keep it in the workspace. Every fault is listed with its line and how to mend it; what is sound is kept.

exit status: 0 sound; 1 faults were found, the sound operations are kept; 2 nothing can be used."""
EXAMPLE = """\
  juxtalogos import berths.yaml
  juxtalogos import definitions/ --root api/main.yaml --name berths
"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("source", type=Path, metavar="SOURCE", help="a file, or a folder that holds the definition")
    parser.add_argument("--name", help="the contract's name; made from the file's when left out")
    parser.add_argument("--root", metavar="FILE", help="in a folder: the file to begin with")
    add_common(parser)


def run(args: Arguments) -> int:
    home = workspace(args)
    contract = read_source(args.source, args.root, args.name)
    kept = bool(contract.operations)
    replaced = keep(home, contract, str(args.source)) if kept else False
    if args.json:
        terminal(args).json(_as_data(contract))
    else:
        _tell(args, contract, kept, replaced)
    if not kept:
        return EXIT_UNUSABLE
    return EXIT_FAILED if any(fault.severity == "fault" for fault in contract.faults) else EXIT_HELD


def _as_data(contract: Contract) -> dict[str, object]:
    return {
        "contract": contract.name,
        "format": contract.format,
        "version": contract.version,
        "operations": len(contract.operations),
        "problems": [
            {
                "what": fault.what,
                "severity": fault.severity,
                "document": fault.location.document,
                "pointer": fault.location.pointer,
                "line": place.line,
                "column": place.column,
                "mend": fault.mend,
            }
            for fault, place in ((fault, _place(contract, fault)) for fault in contract.faults)
        ],
    }


def _place(contract: Contract, fault: Fault) -> Position:
    return position(contract.documents[fault.location.document], fault.location.pointer)


_OWN = re.compile(r"'[^']*'|`[^`]*`|\S*[#/{}\d]\S*")
"""What is one fault's own in its words, so that many of a kind can be told together."""
FEW, SHOWN = 5, 3


def _tell_faults(args: Arguments, contract: Contract) -> None:
    """Each fault with its place and remedy; of many that are alike the first ones and how many more."""
    out = terminal(args)
    kinds: dict[tuple[str, str], list[tuple[str, int, int, Fault]]] = {}
    for fault in contract.faults:
        place = _place(contract, fault)
        kind = (fault.severity, _OWN.sub("", fault.what) + fault.mend.partition(";")[0])
        kinds.setdefault(kind, []).append((fault.location.document, place.line, place.column, fault))
    for (severity, _), found in sorted(kinds.items(), key=lambda one: min(one[1])[:3]):
        found.sort(key=lambda one: one[:3])
        shown = found if args.verbose or len(found) <= FEW else found[:SHOWN]
        style = "deviation" if severity == "fault" else "remark"
        for document, line, column, fault in shown:
            where = f"{document}:{line}:{column}"
            out.line((where, "name"), "  ", (severity, style), f"  {fault.what}")
            out.line((fault.mend, "note"), indent=2)
        if len(shown) < len(found):
            out.line((f"and {len(found) - len(shown)} more like it (every one with -v or --json)", style), indent=2)
    if len(contract.faults) > FEW:
        counts = Counter(fault.severity for fault in contract.faults)
        told = " and ".join(f"{count} {name}{'s' if count > 1 else ''}" for name, count in counts.items())
        out.line((f"{told} of {len(kinds)} kinds in all", "note"))


def _tell(args: Arguments, contract: Contract, kept: bool, replaced: bool) -> None:
    out = terminal(args)
    _tell_faults(args, contract)
    if not kept:
        out.line(("no sound operation is left, so nothing was kept", "deviation"))
        return
    verb = "read again" if replaced else "read"
    count = len(contract.operations)
    out.line(
        f"{verb} ",
        (contract.name, "name"),
        f": {contract.title or 'without a title'}, {contract.format} {contract.version}, {count} operations, {len(contract.documents)} document{'s' if len(contract.documents) > 1 else ''}",
    )
    if out.verbose:
        for uri, document in contract.documents.items():
            out.note((f"document {uri}: {document.syntax}, {len(document.text):,} bytes", "note"))
    for server in contract.servers:
        out.note(
            (
                f"the definition names the server {server}; it is used only when you add it: juxtalogos targets set NAME {server}",
                "note",
            )
        )
    out.note((f"next: juxtalogos show {contract.name}", "note"))
