"""`import`: a definition -> a contract."""

from __future__ import annotations

import argparse
from pathlib import Path

from juxtalogos.cli.options import EXIT_FAILED, EXIT_HELD, EXIT_UNUSABLE, Arguments, add_common, terminal, workspace
from juxtalogos.documents.positions import describe, position
from juxtalogos.model.contract import Contract, Fault
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
                "line": position(contract.documents[fault.location.document], fault.location.pointer).line,
                "mend": fault.mend,
            }
            for fault in contract.faults
        ],
    }


def _place(contract: Contract, fault: Fault) -> tuple[str, int]:
    return fault.location.document, position(contract.documents[fault.location.document], fault.location.pointer).line


def _tell(args: Arguments, contract: Contract, kept: bool, replaced: bool) -> None:
    out = terminal(args)
    for fault in sorted(contract.faults, key=lambda fault: _place(contract, fault)):
        style = "deviation" if fault.severity == "fault" else "remark"
        out.line(
            (describe(contract.documents, fault.location), "name"), "  ", (fault.severity, style), f"  {fault.what}"
        )
        out.line((fault.mend, "note"), indent=2)
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
