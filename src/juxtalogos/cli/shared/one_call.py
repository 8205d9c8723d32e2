"""One call by hand: who sends it, how it is told and kept."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

from juxtalogos.cli.shared.options import (
    EXIT_FAILED,
    EXIT_HELD,
    EXIT_NO_ANSWER,
    Arguments,
    header_field,
    terminal,
)
from juxtalogos.cli.shared.sending import (
    asked_again,
    hidden,
    keep_exchange,
    send_as_it_stands,
    send_once,
    show_outcome,
)
from juxtalogos.exchange.redact import is_credential
from juxtalogos.formats import wire_of
from juxtalogos.model.contract import Contract, Operation
from juxtalogos.model.errors import LedgerError, UsageError, quoted
from juxtalogos.model.exchange import Exchange
from juxtalogos.model.verdict import Verdict
from juxtalogos.model.wire import Inputs
from juxtalogos.run.judging.judge import Judgement
from juxtalogos.run.judging.refusals import refused_call
from juxtalogos.run.target.session import Identity, Session, open_session
from juxtalogos.suite.document.outcomes import criteria_of
from juxtalogos.suite.document.saving import place_of
from juxtalogos.suite.inputs import values_of
from juxtalogos.workspace import secrets
from juxtalogos.workspace.config import Target
from juxtalogos.workspace.trust import Grant, Trust

if TYPE_CHECKING:
    from juxtalogos.workspace.workspace import Workspace


class CallArguments(Arguments):
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


def session_of(
    args: CallArguments, home: Workspace, contract: Contract, operation: Operation, target: Target
) -> Session:
    """Who calls whom; what is mistyped about saving is refused here, before anything is sent."""
    session = open_session(
        {contract.name: contract},
        target,
        home.root,
        with_credentials=not args.no_credentials,
        config=home.config,
        identity=Identity(args.role, tuple(args.credential), tuple(kept_apart(args.header))),
        grant=Grant.of(args.trust, args.sends),
    )
    if args.at:
        session = replace(
            session,
            options=replace(session.options, addresses={**session.options.addresses, **addresses(args.at)}),
        )
    if args.save:
        place_of(args.save)
    if args.expect:
        criteria_of(args.expect, wire_of(contract), operation)
    return session


def has_made_up(inputs: Inputs, given: Collection[str]) -> bool:
    """Whether any single value of a request stands at none of the addresses that somebody gave, nor below
    one.
    """
    return any(
        not any(address == one or address.startswith(f"{one}/") for one in given)
        for address, _ in values_of(inputs)
    )


def judged_and_kept(
    args: CallArguments,
    home: Workspace,
    session: Session,
    contract: Contract,
    operation: Operation,
    exchange: Exchange,
    *,
    made_up: bool = False,
) -> tuple[Judgement, int]:
    """The judgement of an exchange and its number, both shown. `made_up`: whether a part of the request
    was.
    """
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
    judgement = hidden(session, refused_call(asked, exchange) if made_up else asked)
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


def send(
    args: CallArguments, session: Session, contract: Contract, operation: Operation, inputs: Inputs
) -> Exchange:
    """Sends a call once; what it goes without is told."""
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


def send_message(args: CallArguments, session: Session, contract: Contract, operation: Operation) -> Exchange:
    """Sends the message of a file as it stands, with what the target signs it with."""
    assert args.message is not None
    data = file_given(args.message, "message")
    session.permit(operation)
    if args.settings or args.body_file or len(args.header) > len(kept_apart(args.header)):
        raise UsageError(
            "a message is sent unchanged", mend="put values, body and headers into the message itself"
        )
    return send_as_it_stands(session, contract, operation, data, str(args.message))


def exit_status(judgement: Judgement) -> int:
    """The exit status that a judgement of one call leads to."""
    if judgement.verdict is Verdict.ERROR:
        return EXIT_NO_ANSWER
    return EXIT_FAILED if judgement.verdict is Verdict.FAILED else EXIT_HELD


def addresses(texts: list[str]) -> dict[str, str]:
    """`HOST=ADDRESS` texts as a mapping. UsageError for one that is none."""
    pairs = [text.partition("=")[::2] for text in texts]
    for host, address in pairs:
        if not host or not address or any(char.isspace() for char in host + address):
            raise UsageError(f"{quoted(host)} has no address", mend="write --at merrow.example=10.0.0.4:8443")
    return dict(pairs)


def kept_apart(texts: list[str]) -> list[tuple[str, str]]:
    """The header fields that carry a secret: they are no inputs, and are never saved."""
    return [
        (name, text) for name, text in map(header_field, texts) if secrets.refers(text) or is_credential(name)
    ]


def body_file(args: CallArguments) -> bytes | None:
    return file_given(args.body_file, "body file") if args.body_file else None


def file_given(path: Path, what: str) -> bytes:
    """The bytes of a file that was named. UsageError where it cannot be read."""
    try:
        return path.read_bytes()
    except OSError as error:
        raise UsageError(
            f"the {what} cannot be read: {error.strerror}",
            where=str(path),
            mend="check its path and permissions",
        ) from None
