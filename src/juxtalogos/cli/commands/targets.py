"""`targets`: list them, write one, try each."""

from __future__ import annotations

import argparse
from dataclasses import replace
from urllib.parse import urlsplit

from juxtalogos.cli.shared.options import (
    EXIT_HELD,
    EXIT_NO_ANSWER,
    Arguments,
    add_common,
    add_credential,
    terminal,
    workspace,
)
from juxtalogos.cli.shared.person import Wish, person_signs_in
from juxtalogos.cli.shared.target_shown import show_one
from juxtalogos.model.errors import UsageError, nearest, quoted
from juxtalogos.run.target.reach import Reach, answers, signed_at, tried_at
from juxtalogos.suite.inputs import resolve_address
from juxtalogos.workspace.config import check_url
from juxtalogos.workspace.secrets import SECRET_LIKE, credential_source, reference_in
from juxtalogos.workspace.workspace import Workspace

DESCRIPTION = """\
List the targets of juxtalogos.toml. `set` writes a target's base URL and checks it. `check` checks
every target: it calls the first operation that only reads and needs no value, without credentials,
and with those of the target and of each role where there are any.
`sign-in` lets a person sign in where the service has a page for that (OAuth 2.0, OpenID Connect): on
another device, or in a browser. The tokens are kept in your own user directory, for later commands.
`show` prints all that is configured for one target. `remove` takes a target out of juxtalogos.toml.
A command that names no target uses the default (`set NAME --default`), or the only target that
serves the contract; never the one that was used last. At a guarded target (`set NAME --guarded`)
commands ask before they send a request that may change something, or want `--yes-to NAME`.
If there are several contracts, name the one that the URL serves. juxtalogos.toml stores where
credentials are found, never the credentials (docs/configuration.md)."""
EXAMPLE = """\
  juxtalogos targets set local http://127.0.0.1:8480/v1
  juxtalogos targets set local http://127.0.0.1:8480/pilotage --contract pilotage
  juxtalogos targets set local --credential harbourKey=env:MERROW_KEY
  juxtalogos targets set local --sign-in openWatch --sign-in-input body/user=desk \\
    --sign-in-input body/pin=env:PIN
  juxtalogos targets set acceptance https://acceptance.merrow.example/v1 --guarded
  juxtalogos targets set local --default
  juxtalogos targets show acceptance
  juxtalogos targets check
  juxtalogos targets sign-in local --scheme harbourPass --client merrow-desk
"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "action",
        nargs="?",
        choices=("list", "show", "set", "check", "sign-in", "remove"),
        default="list",
        help="what to do",
    )
    parser.add_argument("name", nargs="?", help="a target's name")
    parser.add_argument("url", nargs="?", help="its base URL")
    parser.add_argument("--role", default="", metavar="ROLE", help="set: set the credentials of this role")
    add_credential(
        parser,
        "SCHEME is the name of a security scheme; only the place of the secret is stored",
    )
    signing = parser.add_argument_group("sign-in by an operation of the service")
    signing.add_argument(
        "--sign-in", default="", metavar="OPERATION", help="set: the operation that gives a token or a cookie"
    )
    signing.add_argument(
        "--sign-in-input",
        action="append",
        default=[],
        metavar="ADDRESS=VALUE",
        help="set: an input of it; a VALUE may be env:NAME, file:PATH or keyring:SERVICE/NAME",
    )
    signing.add_argument(
        "--token-at",
        default="",
        metavar="PLACE",
        help="set: where its response has the token, such as $response.body#/token (default: looked for)",
    )
    person = parser.add_argument_group("sign-in by a person (sign-in)")
    person.add_argument("--scheme", default="", metavar="SCHEME", help="the security scheme")
    person.add_argument(
        "--client",
        default="",
        metavar="ID",
        help="the id under which the service knows this tool; it is written to juxtalogos.toml",
    )
    person.add_argument("--by", choices=("device", "browser"), default="", help="where the person signs in")
    person.add_argument(
        "--port", type=int, default=0, metavar="N", help="browser: the port that is registered there (any)"
    )
    person.add_argument("--open", action="store_true", help="browser: open the page")
    person.add_argument("--forget", action="store_true", help="remove the tokens that are kept")
    which = parser.add_mutually_exclusive_group()
    which.add_argument("--contract", help="the contract that the URL serves")
    which.add_argument("--every", action="store_true", help="use the URL for every contract without its own")
    parser.add_argument("--default", action="store_true", help="set: the target of commands that name none")
    guard = parser.add_mutually_exclusive_group()
    guard.add_argument(
        "--guarded", action="store_true", help="set: commands ask before they change something there"
    )
    guard.add_argument("--unguarded", action="store_true", help="set: they do not ask any more")
    add_common(parser)


class _TargetArguments(Arguments):
    action: str
    name: str | None
    url: str | None
    contract: str | None
    every: bool
    role: str
    credential: list[str]
    sign_in: str
    sign_in_input: list[str]
    token_at: str
    scheme: str
    client: str
    by: str
    port: int
    open: bool
    forget: bool
    default: bool
    guarded: bool
    unguarded: bool


_OWN = {
    "set": (
        "url",
        "credential",
        "sign_in",
        "sign_in_input",
        "token_at",
        "every",
        "default",
        "guarded",
        "unguarded",
    ),
    "sign-in": ("scheme", "client", "by", "port", "open", "forget"),
}
"""By action the arguments that are for it alone."""


def _refuse_others(args: _TargetArguments) -> None:
    """UsageError for an argument of another action: it would be ignored."""
    for action, names in _OWN.items():
        for name in names if action != args.action else ():
            if getattr(args, name):
                what = "a base URL" if name == "url" else f"--{name.replace('_', '-')}"
                raise UsageError(
                    f"{what} is for `targets {action}`", mend=f"juxtalogos targets {action} NAME ..."
                )


def run(args: _TargetArguments) -> int:
    _refuse_others(args)
    if args.action == "sign-in":
        home, out = workspace(args), terminal(args)
        wish = Wish(args.scheme, args.client, args.by, args.port, args.open, args.forget)
        return person_signs_in(home, out, args.name or "", args.role, args.contract or "", wish)
    if args.action == "remove":
        return _remove(args)
    if args.action == "show":
        return show_one(workspace(args), terminal(args), args.name or "", json=args.json)
    return _set(args) if args.action == "set" else _list(args)


def _remove(args: _TargetArguments) -> int:
    home, out = workspace(args), terminal(args)
    if not args.name or args.role or args.contract:
        raise UsageError("name the target that is to go", mend="juxtalogos targets remove NAME")
    home.remove_target(args.name)
    out.line("removed: ", (args.name, "name"), ("   its runs and what was learned of it are kept", "note"))
    return EXIT_HELD


def _set(args: _TargetArguments) -> int:
    home, out = workspace(args), terminal(args)
    guarding = args.guarded or args.unguarded
    if not args.name or not (args.url or args.credential or args.sign_in or args.default or guarding):
        raise UsageError("name a target and its base URL", mend="juxtalogos targets set NAME URL")
    for source in map(credential_source, args.credential):
        known = [
            scheme.name for name in home.contract_names() for scheme in home.contract(name).security_schemes
        ]
        if source.scheme not in known:
            raise UsageError(
                f"no contract has a scheme {quoted(source.scheme)}",
                mend=nearest(source.scheme, known) or "send it as a header: [targets.NAME.headers]",
            )
        home.set_credential(args.name, source, args.role)
        out.line(
            "written: ",
            (args.name, "name"),
            f" signs in by {source.scheme} with {source.reference()}",
            (f" as {args.role}" if args.role else "", "note"),
        )
    told = _set_url(args, home) if args.url else EXIT_HELD
    if args.sign_in:
        _set_sign_in(args, home)
    if args.default:
        home.set_default_target(args.name)
        out.line("written: ", (args.name, "name"), " is the target of commands that name none")
    if guarding:
        home.set_guarded(args.name, args.guarded)
        told_guard = " is guarded: commands ask before they change something there"
        told_free = " is not guarded any more"
        out.line("written: ", (args.name, "name"), told_guard if args.guarded else told_free)
    return told


def _set_sign_in(args: _TargetArguments, home: Workspace) -> None:
    """Writes the sign-in by an operation. UsageError for one that no contract has, or a bare secret."""
    assert args.name
    name, colon, word = args.sign_in.partition(":")
    names = home.contract_names()
    ids = {
        one.id: one
        for contract in ([name] if colon and name in names else names)
        for one in home.contract(contract).operations
    }
    operation = ids.get(word if colon and name in names else args.sign_in)
    if operation is None:
        what = f"no contract has the operation {quoted(args.sign_in)}"
        raise UsageError(what, mend=nearest(args.sign_in, ids))
    inputs = []
    for text in args.sign_in_input:
        address, equals, value = text.partition("=")
        if not equals or not value:
            raise UsageError(f"{quoted(text)} is no ADDRESS=VALUE", mend="write body/user=desk")
        address = resolve_address(operation, address)
        if SECRET_LIKE.search(address) and reference_in(value) != value:
            raise UsageError(
                f"{address} looks like a secret, and a secret itself is never given",
                mend=f"write --sign-in-input {address}=env:NAME",
            )
        inputs.append((address, value))
    home.set_sign_in(args.name, args.sign_in, inputs, args.token_at, args.role)
    told, who = f" signs in by {operation.id}", f" as {args.role}" if args.role else ""
    terminal(args).line("written: ", (args.name, "name"), told, (who, "note"))


def _set_url(args: _TargetArguments, home: Workspace) -> int:
    out = terminal(args)
    assert args.name and args.url
    url = check_url(args.url)
    contract = "" if args.every else _served(home, args.name, url, args.contract)
    home.set_target(args.name, url, contract or None)
    tried = [
        tried_at(home.config.target(args.name), home.contract(name), home.root)
        for name in ([contract] if contract else home.contract_names())
    ]
    reach = next(
        (attempt for attempt in tried if attempt.wrong), tried[0] if tried else Reach(answers(url), "")
    )
    if args.json:
        out.json({"target": args.name, "contract": contract or None, "url": url, **reach.as_data()})
        return EXIT_HELD
    out.line("written: ", (args.name, "name"), f" {url}", (f" for {contract}" if contract else "", "note"))
    for one in tried or [reach]:
        out.line(_words(one, several=len(tried) > 1))
    return EXIT_HELD


def _served(home: Workspace, target: str, url: str, named: str | None) -> str:
    """The contract that a URL serves; empty for every one. UsageError where it has to be said."""
    names = home.contract_names()
    if named:
        if named not in names:
            raise UsageError(f"there is no contract {quoted(named)}", mend=nearest(named, names))
        return named
    if len(names) < 2:
        return ""
    path = urlsplit(url).path.rstrip("/")
    alike = [
        name
        for name in names
        if path and any(urlsplit(server).path.rstrip("/") == path for server in home.contract(name).servers)
    ]
    if len(alike) == 1:
        return alike[0]
    raise UsageError(
        f"there are several contracts, and {url} serves one of them",
        mend=(
            f"juxtalogos targets set {target} {url} --contract {names[0]}"
            f"; the contracts are {', '.join(names)}; --every, if it serves all"
        ),
    )


def _list(args: _TargetArguments) -> int:
    """The targets; with `check` also whether each answers."""
    home, out = workspace(args), terminal(args)
    chosen = [home.config.target(args.name)] if args.name else list(home.config.targets.values())
    rows = [
        (operation.name, contract, url)
        for operation in chosen
        for contract, url in (("every contract", operation.url), *operation.urls.items())
        if url
    ]
    tried, default = args.action == "check", home.config.default_target
    reached = [_tried(home, name, contract) if tried else None for name, contract, _ in rows]
    if args.json:
        data = [
            {
                "name": name,
                "contract": contract,
                "url": url,
                "default": name == default,
                "guarded": bool(home.config.target(name).guarded),
                **(reach.as_data() if reach else {"reached": None, "reason": None}),
            }
            for (name, contract, url), reach in zip(rows, reached)
        ]
        out.json({"version": 1, "targets": data})
    elif not rows:
        out.note(("no targets yet: juxtalogos targets set NAME URL", "note"))
    else:
        states = [_words(reach) if reach else "" for reach in reached]
        headings = ("target", "serves", "base URL", "reached" if tried else "")
        marked = {
            target.name: ", ".join(
                filter(None, ("default" * (target.name == default), "guarded" * bool(target.guarded)))
            )
            for target in chosen
        }
        named = [(f"{name} ({marked[name]})" if marked[name] else name, *rest) for name, *rest in rows]
        out.table(headings, [(*row, state) for row, state in zip(named, states)], styles=("name",))
    return EXIT_NO_ANSWER if any(reach and reach.error for reach in reached) else EXIT_HELD


def _tried(home: Workspace, target: str, contract: str) -> Reach:
    """How a target answers for a contract, or for the first that has no URL of its own there; what is wrong
    counts more.
    """
    found = home.config.target(target)
    names = (
        [contract]
        if contract in found.urls
        else [name for name in home.contract_names() if name not in found.urls]
    )
    known = [name for name in names if name in home.contract_names()]
    tried = [tried_at(found, home.contract(name), home.root) for name in known]
    for role in ("", *found.roles):
        if not any(one.error for one in tried) and found.role(role).signs_in:
            tried += [signed_at(home, found, home.contract(name), role) for name in known]
    if not tried:
        return Reach(answers(found.urls.get(contract) or found.url), "")
    wrong = next((attempt for attempt in tried if attempt.wrong), None)
    told = "; ".join(dict.fromkeys(attempt.told for attempt in tried if attempt.told))
    return wrong or replace(tried[0], told=told)


def _words(reach: Reach, *, several: bool = False) -> tuple[str, str]:
    if reach.error:
        text = f"it cannot be reached: {reach.error}"
    else:
        text = reach.doubt or ("it responds" + (f" ({reach.told})" if reach.told else ""))
    head = f"{reach.contract}: " if several and reach.contract else ""
    return head + text, "remark" if reach.wrong else "held"
