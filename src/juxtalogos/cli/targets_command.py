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
    home = workspace(args)
    out = terminal(args)
    if args.action == "set":
        if not args.name or not args.url:
            raise UsageError("a name and a base URL are needed", mend="juxtalogos targets set NAME URL")
        if args.contract and args.contract not in home.contract_names():
            raise UsageError(
                f"there is no contract {quoted(args.contract)}", mend=nearest(args.contract, home.contract_names())
            )
        home.set_target(args.name, args.url, args.contract)
        error = asyncio.run(_try(check_url(args.url)))
        if not args.json:
            out.line("written: ", (args.name, "name"), f" {args.url}")
            out.line(("it cannot be reached now: " + error, "remark") if error else ("it answers", "held"))
        else:
            out.json({"target": args.name, "url": args.url, "reached": not error, "reason": error})
        return EXIT_HELD
    rows = [
        (name, contract, url)
        for name, target in home.config.targets.items()
        for contract, url in (("every contract", target.url), *target.urls.items())
        if url
    ]
    if args.name:
        home.config.target(args.name)
        rows = [row for row in rows if row[0] == args.name]
    errors = [asyncio.run(_try(url)) for _, _, url in rows] if args.action == "check" else [None] * len(rows)
    if args.json:
        out.json(
            {
                "version": 1,
                "targets": [
                    {
                        "name": name,
                        "contract": contract,
                        "url": url,
                        "reached": error is None or not error,
                        "reason": error,
                    }
                    for (name, contract, url), error in zip(rows, errors)
                ],
            }
        )
    elif not rows:
        out.note(("no targets yet: juxtalogos targets set NAME URL", "note"))
    else:
        states = [
            ("", "") if error is None else (error, "remark") if error else ("it answers", "held") for error in errors
        ]
        out.table(
            ("target", "serves", "base URL", "reached" if args.action == "check" else ""),
            [(*row, state) for row, state in zip(rows, states)],
            styles=("name",),
        )
    return EXIT_NO_ANSWER if any(errors) else EXIT_HELD


async def _try(url: str) -> str:
    """Why a URL gives no answer; empty when it gives one, whatever it is."""
    from juxtalogos.exchange.transport import Transport, TransportOptions
    from juxtalogos.model.exchange import Request

    async with Transport(TransportOptions(connect_timeout=3, timeout=5)) as transport:
        exchange = await transport.send(Request("GET", url + "/"))
        return exchange.error
