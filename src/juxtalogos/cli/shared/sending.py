"""One exchange: sent, asked about where the protocol knows such a question, kept, shown."""

from __future__ import annotations

import asyncio
from dataclasses import replace

from juxtalogos.cli.shared.calling import BODY_LINES, exchange_data, result_data, show_exchange, show_results
from juxtalogos.cli.shared.terminal import Terminal
from juxtalogos.exchange.transport import Transport
from juxtalogos.ledger import ExchangeRecord, open_ledger
from juxtalogos.model.contract import Contract, Operation
from juxtalogos.model.exchange import Exchange, Request
from juxtalogos.run.judging.judge import Judgement
from juxtalogos.run.target.session import Session
from juxtalogos.workspace.workspace import Workspace


def send_once(session: Session, contract: Contract, operation: Operation, request: Request) -> Exchange:
    """Sends it once."""

    async def send() -> Exchange:
        async with Transport(session.options) as transport:
            return await session.send(contract, operation, request, transport)

    return asyncio.run(send())


def send_as_it_stands(
    session: Session, contract: Contract, operation: Operation, message: bytes, where: str
) -> Exchange:
    """Sends an HTTP/1.1 message, signed. UsageError at `where` for one that cannot be read."""
    from juxtalogos.exchange.message import parse_request, ready_message
    from juxtalogos.exchange.transport import send_message

    base = session.base_url(contract)
    request = parse_request(message, base, where)

    async def send() -> Exchange:
        async with Transport(session.options) as transport:
            signed = await session.signed(contract, operation, replace(request, url=base), transport)
        extra = tuple(pair for pair in signed.headers if pair not in request.headers)
        return await send_message(ready_message(message, extra), base, session.options)

    return asyncio.run(send())


def asked_again(
    session: Session, contract: Contract, operation: Operation, exchange: Exchange, judgement: Judgement
) -> Judgement:
    """The judgement after the service was asked about what is doubtful, where its protocol knows such a
    question.
    """
    from juxtalogos.run.engine.conversing import Conversations, conversed

    async def ask() -> Judgement:
        async with Transport(session.options) as transport:
            told = operation, exchange, judgement
            return (await conversed(session, Conversations(), contract, operation, told, transport, pages=0))[
                0
            ]

    return asyncio.run(ask())


def hidden(session: Session, judgement: Judgement) -> Judgement:
    """The judgement as it may be shown and kept."""
    results = tuple(session.redactor.result(result) for result in judgement.results)
    return replace(judgement, results=results, reason=session.redactor.cut_text(judgement.reason))


def keep_exchange(
    home: Workspace, session: Session, operation: Operation, exchange: Exchange, judgement: Judgement
) -> int:
    """Keeps it in the ledger, redacted; gives its number."""
    redacted, *forms = session.redactor.exchange_with_forms(exchange)
    record = ExchangeRecord(
        "",
        "",
        operation.contract,
        operation.id,
        redacted,
        judgement.verdict,
        judgement.reason,
        judgement.results,
        judgement.hits,
        role=session.role,
        request_form=forms[0],
        response_form=forms[1],
    )
    with open_ledger(home.ledger_path, write=True) as ledger:
        number = ledger.begin("call", session.target.name, operation.full_id)
        exchange_number = ledger.add(number, [record])[0]
        ledger.end(number, judgement.verdict)
    return exchange_number


def show_outcome(
    out: Terminal,
    contract: Contract,
    operation: Operation,
    exchange: Exchange,
    judgement: Judgement,
    number: int,
    *,
    json: bool,
    raw: bool,
) -> None:
    """An exchange, redacted, with all that was checked and its verdict."""
    if json:
        results = [result_data(result, contract.documents) for result in judgement.results]
        out.json(
            {
                "version": 1,
                "operation": operation.full_id,
                "verdict": judgement.verdict,
                "reason": judgement.reason,
                "exchange": number or None,
                **exchange_data(exchange),
                "checks": results,
            }
        )
        return
    show_exchange(out, exchange, raw=raw, limit=0 if out.verbose else BODY_LINES)
    out.line()
    show_results(out, judgement.results, contract.documents)
    kept = f"   exchange {number}" if number else ""
    out.line(
        (judgement.verdict, judgement.verdict),
        f"  {operation.id}",
        f": {judgement.reason}" if judgement.reason else "",
        (kept, "note"),
    )
