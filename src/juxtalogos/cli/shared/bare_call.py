"""`call --url`: a request of no contract. It is shown and kept; nothing is proven by it."""

from __future__ import annotations

import asyncio
from collections.abc import Iterable
from pathlib import Path

from juxtalogos.cli.shared.calling import BODY_LINES, exchange_data, show_exchange
from juxtalogos.cli.shared.options import EXIT_HELD, EXIT_NO_ANSWER
from juxtalogos.cli.shared.terminal import Terminal
from juxtalogos.exchange.redact import Redactor, carried_secrets
from juxtalogos.exchange.transport import Transport, TransportOptions
from juxtalogos.ledger import ExchangeRecord, open_ledger
from juxtalogos.model.errors import UsageError
from juxtalogos.model.exchange import Exchange, Headers, Request
from juxtalogos.model.verdict import Verdict
from juxtalogos.workspace.config import check_url
from juxtalogos.workspace.workspace import find_workspace


def call_url(
    out: Terminal,
    request: Request,
    options: TransportOptions,
    folder: Path,
    hidden: Iterable[str] = (),
    *,
    keep: bool,
    json: bool,
    raw: bool,
) -> int:
    """Sends a request of no contract, shows and keeps it; gives the exit status. `hidden` are the secrets in
    it.
    """

    async def send() -> Exchange:
        async with Transport(options) as transport:
            return await transport.send(request)

    exchange = asyncio.run(send())
    redactor = Redactor.of((*hidden, *carried_secrets(exchange)))
    shown = redactor.exchange(exchange)
    verdict = Verdict.UNPROVEN if exchange.response else Verdict.ERROR
    reason = "no contract declares the response" if exchange.response else redactor.text(exchange.error)
    number = _keep(folder, shown, verdict, reason) if keep else 0
    if json:
        out.json(
            {
                "version": 1,
                "operation": None,
                "verdict": verdict,
                "reason": reason,
                "exchange": number or None,
                **exchange_data(shown),
                "checks": [],
            }
        )
    else:
        show_exchange(out, shown, raw=raw, limit=0 if out.verbose else BODY_LINES)
        out.line()
        out.line((verdict, verdict), f"  {reason}", (f"   exchange {number}" if number else "", "note"))
    return EXIT_HELD if exchange.response else EXIT_NO_ANSWER


def bare_request(url: str, method: str, headers: Headers, body: bytes | None) -> Request:
    """The request of a URL; UsageError when method or URL cannot be used."""
    if not method.isascii() or not method.isalpha():
        raise UsageError("not a method", mend="write --method GET, for example")
    check_url(url.partition("?")[0])
    return Request(method.upper(), url.partition("#")[0], headers, body)


def _keep(folder: Path, exchange: Exchange, verdict: Verdict, reason: str) -> int:
    """In the ledger of the workspace, where there is one."""
    try:
        home = find_workspace(folder)
    except UsageError:
        return 0
    record = ExchangeRecord("", "", "", "", exchange, verdict, reason)
    with open_ledger(home.ledger_path, write=True) as ledger:
        run = ledger.begin("call", "url", f"{exchange.request.method} {exchange.request.url}")
        number = ledger.add(run, [record])[0]
        ledger.end(run, verdict)
    return number
