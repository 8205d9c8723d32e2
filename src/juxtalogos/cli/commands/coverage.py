"""`coverage`: declared beside exercised."""

from __future__ import annotations

import argparse
import re
from typing import Any

from juxtalogos.cli.shared.options import (
    EXIT_FAILED,
    EXIT_HELD,
    Arguments,
    add_common,
    add_full,
    terminal,
    workspace,
)
from juxtalogos.cli.shared.terminal import Terminal
from juxtalogos.coverage import Coverage, Share, measure
from juxtalogos.documents.positions import describe, position
from juxtalogos.formats import element_kinds, wire_of
from juxtalogos.formats.http.outcomes import status_outcome
from juxtalogos.ledger import open_ledger
from juxtalogos.model.contract import Contract
from juxtalogos.model.elements import Element
from juxtalogos.model.errors import UsageError, nearest, quoted
from juxtalogos.model.location import Location

DESCRIPTION = """\
Show how much of a definition one or several runs exercised: operations, status codes, media types,
parameters, request and response properties, enum members, response headers; the gaps with their
definition lines."""
EXAMPLE = """\
  juxtalogos coverage
  juxtalogos coverage 3-5 --gaps --require 80
"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "runs",
        nargs="*",
        metavar="RUN",
        help="run numbers or ranges such as 3-5 (default: the latest run)",
    )
    parser.add_argument("--contract", help="one contract only")
    parser.add_argument("--gaps", action="store_true", help="list what was not exercised")
    parser.add_argument("--by-operation", action="store_true", help="a row per operation")
    add_full(parser)
    parser.add_argument(
        "--require", type=float, metavar="PERCENT", help="exit with status 1 if less was exercised"
    )
    add_common(parser)


GAPS = 12
"""Of each kind so many are shown, unless all is asked for."""


class _CoverageArguments(Arguments):
    full: bool
    runs: list[str]
    contract: str | None
    gaps: bool
    by_operation: bool
    require: float | None


def run_numbers(words: list[str]) -> list[int]:
    """Numbers of runs, of words such as `3` and `3-5`; UsageError when one is none."""
    numbers: list[int] = []
    for word in words:
        found = re.fullmatch(r"(\d{1,9})(?:-(\d{1,9}))?", word)
        if not found:
            raise UsageError(f"{quoted(word)} is no run", mend="give a number or a range such as 3-5")
        first, last = int(found.group(1)), int(found.group(2) or found.group(1))
        numbers += range(first, min(last, first + 10_000) + 1)
    return numbers


def run(args: _CoverageArguments) -> int:
    home = workspace(args)
    out = terminal(args)
    measured: list[tuple[Contract, Coverage]] = []
    good: dict[str, int] = {}
    """By contract how many operations were answered with success."""
    with open_ledger(home.ledger_path) as ledger:
        numbers = (
            [ledger.run(number).id for number in run_numbers(args.runs)] if args.runs else [ledger.run().id]
        )
        names = [args.contract] if args.contract else ledger.contracts(numbers)
        for name in names:
            if name not in home.contract_names():
                raise UsageError(
                    f"there is no contract {quoted(name)}", mend=nearest(name, home.contract_names())
                )
            contract = home.contract(name)
            hits = list(ledger.hits(numbers, name))
            good[name] = len(
                {
                    hit.operation
                    for hit in hits
                    if status_outcome(hit.status).succeeded and contract.operation(hit.operation)
                }
            )
            measured.append((contract, measure(wire_of(contract), element_kinds(contract), hits)))
    if args.json:
        out.json(
            {
                "version": 1,
                "runs": numbers,
                "contracts": [
                    {**_data(contract, coverage), "answeredWithSuccess": good[contract.name]}
                    for contract, coverage in measured
                ],
            }
        )
    else:
        for contract, coverage in measured:
            _show(out, args, numbers, contract, coverage, good[contract.name])
    least = min((coverage.total.percent for _, coverage in measured), default=0.0)
    if args.require is not None and least < args.require:
        out.note((f"{least:.1f} % is less than the required {args.require:g} %", "deviation"))
        return EXIT_FAILED
    return EXIT_HELD


def _show(
    out: Terminal,
    args: _CoverageArguments,
    numbers: list[int],
    contract: Contract,
    coverage: Coverage,
    good: int,
) -> None:
    runs = ", ".join(map(str, numbers[:6])) + (" …" if len(numbers) > 6 else "")
    out.line((contract.name, "head"), f"   run{'s' if len(numbers) > 1 else ''} {runs}")
    shares = coverage.by_operation() if args.by_operation else coverage.by_kind()
    rows = [_row(name, share) for name, share in shares]
    if not args.by_operation and rows:
        rows.insert(1, _row("… with success", Share(good, len(contract.operations))))
    out.table(
        ("operation" if args.by_operation else "element", "exercised", "declared", "percent", ""),
        [*rows, _row("all", coverage.total)],
        styles=("name",),
        right=(1, 2, 3),
    )
    gaps = coverage.gaps()
    if args.gaps and gaps:
        out.line()
        out.line((f"not exercised: {len(gaps)}", "head"))
        grouped: dict[str, list[Element]] = {}
        for row in gaps:
            grouped.setdefault(_heading(coverage, row.element), []).append(row.element)
        rows = [
            (heading, part.label, (describe(contract.documents, part.location), "note"))
            for heading, elements in grouped.items()
            for part in (elements if args.full else elements[:GAPS])
        ]
        out.table(("kind", "element", "definition"), rows, styles=("", "name"))
        for heading, elements in grouped.items():
            if len(elements) > GAPS and not args.full:
                out.line(
                    (f"and {len(elements) - GAPS} more of the kind {heading}: --full, or --json", "note")
                )
    elif gaps:
        out.note((f"{len(gaps)} gaps; list them with --gaps", "note"))


def _heading(coverage: Coverage, element: Element) -> str:
    """The kind; for an enum member also which way it travels, since one enumeration may serve both."""
    heading = coverage.heading(element.kind)
    return f"{heading}, {element.direction}" if element.kind in ("enum", "media") else heading


def _row(name: str, share: Share) -> tuple[Any, ...]:
    blocks = round(share.percent / 5)
    style = "held" if share.percent >= 80 else "remark" if share.percent >= 40 else "deviation"
    return (
        name,
        share.exercised,
        share.declared,
        f"{share.percent:.1f}",
        ("█" * blocks + "░" * (20 - blocks), style),
    )


def _line(contract: Contract, location: Location) -> int | None:
    """None in a schema that a standard brings with it, which is no document of the contract."""
    document = contract.documents.get(location.document)
    return position(document, location.pointer).line if document is not None else None


def _data(contract: Contract, coverage: Coverage) -> dict[str, Any]:
    def share(one: Share) -> dict[str, Any]:
        return {"exercised": one.exercised, "declared": one.declared, "percent": round(one.percent, 2)}

    gaps = [
        {
            "kind": row.element.kind,
            "id": row.element.id,
            "label": row.element.label,
            "operations": list(row.operations),
            "line": _line(contract, row.element.location),
        }
        for row in coverage.gaps()
    ]
    return {
        "contract": coverage.contract,
        "total": share(coverage.total),
        "byKind": {name: share(one) for name, one in coverage.by_kind()},
        "byOperation": {name: share(one) for name, one in coverage.by_operation()},
        "gaps": gaps,
    }
