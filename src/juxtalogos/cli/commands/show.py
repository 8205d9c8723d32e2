"""`show`: contracts, the operations of one, one operation with all it takes and answers."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import Any

from juxtalogos.cli.shared.matrix import show_matrices
from juxtalogos.cli.shared.options import EXIT_HELD, Arguments, add_common, terminal, workspace
from juxtalogos.cli.shared.terminal import Terminal
from juxtalogos.documents.positions import describe
from juxtalogos.model.contract import Contract, Input, Media, Operation
from juxtalogos.model.errors import UsageError
from juxtalogos.model.schema import OutlineRow
from juxtalogos.workspace.files import write_whole
from juxtalogos.workspace.workspace import Workspace

DESCRIPTION = """\
Show the contracts; with a contract's name, its operations; with an operation, every input with its
address, type, allowed values and limits, and every declared response. --resources shows the tree of
resources that the operations of a contract work on."""
EXAMPLE = """\
  juxtalogos show berths
  juxtalogos show berths --resources
  juxtalogos show announcePortCall
  juxtalogos show berths --form handover --output berths.html
"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("name", nargs="?", metavar="CONTRACT or OPERATION", help="what to show")
    parser.add_argument(
        "--form",
        choices=("table", "handover"),
        default="table",
        help="handover: a description for another team, as Markdown or HTML",
    )
    parser.add_argument(
        "--output",
        type=Path,
        metavar="FILE",
        help="write the handover here; HTML if the name ends in .html",
    )
    parser.add_argument("--resources", action="store_true", help="show the tree of resources of a contract")
    parser.add_argument(
        "--target", default="", metavar="NAME", help="put this target's base URL into the handover"
    )
    parser.add_argument(
        "--full",
        action="store_true",
        help="list every operation of a service that is shown as a matrix of sets and what they allow",
    )
    add_common(parser)


class _ShowArguments(Arguments):
    name: str | None
    form: str
    output: Path | None
    target: str
    resources: bool
    full: bool


def run(args: _ShowArguments) -> int:
    home = workspace(args)
    out = terminal(args)
    if args.form == "handover":
        return _handover(args, home)
    if args.output or args.target:
        raise UsageError("--output and --target need --form handover", mend="add --form handover")
    if args.resources:
        from juxtalogos.cli.shared.resource_tree import show_resources

        names = home.contract_names()
        return show_resources(
            out, home.contract(args.name or (names[0] if len(names) == 1 else "")), as_json=args.json
        )
    if args.full and args.name not in home.contract_names():
        raise UsageError("--full lists the operations of a contract", mend="name the contract")
    if args.name is None:
        _contracts(out, args.json, home.contracts())
    elif args.name in home.contract_names():
        _contract(out, args.json, home.contract(args.name), full=args.full)
    else:
        contract, operation = home.operation(args.name)
        if args.json:
            out.json({"version": 1, **operation_data(contract, operation)})
        else:
            _operation(out, contract, operation)
    return EXIT_HELD


def _handover(args: _ShowArguments, home: Workspace) -> int:
    from juxtalogos.report.handover import blocks, to_html, to_markdown

    name = args.name or (home.contract_names()[0] if len(home.contract_names()) == 1 else "")
    if name in home.contract_names():
        contract = home.contract(name)
        operations = list(contract.operations)
    elif name:
        contract, operation = home.operation(name)
        operations = [operation]
    else:
        raise UsageError("no contract named", mend="name one of " + ", ".join(home.contract_names()))
    base_url = home.target(args.target, [contract.name]).base_url(contract) if args.target else ""
    found = blocks(contract, operations, base_url)
    page = args.output is not None and args.output.suffix.lower() in (".html", ".htm")
    text = to_html(found, contract.title or contract.name) if page else to_markdown(found)
    if args.output:
        write_whole(args.output, text.encode("utf-8", "replace"))
        terminal(args).note(f"written: {args.output}")
    else:
        terminal(args).raw(text)
    return EXIT_HELD


def _contracts(out: Terminal, as_json: bool, contracts: list[Contract]) -> None:
    if as_json:
        rows = [
            {
                "contract": contract.name,
                "format": contract.format,
                "version": contract.version,
                "title": contract.title,
                "operations": len(contract.operations),
            }
            for contract in contracts
        ]
        out.json({"version": 1, "contracts": rows})
    elif not contracts:
        out.note(("no contracts yet: juxtalogos import FILE", "note"))
    else:
        table = [
            (one.name, f"{one.format} {one.version}", len(one.operations), one.title) for one in contracts
        ]
        out.table(("contract", "format", "operations", "title"), table, styles=("name",), right=(2,))


def _contract(out: Terminal, as_json: bool, contract: Contract, *, full: bool) -> None:
    if as_json:
        operations = [
            {
                "id": candidate.id,
                "method": candidate.method,
                "path": candidate.path,
                "summary": candidate.summary,
                "deprecated": candidate.deprecated,
                **dict(candidate.facts),
                "line": _line(contract, candidate),
                **_lost(candidate),
            }
            for candidate in contract.operations
        ]
        out.json(
            {
                "version": 1,
                "contract": contract.name,
                "format": contract.format,
                "formatVersion": contract.version,
                "servers": list(contract.servers),
                "operations": operations,
                "outgoing": [
                    {
                        key: getattr(call, key)
                        for key in ("kind", "name", "operation", "method", "address", "summary")
                    }
                    for call in contract.outgoing
                ],
            }
        )
        return
    out.line((contract.title, "head"), f"   {contract.format} {contract.version}")
    for server in contract.servers:
        out.line(("server named: ", "note"), server)
    for scheme in contract.security_schemes:
        key = f" as {scheme.place} {scheme.key}" if scheme.key else ""
        out.line(
            ("sign-in: " if scheme.declared else "sign-in, if required: ", "note"),
            (scheme.name, "name"),
            f" ({scheme.kind}{key})",
        )
    listed = contract.operations if full or not contract.by_subject else show_matrices(out, contract)
    rows = [(one.id, *map(one.fact, contract.columns), _summary(one)) for one in listed]
    if rows:
        out.table(("operation", *contract.columns, "summary"), rows, styles=("name",))
    names = {one.id for one in listed}
    for one in contract.operations:
        if one.id not in names and _marks(one):
            out.line((one.id, "name"), (_marks(one), "remark"))
    if contract.outgoing:
        out.line()
        out.line(("sent by the service itself", "head"))
        sent = [
            (f"{call.kind} {call.name}", call.method, call.address, call.operation, call.summary)
            for call in contract.outgoing
        ]
        out.table(("request", "method", "to", "after", "summary"), sent, styles=("name",))


def _lost(operation: Operation) -> dict[str, Any]:
    """What of an operation cannot be called or checked, for `--json`."""
    parts = [{"part": part, "why": why} for part, why in operation.not_checkable()]
    return {"notCallable": operation.not_callable, "notCheckable": parts}


def _summary(operation: Operation) -> str:
    return (operation.summary + _marks(operation)).strip()


def _marks(operation: Operation) -> str:
    """What is to be known of an operation before it is called."""
    lost = len(list(operation.not_checkable()))
    marks = (" (deprecated)" if operation.deprecated else "") + (
        f" ({lost} part{'s' * (lost > 1)} not checkable)" if lost else ""
    )
    if operation.not_callable:
        marks = f" (not callable: {operation.not_callable})"
    return marks


def _line(contract: Contract, operation: Operation) -> int:
    from juxtalogos.documents.positions import position

    return position(contract.documents[operation.location.document], operation.location.pointer).line


def _operation(out: Terminal, contract: Contract, operation: Operation) -> None:
    out.line(
        (operation.id, "head"),
        f"   {operation.method} {operation.path}",
        ("   deprecated" if operation.deprecated else "", "remark"),
    )
    out.line((describe(contract.documents, operation.location), "note"), indent=2)
    for text in dict.fromkeys(filter(None, (operation.summary, operation.description))):
        out.block(text.strip())
    for word, text in operation.facts:
        if word != "sign-in" and text:
            out.line(f"  {word}: ", (text, "name"))
    if operation.fact("sign-in"):
        out.line("  sign-in: ", (operation.fact("sign-in"), "name"))
    if operation.not_callable:
        out.line(("  not callable: ", "remark"), operation.not_callable)
    for part, why in operation.not_checkable():
        out.line(("  not checkable: ", "remark"), f"{part}: {why}")
    rows = [row for declared_input in operation.inputs for row in _input_rows(contract, declared_input)]
    headings = ("input", "type", "need", "allowed values and limits", "meaning")
    if rows:
        out.line()
        out.table(headings, rows, styles=("name",))
    for media in operation.body.media if operation.body else ():
        need = "required" if operation.body and operation.body.required else ""
        out.line()
        out.line(("takes a body", "head"), f"  {need}" if need else "")
        out.line(f"  {media.media_type}")
        outline = list(contract.schema(media.schema).outline()) if media.schema else []
        rows = [
            (
                "body",
                outline[0].type if outline else "any",
                need,
                outline[0].allowed if outline else "",
                outline[0].description if outline else "",
            )
        ]
        rows += [
            (f"body{row.path}", row.type, "required" if row.required else "", row.allowed, row.description)
            for row in outline[1:]
        ]
        known = {row.path for row in outline}
        rows += [
            (f"body/{name}", "attachment", "", kind, "")
            for name, kind in media.encoding
            if f"/{name}" not in known
        ]
        out.table(headings, rows, styles=("name",))
    for answer in operation.answers:
        out.line()
        fault = f" with the fault {answer.fault}" if answer.fault else ""
        out.line((f"response {answer.status}{fault}", "head"), f"  {' '.join(answer.description.split())}")
        for head in answer.headers:
            first = next(iter(contract.schema(head.schema).outline()), None) if head.schema else None
            out.line(
                "  header ",
                (head.name, "name"),
                f"  {first.type if first else 'any'}{'  required' if head.required else ''}",
                (f"  {head.description}", "note"),
            )
        for media in answer.media:
            out.line(f"  {media.media_type}")
            _tree(out, contract, media)


def _input_rows(contract: Contract, one: Input) -> list[tuple[str, str, str, str, str]]:
    """An input, and what can be set within it."""
    inner = list(contract.schema(one.schema).outline())[1:] if one.schema else []
    return [
        _input_row(contract, one),
        *(
            (
                f"{one.address}{row.path}",
                row.type,
                "required" if row.required else "",
                row.allowed,
                row.description,
            )
            for row in inner
            if not row.path.split("/")[1].isdigit()
        ),
    ]


def _input_row(contract: Contract, one: Input) -> tuple[str, str, str, str, str]:
    row = next(iter(contract.schema(one.schema).outline()), None) if one.schema else None
    items = (
        [inner for inner in contract.schema(one.schema).outline() if inner.name == "each item"]
        if one.schema
        else []
    )
    allowed = row.allowed if row else ""
    if items and items[0].allowed:
        allowed = "; ".join(filter(None, (allowed, f"each {items[0].allowed}")))
    return (
        one.address,
        row.type if row else "any",
        "required" if one.required else "",
        allowed,
        one.description or (row.description if row else ""),
    )


def _tree(out: Terminal, contract: Contract, media: Media) -> None:
    rows: list[OutlineRow] = list(contract.schema(media.schema).outline()) if media.schema else []
    table = [
        (
            "    " + "  " * row.depth + (row.name or "the body"),
            row.type,
            "required" if row.required else "",
            row.allowed,
            row.description,
        )
        for row in rows
    ]
    if table:
        out.table(
            ("    property", "type", "need", "allowed values and limits", "meaning"), table, styles=("name",)
        )


def operation_data(contract: Contract, operation: Operation) -> dict[str, Any]:
    """An operation for `--json`."""
    inputs = [
        dict(zip(("address", "type", "need", "allowed", "meaning"), row))
        for declared_input in operation.inputs
        for row in _input_rows(contract, declared_input)
    ]
    return {
        "id": operation.id,
        "contract": contract.name,
        "method": operation.method,
        "path": operation.path,
        "summary": operation.summary,
        **dict(operation.facts),
        "line": _line(contract, operation),
        **_lost(operation),
        "inputs": inputs,
        "body": [_media_data(contract, media) for media in (operation.body.media if operation.body else ())],
        "answers": [
            {
                "status": answer.status,
                **({"fault": answer.fault} if answer.fault else {}),
                "description": answer.description,
                "headers": [{"name": head.name, "required": head.required} for head in answer.headers],
                "media": [_media_data(contract, media) for media in answer.media],
            }
            for answer in operation.answers
        ],
    }


def _media_data(contract: Contract, media: Media) -> dict[str, Any]:
    rows = list(contract.schema(media.schema).outline()) if media.schema else []
    return {
        "mediaType": media.media_type,
        "properties": [
            {
                "path": row.path,
                "type": row.type,
                "required": row.required,
                "allowed": row.allowed,
                "meaning": row.description,
            }
            for row in rows
        ],
    }
