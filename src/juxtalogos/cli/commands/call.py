"""`call`: fill, send one exchange, show it and its verdict."""

from __future__ import annotations

import argparse
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

from juxtalogos.cli.shared.calling import tell_misfits
from juxtalogos.cli.shared.earlier import Linked, split_settings
from juxtalogos.cli.shared.made_call import MadeCall, inputs_sent, may_be_saved, remember, save
from juxtalogos.cli.shared.options import (
    EXIT_FAILED,
    EXIT_HELD,
    EXIT_NO_ANSWER,
    Arguments,
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
    asked_again,
    hidden,
    keep_exchange,
    send_as_it_stands,
    send_once,
    show_outcome,
)
from juxtalogos.cli.shared.targeting import add_agreement, agreed, show_target
from juxtalogos.compose.filling import filled, known_given, misfits, settings_given
from juxtalogos.exchange.redact import is_credential
from juxtalogos.exchange.transport import TransportOptions
from juxtalogos.formats import wire_of
from juxtalogos.formats.http.outcomes import reads_only
from juxtalogos.model.contract import Contract, Operation
from juxtalogos.model.errors import LedgerError, UsageError, quoted
from juxtalogos.model.exchange import Exchange, Request
from juxtalogos.model.verdict import Verdict
from juxtalogos.model.wire import Inputs
from juxtalogos.run.judging.judge import Judgement
from juxtalogos.run.target.session import Identity, Session, open_session
from juxtalogos.run.target.system import up_for_calls
from juxtalogos.suite.document.links import StepLink
from juxtalogos.suite.document.outcomes import FORMS, criteria_of
from juxtalogos.suite.document.saving import place_of
from juxtalogos.suite.inputs import values_of
from juxtalogos.workspace import secrets
from juxtalogos.workspace.config import GIVEN, Target
from juxtalogos.workspace.trust import Grant, Trust
from juxtalogos.workspace.workspace import find_workspace

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
    parser.add_argument("--method", default="GET", help="with --url: the method (GET)")
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


class _CallArguments(Arguments):
    operation: str
    url: str
    method: str
    contract: str
    ask: bool
    each_media: bool
    at: list[str]
    target: str | None
    yes_to: str
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
    trust: str
    sends: list[str]


def run(args: _CallArguments) -> int:
    if args.contract and not (args.url and args.save):
        raise UsageError("--contract is for calls of a URL", mend="give it with --url and --save")
    if args.url:
        return _call_and_keep_url(args) if args.save else _call_url(args)
    if not args.operation:
        raise UsageError(
            "no operation given", mend="name one that `juxtalogos show` lists, or give --url URL"
        )
    home = workspace(args)
    contract, operation = home.operation(args.operation)
    target = home.target(args.target, [contract.name])
    target = agreed(target, args.yes_to, writes=not operation.safe)
    session = _session(args, home, contract, operation, target)
    show_target(terminal(args), session)
    with up_for_calls(session, Trust(home.root, Grant.of(args.trust, args.sends)), home.root):
        return _call(args, home, session, contract, operation)


def _call(
    args: _CallArguments, home: Workspace, session: Session, contract: Contract, operation: Operation
) -> int:
    out, links, typed, named = terminal(args), list[StepLink](), list[str](), dict[str, str]()
    if args.message:
        exchange = _send_message(args, session, contract, operation)
        inputs = inputs_sent(out, session, contract, operation, exchange) if args.save else None
    else:
        inputs, linked, typed, named = _inputs(args, home, session, contract, operation)
        if args.save:
            links = [one.link(*place_of(args.save)) for one in linked]
        if args.each_media:
            return _call_each(args, home, session, contract, operation, inputs)
        exchange = _send(args, session, contract, operation, inputs)
    judgement, number = _told(args, home, session, contract, operation, exchange)
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
    return _exit_status(judgement)


def _session(
    args: _CallArguments, home: Workspace, contract: Contract, operation: Operation, target: Target
) -> Session:
    """Who calls whom; what is mistyped about saving is refused here, before anything is sent."""
    session = open_session(
        {contract.name: contract},
        target,
        home.root,
        with_credentials=not args.no_credentials,
        config=home.config,
        identity=Identity(args.role, tuple(args.credential), tuple(_apart(args.header))),
        grant=Grant.of(args.trust, args.sends),
    )
    if args.at:
        session = replace(
            session,
            options=replace(session.options, addresses={**session.options.addresses, **_addresses(args.at)}),
        )
    if args.save:
        place_of(args.save)
    if args.expect:
        criteria_of(args.expect, wire_of(contract), operation)
    return session


def _told(
    args: _CallArguments,
    home: Workspace,
    session: Session,
    contract: Contract,
    operation: Operation,
    exchange: Exchange,
) -> tuple[Judgement, int]:
    """The judgement of an exchange and its number, both shown."""
    if (
        exchange.response is None
        and session.target.system
        and not Trust(home.root, Grant.of(args.trust, ())).runs
    ):
        told = (
            f"the system of target {session.target.name} was not started: its commands are "
            "not trusted (juxtalogos trust)"
        )
        terminal(args).note((told, "remark"))
    asked = asked_again(session, contract, operation, exchange, session.judged(contract, operation, exchange))
    judgement = hidden(session, asked)
    number, unkept = 0, None
    try:
        number = 0 if args.trial else keep_exchange(home, session, operation, exchange, judgement)
    except LedgerError as error:  # it was sent: what came back is shown whatever becomes of it
        unkept = error
    shown = session.redactor.exchange(exchange)
    show_outcome(terminal(args), contract, operation, shown, judgement, number, json=args.json, raw=args.raw)
    if unkept is not None:
        raise unkept
    return judgement, number


def _call_and_keep_url(args: _CallArguments) -> int:
    from juxtalogos.cli.shared.message_call import drafted_call

    if args.operation or args.message or args.ask or args.each_media or args.full or args.unchecked:
        raise UsageError(
            "--url sends a request without a contract",
            mend="give it --method, --header, --set and --body-file only",
        )
    home, out, headers = workspace(args), terminal(args), [header_field(one) for one in args.header]
    body = _body_file(args)
    draft = drafted_call(
        home, args.url, args.method, headers, body, args.settings, args.contract, args.target
    )
    contract, operation = draft.contract, draft.operation
    draft = replace(draft, target=agreed(draft.target, args.yes_to, writes=not operation.safe))
    session = _session(args, home, contract, operation, draft.target)
    exchange = _send(args, session, contract, operation, draft.inputs)
    judgement, number = _told(args, home, session, contract, operation, exchange)
    if body and session.redactor.body(body) != body:
        out.note(("not saved: the body contains a secret, and messages are kept unchanged", "remark"))
    elif args.save and may_be_saved(out, exchange):
        draft.keep(home)
        out.note(f"kept as {draft.operation.full_id}: definitions/{contract.name}/{draft.file}")
        call = MadeCall(home, session, contract, operation, draft.inputs, exchange)
        save(out, call, judgement, number, args.save, links=[], role=args.role, expect=args.expect)
    return _exit_status(judgement)


def _call_url(args: _CallArguments) -> int:
    from juxtalogos.cli.shared.bare_call import bare_request, call_url

    if (
        args.operation
        or args.settings
        or args.message
        or args.ask
        or args.each_media
        or args.role
        or args.credential
    ):
        raise UsageError(
            "--url sends a request without a contract", mend="give it --method, --header and --body-file only"
        )
    given = [
        (name, *secrets.filled(text, f"--header {name}")) for name, text in map(header_field, args.header)
    ]
    headers = tuple((name, text) for name, text, _ in given)
    hidden = [secret for _, _, secret in given if secret]
    request = bare_request(args.url, args.method, headers, _body_file(args))
    _agree_to(args, request)
    options = TransportOptions(addresses=_addresses(args.at))
    return call_url(
        terminal(args),
        request,
        options,
        args.directory,
        hidden,
        keep=not args.trial,
        json=args.json,
        raw=args.raw,
    )


def _agree_to(args: _CallArguments, request: Request) -> None:
    """UsageError for a request of no contract that may change something at a guarded target's address."""
    try:
        guarded = find_workspace(args.directory).guarded_at(request.url)
    except UsageError:
        return  # outside a workspace nothing is guarded
    agreed(Target(GIVEN, guarded=guarded), args.yes_to, writes=not reads_only(request))


def _addresses(texts: list[str]) -> dict[str, str]:
    pairs = [text.partition("=")[::2] for text in texts]
    for host, address in pairs:
        if not host or not address or any(char.isspace() for char in host + address):
            raise UsageError(f"{quoted(host)} has no address", mend="write --at merrow.example=10.0.0.4:8443")
    return dict(pairs)


def _call_each(
    args: _CallArguments,
    home: Workspace,
    session: Session,
    contract: Contract,
    operation: Operation,
    inputs: Inputs,
) -> int:
    from juxtalogos.cli.shared.media_calls import MediaCall, call_each

    def call(media_type: str) -> MediaCall:
        one = replace(inputs, values={**inputs.values, "header.Accept": media_type})
        exchange = _send(args, session, contract, operation, one)
        judgement = hidden(session, session.judged(contract, operation, exchange))
        number = 0 if args.trial else keep_exchange(home, session, operation, exchange, judgement)
        return MediaCall(media_type, session.redactor.exchange(exchange), judgement, number)

    return call_each(terminal(args), operation, call, json=args.json)


def _exit_status(judgement: Judgement) -> int:
    if judgement.verdict is Verdict.ERROR:
        return EXIT_NO_ANSWER
    return EXIT_FAILED if judgement.verdict is Verdict.FAILED else EXIT_HELD


def _inputs(
    args: _CallArguments, home: Workspace, session: Session, contract: Contract, operation: Operation
) -> tuple[Inputs, list[Linked], list[str], dict[str, str]]:
    """(the inputs, those that came from earlier exchanges, the addresses of those that were typed, and by
    address the parameters that gave a value).
    """
    apart = set(_apart(args.header))
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
        inputs = Asker(terminal(args), contract).inputs(operation, inputs)
        answered = (at for at, value in values_of(inputs) if offered.get(at) != value)
        typed = {**dict.fromkeys(answered), **typed}
    if given or args.ask:
        tell_misfits(terminal(args), map(session.redactor.text, misfits(contract, operation, inputs)))
    values = {**inputs.values, **{f"header.{name}": value for name, value in headers.items()}}
    body = _body_file(args)
    inputs = replace(inputs, values=values, body=inputs.body if body is None else body)
    return inputs, linked, list(typed), named


def _apart(texts: list[str]) -> list[tuple[str, str]]:
    """The header fields that carry a secret: they are no inputs, and are never saved."""
    return [
        (name, text) for name, text in map(header_field, texts) if secrets.refers(text) or is_credential(name)
    ]


def _body_file(args: _CallArguments) -> bytes | None:
    return _file_given(args.body_file, "body file") if args.body_file else None


def _file_given(path: Path, what: str) -> bytes:
    try:
        return path.read_bytes()
    except OSError as error:
        raise UsageError(
            f"the {what} cannot be read: {error.strerror}",
            where=str(path),
            mend="check its path and permissions",
        ) from None


def _send(
    args: _CallArguments, session: Session, contract: Contract, operation: Operation, inputs: Inputs
) -> Exchange:
    request = session.encoded(contract, operation, inputs, loose=args.unchecked)
    missing = session.unmet(contract, operation)
    if missing and not args.no_credentials:
        terminal(args).note(
            (
                (
                    f"sent without {', '.join(missing)}: the target {session.target.name} has no such"
                    " credential; "
                ),
                "remark",
            ),
            f"set it: {session.sign_in_command(missing[0])}",
        )

    return send_once(session, contract, operation, request)


def _send_message(
    args: _CallArguments, session: Session, contract: Contract, operation: Operation
) -> Exchange:
    assert args.message is not None
    data = _file_given(args.message, "message")
    session.permit(operation)
    if args.settings or args.body_file or len(args.header) > len(_apart(args.header)):
        raise UsageError(
            "a message is sent unchanged", mend="put values, body and headers into the message itself"
        )
    return send_as_it_stands(session, contract, operation, data, str(args.message))
