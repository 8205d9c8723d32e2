"""`call --url`: calls of no definition, shown only, or kept as messages."""

from __future__ import annotations

from dataclasses import replace

from juxtalogos.cli.shared.made_call import MadeCall, may_be_saved, save
from juxtalogos.cli.shared.one_call import (
    CallArguments,
    addresses,
    body_file,
    exit_status,
    judged_and_kept,
    send,
    session_of,
)
from juxtalogos.cli.shared.options import (
    header_field,
    terminal,
    workspace,
)
from juxtalogos.cli.shared.targeting import agreed
from juxtalogos.cli.shared.typed_body import method_of, typed_headers
from juxtalogos.exchange.transport import TransportOptions
from juxtalogos.formats.http.outcomes import reads_only
from juxtalogos.model.errors import UsageError
from juxtalogos.model.exchange import Request
from juxtalogos.workspace import secrets
from juxtalogos.workspace.config import GIVEN, Target
from juxtalogos.workspace.workspace import find_workspace


def call_and_keep_url(args: CallArguments) -> int:
    """Sends to a URL; the call becomes a message of a contract, and a step."""
    from juxtalogos.cli.shared.message_call import drafted_call

    if args.operation or args.message or args.ask or args.each_media or args.full or args.unchecked:
        raise UsageError(
            "--url sends a request without a contract",
            mend="give it --method, --header, --set and --body-file only",
        )
    home, out, headers = workspace(args), terminal(args), [header_field(one) for one in args.header]
    body = body_file(args)
    method, typed = method_of(out, args.method, body), tuple(headers)
    headers = list(typed_headers(out, typed, args.body_file, body))
    draft = drafted_call(home, args.url, method, headers, body, args.settings, args.contract, args.target)
    contract, operation = draft.contract, draft.operation
    draft = replace(draft, target=agreed(draft.target, args.yes_to, writes=not operation.safe))
    session = session_of(args, home, contract, operation, draft.target)
    exchange = send(args, session, contract, operation, draft.inputs)
    judgement, number = judged_and_kept(args, home, session, contract, operation, exchange)
    if body and session.redactor.body(body) != body:
        out.note(("not saved: the body contains a secret, and messages are kept unchanged", "remark"))
    elif args.save and may_be_saved(out, exchange):
        draft.keep(home)
        out.note(f"kept as {draft.operation.full_id}: definitions/{contract.name}/{draft.file}")
        call = MadeCall(home, session, contract, operation, draft.inputs, exchange)
        save(out, call, judgement, number, args.save, links=[], role=args.role, expect=args.expect)
    return exit_status(judgement)


def call_bare_url(args: CallArguments) -> int:
    """Sends to a URL and shows what came back; nothing is proven by it."""
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
    out, body = terminal(args), body_file(args)
    headers = typed_headers(out, headers, args.body_file, body)
    request = bare_request(args.url, method_of(out, args.method, body), headers, body)
    _agree_to(args, request)
    options = TransportOptions(addresses=addresses(args.at))
    return call_url(
        out,
        request,
        options,
        args.directory,
        hidden,
        keep=not args.trial,
        json=args.json,
        raw=args.raw,
    )


def _agree_to(args: CallArguments, request: Request) -> None:
    """UsageError for a request of no contract that may change something at a guarded target's address."""
    try:
        guarded = find_workspace(args.directory).guarded_at(request.url)
    except UsageError:
        return  # outside a workspace nothing is guarded
    agreed(Target(GIVEN, guarded=guarded), args.yes_to, writes=not reads_only(request))
