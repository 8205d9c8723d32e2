"""`exchanges`: list and filter them, show one."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

from juxtalogos.cli.shared.calling import exchange_data, result_data, show_exchange, show_results
from juxtalogos.cli.shared.earlier import exchange_named
from juxtalogos.cli.shared.layout import counted
from juxtalogos.cli.shared.options import EXIT_HELD, Arguments, add_common, terminal, workspace
from juxtalogos.formats import finding_kinds
from juxtalogos.ledger import ExchangeQuery, ExchangeRecord, open_ledger
from juxtalogos.model.errors import UsageError, nearest
from juxtalogos.model.verdict import Verdict

DESCRIPTION = """\
List the exchanges of a run, filtered by method, path, status, verdict, operation or finding; with a
number, show that one exchange with every check made on it."""
EXAMPLE = """\
  juxtalogos exchanges --status 5XX
  juxtalogos exchanges --finding body.required --run 3
  juxtalogos exchanges 17
  juxtalogos exchanges --har morning.har
"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "name", nargs="?", default="", metavar="@EXCHANGE", help="show this one: @17, @last or @OPERATION"
    )
    parser.add_argument(
        "--run", dest="run_number", type=int, metavar="RUN", help="of this run (default: the latest)"
    )
    parser.add_argument("--method", help="of this method")
    parser.add_argument("--path", metavar="TEXT", help="whose URL contains this text")
    parser.add_argument("--status", metavar="CODE", help="of this status code or range (404, 5XX)")
    parser.add_argument("--verdict", choices=[str(verdict) for verdict in Verdict], help="of this verdict")
    parser.add_argument("--operation", metavar="ID", help="of this operation")
    parser.add_argument("--finding", metavar="KIND", help="with a finding of this kind (or `any`)")
    parser.add_argument("--raw", action="store_true", help="show bodies unformatted")
    parser.add_argument(
        "--har", type=Path, metavar="FILE", help="write the listed exchanges as HAR 1.2, with secrets masked"
    )
    add_common(parser)


class _ExchangesArguments(Arguments):
    name: str
    run_number: int | None
    method: str | None
    path: str | None
    status: str | None
    verdict: str | None
    operation: str | None
    finding: str | None
    raw: bool
    har: Path | None


def run(args: _ExchangesArguments) -> int:
    home = workspace(args)
    out = terminal(args)
    with open_ledger(home.ledger_path) as ledger:
        if args.name:
            record = exchange_named(home, args.name, answered=False)
            documents = (
                home.contract(record.contract).documents if record.contract in home.contract_names() else {}
            )
            if args.json:
                out.json(
                    {
                        "version": 1,
                        **_summary(record),
                        **(exchange_data(record.exchange) if record.exchange else {}),
                        "checks": [result_data(result, documents) for result in record.results],
                    }
                )
            else:
                if record.exchange:
                    show_exchange(out, record.exchange, raw=args.raw, limit=200)
                out.line()
                show_results(out, record.results, documents)
                out.line(
                    (record.verdict, record.verdict),
                    f"  {record.operation}",
                    f": {record.reason}" if record.reason else "",
                )
            return EXIT_HELD
        run_id = ledger.run(args.run_number).id
        records = list(ledger.exchanges(_query(args, run_id)))
    if args.har:
        sent = [record for record in records if record.exchange]
        _write_har(args.har, sent)
        rest = f"; {len(records) - len(sent)} were not sent" if len(sent) < len(records) else ""
        out.note((f"{args.har}: {counted(len(sent), 'exchange')}{rest}", "note"))
    elif args.json:
        out.json({"version": 1, "run": run_id, "exchanges": [_summary(record) for record in records]})
    else:
        rows = [_row(record) for record in records]
        out.table(
            ("exchange", "case", "operation", "method", "path", "status", "ms", "verdict", "findings"),
            rows,
            right=(0, 5, 6),
        )
        out.note((f"{counted(len(records), 'exchange')} of run {run_id}", "note"))
    return EXIT_HELD


def _write_har(path: Path, records: list[ExchangeRecord]) -> None:
    from juxtalogos.exchange.har import write_har
    from juxtalogos.workspace.files import write_whole

    write_whole(
        path, write_har(record.exchange for record in records if record.exchange).encode(), private=True
    )


def _query(args: _ExchangesArguments, run: int) -> ExchangeQuery:
    """What was asked for; UsageError when a kind of finding is none."""
    if args.finding and args.finding != "any" and args.finding not in (kinds := finding_kinds()):
        raise UsageError(f"there is no finding kind {args.finding!r}", mend=nearest(args.finding, kinds))
    return ExchangeQuery(
        run=run,
        method=args.method or "",
        url_part=args.path or "",
        status=args.status or "",
        verdict=args.verdict or "",
        operation=args.operation or "",
        finding=args.finding or "",
    )


def _row(record: ExchangeRecord) -> tuple[Any, ...]:
    exchange = record.exchange
    path = urlsplit(exchange.request.url).path if exchange else ""
    kinds = ", ".join(dict.fromkeys(result.kind for result in record.results if result.is_finding))
    milliseconds = f"{exchange.timings.total * 1000:.0f}" if exchange else ""
    method = exchange.request.method if exchange else ""
    return (
        record.id,
        record.case,
        (record.operation, "name"),
        method,
        path,
        record.status or "",
        milliseconds,
        (record.verdict, record.verdict),
        (kinds, "deviation" if any(result.fails for result in record.results) else "remark"),
    )


def _summary(record: ExchangeRecord) -> dict[str, Any]:
    exchange = record.exchange
    return {
        "exchange": record.id,
        "run": record.run,
        "suite": record.suite,
        "case": record.case,
        "step": record.step,
        "operation": record.operation,
        "method": exchange.request.method if exchange else None,
        "url": exchange.request.url if exchange else None,
        "status": record.status or None,
        "verdict": record.verdict,
        "reason": record.reason,
        "findings": [result.kind for result in record.results if result.is_finding],
    }
