"""`call`: fill, send one exchange, show it and its verdict."""

from __future__ import annotations

import argparse
from collections.abc import Iterator
from dataclasses import dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING

from juxtalogos.cli.shared.calling import BODY_LINES, body_text, tell_misfits
from juxtalogos.cli.shared.earlier import Linked, split_settings
from juxtalogos.cli.shared.made_call import MadeCall, inputs_sent, may_be_saved, remember, save
from juxtalogos.cli.shared.one_call import (
    CallArguments,
    body_file,
    exit_status,
    has_made_up,
    judged_and_kept,
    kept_apart,
    send,
    send_message,
    session_of,
)
from juxtalogos.cli.shared.options import (
    add_common,
    add_grant,
    add_identity,
    add_target,
    add_unchecked,
    header_field,
    terminal,
    workspace,
)
from juxtalogos.cli.shared.parameters import known_values, split_named
from juxtalogos.cli.shared.sending import (
    hidden,
    keep_exchange,
)
from juxtalogos.cli.shared.targeting import add_agreement, agreed, show_target
from juxtalogos.cli.shared.url_calls import call_and_keep_url, call_bare_url
from juxtalogos.compose.filling import filled, known_given, misfits, settings_given
from juxtalogos.formats import wire_of
from juxtalogos.model.contract import Contract, Operation
from juxtalogos.model.errors import UsageError
from juxtalogos.model.exchange import Exchange, Timings
from juxtalogos.model.schema import ABSENT
from juxtalogos.model.wire import Inputs
from juxtalogos.run.target.session import Session
from juxtalogos.run.target.system import up_for_calls
from juxtalogos.suite.document.links import StepLink
from juxtalogos.suite.document.outcomes import FORMS
from juxtalogos.suite.document.saving import place_of
from juxtalogos.suite.inputs import values_of
from juxtalogos.workspace.trust import Grant, Trust

if TYPE_CHECKING:
    from juxtalogos.workspace.workspace import Workspace

DESCRIPTION = """\
Send one request and show the exchange, every check and the verdict. Required inputs that you do not
set get valid sample values.

A value can come from an earlier exchange (ADDRESS=@EXCHANGE#/path); --save keeps it as a link
between the steps. --message sends an edited HTTP/1.1 message unchanged, except that a missing
Content-Length and the target's credentials are added.

--url sends a request without a contract. It is shown and stored, and proves nothing. With --save it
becomes a message of a new contract in definitions/, and a step like any other."""
EXAMPLE = """\
  juxtalogos call getPortCall --set callId=PC-1004
  juxtalogos call announcePortCall --set body/vessel/name=Tern --save first#announce
  juxtalogos call announcePortCall --message announce.http
  juxtalogos call allotBerth --set callId=@17#/callId --ask
  juxtalogos call --url http://127.0.0.1:8480/v1/berths --method HEAD
  juxtalogos call --url http://127.0.0.1:8480/v1/berths/{berth} --set berth=B-12 --save desk#look
"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "operation", nargs="?", default="", metavar="OPERATION", help="an operation's id, as `show` lists it"
    )
    add_target(parser)
    add_agreement(parser)
    add_identity(parser)
    add_grant(parser)
    parser.add_argument("--url", default="", help="send to this URL, without a contract")
    parser.add_argument(
        "--method", default="", help="with --url: the method (GET; POST where there is a body file)"
    )
    parser.add_argument(
        "--contract",
        default="",
        metavar="NAME",
        help="with --url and --save: the contract of messages to add the call to",
    )
    parser.add_argument(
        "--set",
        dest="settings",
        action="append",
        default=[],
        metavar="ADDRESS=VALUE",
        help=(
            "an input's value, such as query.limit=5 or body/vessel/name=Tern; @17#/id takes it from"
            " exchange 17, $inputs.NAME from a parameter"
        ),
    )
    add_unchecked(parser)
    parser.add_argument("--ask", action="store_true", help="ask for each input and show its allowed values")
    parser.add_argument("--body-file", type=Path, metavar="FILE", help="send this file's bytes as the body")
    parser.add_argument("--message", type=Path, metavar="FILE", help="send this HTTP/1.1 message unchanged")
    parser.add_argument("--full", action="store_true", help="also fill in optional inputs")
    parser.add_argument(
        "--each-media",
        action="store_true",
        help="call once for each declared media type and compare the values",
    )
    parser.add_argument(
        "--at",
        action="append",
        default=[],
        metavar="HOST=ADDRESS",
        help="connect to this address for a host name; Host and TLS name stay",
    )
    parser.add_argument("--raw", action="store_true", help="show bodies unformatted")
    parser.add_argument(
        "--save",
        metavar="SUITE#CASE",
        help="append the call as a step of a case that expects the same outcome",
    )
    parser.add_argument(
        "--expect",
        default="",
        metavar="OUTCOME",
        help=f"with --save: the expected outcome, if it is not the one received: {FORMS}",
    )
    parser.add_argument("--trial", action="store_true", help="keep the exchange out of the ledger")
    add_common(parser)


def run(args: CallArguments) -> int:
    if args.contract and not (args.url and args.save):
        raise UsageError("--contract is for calls of a URL", mend="give it with --url and --save")
    if args.url:
        return call_and_keep_url(args) if args.save else call_bare_url(args)
    if not args.operation:
        raise UsageError(
            "no operation given", mend="name one that `juxtalogos show` lists, or give --url URL"
        )
    home = workspace(args)
    contract, operation = home.operation(args.operation)
    target = home.target(args.target, [contract.name])
    target = agreed(target, args.yes_to, writes=not operation.safe)
    session = session_of(args, home, contract, operation, target)
    show_target(terminal(args), session.target, session.contracts)
    with up_for_calls(session, Trust(home.root, Grant.of(args.trust, args.sends)), home.root):
        return _call(args, home, session, contract, operation)


@dataclass(frozen=True, slots=True)
class _Filled:
    """The inputs of a call."""

    inputs: Inputs
    linked: list[Linked]
    """Those that came from earlier exchanges."""
    typed: list[str]
    """Addresses of those that were typed or answered."""
    named: dict[str, str]
    """By address, the parameter that gave a value."""
    made_up: bool
    """Whether any is a sample that nobody gave."""


def _call(
    args: CallArguments, home: Workspace, session: Session, contract: Contract, operation: Operation
) -> int:
    out, links, typed, named = terminal(args), list[StepLink](), list[str](), dict[str, str]()
    made_up = False
    if args.message:
        exchange = send_message(args, session, contract, operation)
        inputs = inputs_sent(out, session, contract, operation, exchange) if args.save else None
    else:
        filled_in = _inputs(args, home, session, contract, operation)
        inputs, linked, typed, named = filled_in.inputs, filled_in.linked, filled_in.typed, filled_in.named
        made_up = filled_in.made_up
        if args.save:
            links = [one.link(*place_of(args.save)) for one in linked]
        if args.each_media:
            return _call_each(args, home, session, contract, operation, inputs)
        exchange = send(args, session, contract, operation, inputs)
    judgement, number = judged_and_kept(args, home, session, contract, operation, exchange, made_up=made_up)
    if inputs is not None:
        call = MadeCall(home, session, contract, operation, inputs, exchange)
        if not (args.trial or args.unchecked):
            remember(out, call, typed)
        if args.save and may_be_saved(out, exchange):
            save(
                out,
                call,
                judgement,
                number,
                args.save,
                links=links,
                role=args.role,
                expect=args.expect,
                parameters=named,
            )
    return exit_status(judgement)


def _preview(session: Session, contract: Contract, operation: Operation, inputs: Inputs) -> Iterator[str]:
    """The request that would be sent, in lines without secrets."""
    try:
        request = session.encoded(contract, operation, inputs, loose=True)
    except UsageError as error:
        yield f"it cannot be written: {error.what}"
        return
    shown = session.redactor.exchange(Exchange(request, None, Timings(0.0, 0.0, 0.0))).request
    yield f"{shown.method} {shown.url}"
    yield from (f"{name}: {value}" for name, value in shown.headers)
    if shown.body:
        yield from body_text(shown.body, shown.headers, raw=False).splitlines()[:BODY_LINES]


def _call_each(
    args: CallArguments,
    home: Workspace,
    session: Session,
    contract: Contract,
    operation: Operation,
    inputs: Inputs,
) -> int:
    from juxtalogos.cli.shared.media_calls import MediaCall, call_each

    wire = wire_of(contract)

    def call(media_type: str) -> MediaCall:
        one = replace(inputs, values={**inputs.values, "header.Accept": media_type})
        exchange = send(args, session, contract, operation, one)
        judgement = hidden(session, session.judged(contract, operation, exchange))
        number = 0 if args.trial else keep_exchange(home, session, operation, exchange, judgement)
        answer = judgement.answer
        value = ABSENT if answer is None or answer.value is ABSENT else wire.bare(operation, answer)
        return MediaCall(media_type, session.redactor.exchange(exchange), judgement, number, value)

    return call_each(terminal(args), operation, call, json=args.json)


def _inputs(
    args: CallArguments, home: Workspace, session: Session, contract: Contract, operation: Operation
) -> _Filled:
    """What is sent, and where each value comes from."""
    apart = set(kept_apart(args.header))
    headers = dict(pair for pair in map(header_field, args.header) if pair not in apart)
    content_type = next((value for name, value in headers.items() if name.lower() == "content-type"), "")
    parameters = known_values(home, session.target.variables, args.save or "")
    settings, named = split_named(operation, args.settings, parameters)
    settings, linked = split_settings(home, operation, settings)
    typed = settings_given(wire_of(contract), operation, settings, content_type)
    given = typed | {link.address: link.value for link in linked}
    given |= {address: parameters[name] for address, name in named.items()}
    known = known_given(contract, operation, home.hints(contract.name, session.target), full=args.full)
    inputs = filled(
        contract,
        operation,
        {**known, **given},
        full=args.full,
        content_type=content_type,
        unchecked=args.unchecked,
    )
    if args.ask:
        from juxtalogos.cli.shared.asking import Asker

        offered = dict(values_of(inputs))
        ask = Asker(terminal(args), contract, lambda now: _preview(session, contract, operation, now))
        inputs = ask.inputs(operation, inputs)
        answered = (at for at, value in values_of(inputs) if offered.get(at) != value)
        typed = {**dict.fromkeys(answered), **typed}
    if given or args.ask:
        tell_misfits(terminal(args), map(session.redactor.text, misfits(contract, operation, inputs)))
    values = {**inputs.values, **{f"header.{name}": value for name, value in headers.items()}}
    body = body_file(args)
    inputs = replace(inputs, values=values, body=inputs.body if body is None else body)
    made_up = body is None and has_made_up(inputs, {*known, *given, *typed})
    return _Filled(inputs, linked, list(typed), named, made_up)
