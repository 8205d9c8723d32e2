"""`targets`: list them, write one, try each."""

from __future__ import annotations

import argparse
import asyncio

from juxtalogos.cli.options import EXIT_HELD, EXIT_NO_ANSWER, Arguments, add_common, terminal, workspace
from juxtalogos.model.errors import UsageError, nearest, quoted
from juxtalogos.workspace.config import check_url

DESCRIPTION = """\
List the targets of juxtalogos.toml; `set` writes a target's base URL and tries it at once; `check` tries each.
Credentials are named in juxtalogos.toml, never written there (docs/configuration.md)."""
EXAMPLE = """\
  juxtalogos targets set local http://127.0.0.1:8480/v1
  juxtalogos targets check
"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("action", nargs="?", choices=("list", "set", "check"), default="list", help="what to do")
    parser.add_argument("name", nargs="?", help="a target's name")
    parser.add_argument("url", nargs="?", help="its base URL")
    parser.add_argument("--contract", help="the URL serves this contract only")
    add_common(parser)


class _TargetArguments(Arguments):
    action: str
    name: str | None
    url: str | None
    contract: str | None


def run(args: _TargetArguments) -> int:
    return _set(args) if args.action == "set" else _list(args)


def _set(args: _TargetArguments) -> int:
    home, out = workspace(args), terminal(args)
    if not args.name or not args.url:
        raise UsageError("a name and a base URL are needed", mend="juxtalogos targets set NAME URL")
    if args.contract and args.contract not in home.contract_names():
        raise UsageError(
            f"there is no contract {quoted(args.contract)}", mend=nearest(args.contract, home.contract_names())
        )
    home.set_target(args.name, args.url, args.contract)
    error = asyncio.run(_try(check_url(args.url)))
    if args.json:
        out.json({"target": args.name, "url": args.url, "reached": not error, "reason": error})
        return EXIT_HELD
    out.line("written: ", (args.name, "name"), f" {args.url}")
    out.line(("it cannot be reached now: " + error, "remark") if error else ("it answers", "held"))
    return EXIT_HELD


def _list(args: _TargetArguments) -> int:
    """The targets; with `check` also whether each answers (None: not tried)."""
    home, out = workspace(args), terminal(args)
    chosen = [home.config.target(args.name)] if args.name else list(home.config.targets.values())
    rows = [
        (one.name, contract, url)
        for one in chosen
        for contract, url in (("every contract", one.url), *one.urls.items())
        if url
    ]
    tried = args.action == "check"
    errors = [asyncio.run(_try(url)) if tried else None for _, _, url in rows]
    if args.json:
        data = [
            {
                "name": name,
                "contract": contract,
                "url": url,
                "reached": None if error is None else not error,
                "reason": error,
            }
            for (name, contract, url), error in zip(rows, errors)
        ]
        out.json({"version": 1, "targets": data})
    elif not rows:
        out.note(("no targets yet: juxtalogos targets set NAME URL", "note"))
    else:
        states = ["" if error is None else (error, "remark") if error else ("it answers", "held") for error in errors]
        headings = ("target", "serves", "base URL", "reached" if tried else "")
        out.table(headings, [(*row, state) for row, state in zip(rows, states)], styles=("name",))
    return EXIT_NO_ANSWER if any(errors) else EXIT_HELD


async def _try(url: str) -> str:
    """Why a URL gives no answer; empty when it gives one, whatever it is."""
    from juxtalogos.exchange.transport import Transport, TransportOptions
    from juxtalogos.model.exchange import Request

    async with Transport(TransportOptions(connect_timeout=3, timeout=5)) as transport:
        exchange = await transport.send(Request("GET", url + "/"))
        return exchange.error
