"""`trust`: read what a workspace would run, and allow it."""

from __future__ import annotations

import argparse
import shlex

from juxtalogos.cli.options import EXIT_FAILED, EXIT_HELD, Arguments, add_common, terminal, workspace
from juxtalogos.workspace.trust import commands_of, digest, is_trusted, record

DESCRIPTION = """\
Show the commands that juxtalogos.toml would run to start, reset and stop systems under test, and trust them.
A change of any of them asks again. Pipelines pass the digest: juxtalogos run --trust DIGEST."""
EXAMPLE = """\
  juxtalogos trust --show
  juxtalogos trust
"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--show", action="store_true", help="show only; exit 1 when they are not trusted")
    add_common(parser)


class _TrustArguments(Arguments):
    show: bool


def run(args: _TrustArguments) -> int:
    config = workspace(args).config
    commands = commands_of(config)
    if not args.show and commands:
        record(config)
    trusted = is_trusted(config) or not commands
    out = terminal(args)
    if args.json:
        out.json({"version": 1, "digest": digest(config), "trusted": trusted, "commands": commands})
        return EXIT_HELD if trusted else EXIT_FAILED
    for target, system in commands.items():
        for name in ("start", "reset", "stop"):
            words = system.get(name)
            if isinstance(words, tuple) and words:
                out.line((f"{target} {name}", "name"), "  ", shlex.join(words))
        if "sql" in system:
            where = system["file"] or f"the connection in {system['env']}"
            out.line((target, "name"), f"  {where}: {' '.join(str(system['sql']).split())}")
    if not commands:
        out.line("this workspace runs no commands and no queries")
    else:
        out.line(("trusted", "held") if trusted else ("not trusted", "remark"), f"  digest {digest(config)}")
    return EXIT_HELD if trusted else EXIT_FAILED
