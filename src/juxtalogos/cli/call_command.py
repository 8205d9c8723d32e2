"""`call`: fill, send one exchange, show it and its verdict."""

from __future__ import annotations

import argparse
import asyncio
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

from juxtalogos.cli.calling import (
    BODY_LINES,
    exchange_data,
    result_data,
    show_exchange,
    show_results,
    tell_misfits,
)
from juxtalogos.cli.earlier import Linked, split_settings
from juxtalogos.cli.options import (
    EXIT_FAILED,
    EXIT_HELD,
    EXIT_NO_ANSWER,
    Arguments,
    add_common,
    add_identity,
    add_target,
    add_unchecked,
    header_field,
    terminal,
    workspace,
)
from juxtalogos.compose.filling import filled, misfits, settings_given
from juxtalogos.exchange.redact import is_credential
from juxtalogos.exchange.transport import Transport, TransportOptions
from juxtalogos.formats import wire_of
from juxtalogos.ledger import ExchangeRecord, open_ledger
from juxtalogos.model.contract import Contract, Operation
from juxtalogos.model.errors import UsageError, quoted
from juxtalogos.model.exchange import Exchange
from juxtalogos.model.verdict import Verdict
from juxtalogos.model.wire import Inputs
from juxtalogos.run.judge import Judgement
from juxtalogos.run.session import Identity, Session, open_session
from juxtalogos.suite.document.outcomes import FORMS, criteria_of, outcome_seen
from juxtalogos.suite.document.saving import place_of, save_call
from juxtalogos.workspace import secrets

if TYPE_CHECKING:
    from juxtalogos.workspace.workspace import Workspace

DESCRIPTION = """\
Send one request of an operation and show the exchange, every check made on it, and the verdict. Required inputs
that are not set take valid sample values. With --message an edited HTTP/1.1 message is sent as it stands; only a
missing Content-Length and the target's credentials are added. A value may come from an earlier exchange
(ADDRESS=@EXCHANGE#/path); when the call is saved, it stays a link between the steps. With --url a request is sent
that no contract knows of: it is shown and kept, and proves nothing."""
EXAMPLE = """\
  juxtalogos call getPortCall --set callId=PC-1004
  juxtalogos call announcePortCall --set body/vessel/name=Tern --save first#announce
  juxtalogos call announcePortCall --message announce.http
  juxtalogos call allotBerth --set callId=@17#/callId --ask
  juxtalogos call --url http://127.0.0.1:8480/v1/berths --method HEAD
"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "operation", nargs="?", default="", metavar="OPERATION", help="an operation's id, as `show` lists it"
    )
    add_target(parser)
    add_identity(parser)
    parser.add_argument("--url", default="", help="send to this URL, without a contract")
    parser.add_argument("--method", default="GET", help="with --url: the method (GET)")
    parser.add_argument(
        "--set",
        dest="settings",
        action="append",
        default=[],
        metavar="ADDRESS=VALUE",
        help="an input's value, such as query.limit=5 or body/vessel/name=Tern; @17#/id takes it from exchange 17",
    )
    add_unchecked(parser)
    parser.add_argument("--ask", action="store_true", help="ask for each input, with what is allowed")
    parser.add_argument("--body-file", type=Path, metavar="FILE", help="send this file's bytes as the body")
    parser.add_argument("--message", type=Path, metavar="FILE", help="send this HTTP/1.1 message as it stands")
    parser.add_argument("--full", action="store_true", help="fill in optional inputs too")
    parser.add_argument(
        "--each-media", action="store_true", help="call once for each declared media type and compare the values"
    )
    parser.add_argument(
        "--at",
        action="append",
        default=[],
        metavar="HOST=ADDRESS",
        help="connect to this address for a host name; Host and TLS name stay",
    )
    parser.add_argument("--raw", action="store_true", help="show bodies as they came")
    parser.add_argument("--save", metavar="SUITE#CASE", help="append the call as a step of a case, to come out alike")
    parser.add_argument(
        "--expect",
        default="",
        metavar="OUTCOME",
        help=f"with --save: what the step is to come to, where it is not what came now: {FORMS}",
    )
    parser.add_argument("--trial", action="store_true", help="keep the exchange out of the ledger")
    add_common(parser)


class _CallArguments(Arguments):
    operation: str
    url: str
    method: str
    ask: bool
    each_media: bool
    at: list[str]
    target: str | None
    role: str
    credential: list[str]
    no_credentials: bool
    settings: list[str]
    unchecked: bool
    body_file: Path | None
    header: list[str]
    message: Path | None
    full: bool
    raw: bool
    save: str | None
    expect: str
    trial: bool


def run(args: _CallArguments) -> int:
    if args.url:
        return _call_url(args)
    if not args.operation:
        raise UsageError("no operation is given", mend="name one that `juxtalogos show` lists, or give --url URL")
    home = workspace(args)
    contract, operation = home.operation(args.operation)
    target = home.target(args.target, [contract.name])
    session = open_session(
        {contract.name: contract},
        target,
        home.root,
        with_credentials=not args.no_credentials,
        config=home.config,
        identity=Identity(args.role, tuple(args.credential), tuple(_apart(args.header))),
    )
    if args.at:
        session = replace(
            session, options=replace(session.options, addresses={**session.options.addresses, **_addresses(args.at)})
        )
    if args.save:
        place_of(args.save)
    if args.expect:
        criteria_of(args.expect, operation)  # what is no outcome is refused before anything is sent
    inputs, links = None, []
    if args.message:
        exchange = _send_message(args, session, contract, operation)
    else:
        inputs, linked = _inputs(args, home, session, contract, operation)
        if args.save:
            links = [one.link(*place_of(args.save)) for one in linked]
        if args.each_media:
            return _call_each(args, home, session, contract, operation, inputs)
        exchange = _send(args, session, contract, operation, inputs)
    home.remember_target(target, [contract.name])
    judgement = _asked_again(session, contract, operation, exchange, session.judged(contract, operation, exchange))
    number = 0 if args.trial else _keep(home, session, operation, exchange, judgement)
    _show(args, contract, operation, session.redactor.exchange(exchange), judgement, number)
    if args.save and inputs is not None and exchange.response is None:
        terminal(args).note(("not saved: no answer came, so there is nothing to hold it to", "remark"))
    elif args.save and inputs is not None:
        outcome = args.expect or outcome_seen(operation, exchange, judgement.answer)
        criteria = criteria_of(outcome, operation)
        path, step = save_call(home.suites, args.save, contract, operation, inputs, links, args.role, criteria)
        if number:
            with open_ledger(home.ledger_path, write=True) as ledger:
                ledger.assign(number, *place_of(args.save), step)
        expected = "any answer will do" if outcome == "any" else f"it is to come to {outcome} again"
        terminal(args).note(f"saved in {path} as step {step}; {expected}")
    return _exit_status(judgement)


def _call_url(args: _CallArguments) -> int:
    from juxtalogos.cli.bare_call import bare_request, call_url

    if args.operation or args.settings or args.save or args.message or args.ask or args.each_media or args.role or args.credential:  # fmt: skip
        raise UsageError("--url sends a request of no contract", mend="give it --method, --header and --body-file only")
    given = [(name, *secrets.filled(text, f"--header {name}")) for name, text in map(header_field, args.header)]
    headers = tuple((name, text) for name, text, _ in given)
    hidden = [secret for _, _, secret in given if secret]
    request = bare_request(args.url, args.method, headers, _body_file(args))
    options = TransportOptions(addresses=_addresses(args.at))
    return call_url(
        terminal(args), request, options, args.directory, hidden, keep=not args.trial, json=args.json, raw=args.raw
    )


def _addresses(texts: list[str]) -> dict[str, str]:
    pairs = [text.partition("=")[::2] for text in texts]
    for host, address in pairs:
        if not host or not address or any(char.isspace() for char in host + address):
            raise UsageError(f"{quoted(host)} has no address", mend="write --at merrow.example=10.0.0.4:8443")
    return dict(pairs)


def _call_each(
    args: _CallArguments, home: Workspace, session: Session, contract: Contract, operation: Operation, inputs: Inputs
) -> int:
    from juxtalogos.cli.media_calls import MediaCall, call_each

    def call(media_type: str) -> MediaCall:
        one = replace(inputs, values={**inputs.values, "header.Accept": media_type})
        exchange = _send(args, session, contract, operation, one)
        judgement = session.judged(contract, operation, exchange)
        number = 0 if args.trial else _keep(home, session, operation, exchange, judgement)
        return MediaCall(media_type, session.redactor.exchange(exchange), judgement, number)

    return call_each(terminal(args), operation, call, json=args.json)


def _exit_status(judgement: Judgement) -> int:
    if judgement.verdict is Verdict.ERROR:
        return EXIT_NO_ANSWER
    return EXIT_FAILED if judgement.verdict is Verdict.FAILED else EXIT_HELD


def _inputs(
    args: _CallArguments, home: Workspace, session: Session, contract: Contract, operation: Operation
) -> tuple[Inputs, list[Linked]]:
    apart = set(_apart(args.header))
    headers = dict(pair for pair in map(header_field, args.header) if pair not in apart)
    content_type = next((value for name, value in headers.items() if name.lower() == "content-type"), "")
    settings, linked = split_settings(home, operation, args.settings)
    given = settings_given(wire_of(contract), operation, settings, content_type)
    given |= {one.address: one.value for one in linked}
    inputs = filled(contract, operation, given, full=args.full, content_type=content_type, unchecked=args.unchecked)
    if args.ask:
        from juxtalogos.cli.asking import Asker

        inputs = Asker(terminal(args), contract).inputs(operation, inputs)
    if given or args.ask:
        tell_misfits(terminal(args), map(session.redactor.text, misfits(contract, operation, inputs)))
    values = {**inputs.values, **{f"header.{name}": value for name, value in headers.items()}}
    body = _body_file(args)
    return replace(inputs, values=values, body=inputs.body if body is None else body), linked


def _apart(texts: list[str]) -> list[tuple[str, str]]:
    """The header fields that carry a secret: they are no inputs, and are never saved."""
    return [(name, text) for name, text in map(header_field, texts) if secrets.refers(text) or is_credential(name)]


def _body_file(args: _CallArguments) -> bytes | None:
    try:
        return args.body_file.read_bytes() if args.body_file else None
    except OSError as error:
        raise UsageError(f"the body file cannot be read: {error.strerror}", where=str(args.body_file)) from None


def _send(args: _CallArguments, session: Session, contract: Contract, operation: Operation, inputs: Inputs) -> Exchange:
    request = session.encoded(contract, operation, inputs, loose=args.unchecked)
    missing = session.unmet(contract, operation)
    if missing and not args.no_credentials:
        terminal(args).note(
            (f"sent without {', '.join(missing)}: the target {session.target.name} has no such credential; ", "remark"),
            f"set it: {session.sign_in_command(missing[0])}",
        )

    async def send() -> Exchange:
        async with Transport(session.options) as transport:
            exchange = await session.send(contract, operation, request, transport)
            if session.signed_in_vain(contract, operation, exchange):
                exchange = await session.send(contract, operation, request, transport)
            return exchange

    return asyncio.run(send())


def _asked_again(
    session: Session, contract: Contract, operation: Operation, exchange: Exchange, judgement: Judgement
) -> Judgement:
    """The judgement after the service was asked about what is doubtful, where its protocol knows such a question."""
    from juxtalogos.run.conversing import Conversations, conversed

    async def ask() -> Judgement:
        async with Transport(session.options) as transport:
            told = operation, exchange, judgement
            return (await conversed(session, Conversations(), contract, operation, told, transport, pages=0))[0]

    return asyncio.run(ask())


def _send_message(args: _CallArguments, session: Session, contract: Contract, operation: Operation) -> Exchange:
    from juxtalogos.exchange.message import parse_request, ready_message
    from juxtalogos.exchange.transport import send_message

    assert args.message is not None
    try:
        data = args.message.read_bytes()
    except OSError as error:
        raise UsageError(f"the message cannot be read: {error.strerror}", where=str(args.message)) from None
    if args.save:
        raise UsageError("a message cannot be saved as a step", mend="call with --set and --body-file, and --save that")
    if args.settings or args.body_file or len(args.header) > len(_apart(args.header)):
        raise UsageError("a message is sent as it stands", mend="put values, body and headers into the message itself")
    base = session.base_url(contract)
    request = parse_request(data, base, str(args.message))

    async def send() -> Exchange:
        async with Transport(session.options) as transport:
            signed = await session.signed(contract, operation, replace(request, url=base), transport)
        extra = tuple(pair for pair in signed.headers if pair not in request.headers)
        return await send_message(ready_message(data, extra), base, session.options)

    return asyncio.run(send())


def _keep(home: Workspace, session: Session, operation: Operation, exchange: Exchange, judgement: Judgement) -> int:
    redacted = session.redactor.exchange(exchange)
    results = tuple(session.redactor.result(result) for result in judgement.results)
    record = ExchangeRecord(
        "", "", operation.contract, operation.id, redacted, judgement.verdict, judgement.reason, results, judgement.hits,
        role=session.role,
    )  # fmt: skip
    with open_ledger(home.ledger_path, write=True) as ledger:
        number = ledger.begin("call", session.target.name, operation.full_id)
        exchange_number = ledger.add(number, [record])[0]
        ledger.end(number, judgement.verdict)
    return exchange_number


def _show(
    args: _CallArguments,
    contract: Contract,
    operation: Operation,
    exchange: Exchange,
    judgement: Judgement,
    number: int,
) -> None:
    out = terminal(args)
    if args.json:
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
    show_exchange(out, exchange, raw=args.raw, limit=0 if args.verbose else BODY_LINES)
    out.line()
    show_results(out, judgement.results, contract.documents)
    kept = f"   exchange {number}" if number else ""
    out.line(
        (judgement.verdict, judgement.verdict),
        f"  {operation.id}",
        f": {judgement.reason}" if judgement.reason else "",
        (kept, "note"),
    )
