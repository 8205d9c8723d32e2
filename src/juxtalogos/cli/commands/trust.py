"""`trust`: read what a workspace would run and where its secrets would go, and allow it."""

from __future__ import annotations

import argparse
import shlex

from juxtalogos.cli.shared.options import EXIT_FAILED, EXIT_HELD, Arguments, add_common, terminal, workspace
from juxtalogos.cli.shared.terminal import Terminal
from juxtalogos.workspace.trust import CA_FILE, PROXY, Trust, found_by_path, permission, read_send, told

DESCRIPTION = """\
Show what a workspace would run and send, and allow it for this folder: commands that start, reset and
stop systems under test, queries, secrets with the origins that they are sent to, and the proxy and
the certificate authorities of a target. Before that, no command runs, no secret is read, and no
request is sent through that proxy or trusted on the word of those authorities.

A change of any of these, or of a file that a command names, must be allowed again; other edits need
not. --send allows one secret for one origin. Pipelines pass the digest (juxtalogos run --trust
DIGEST), which is independent of the folder, or --send.

exit status: 0 all of it is allowed; 1 something is not."""
EXAMPLE = """\
  juxtalogos trust --show
  juxtalogos trust
  juxtalogos trust --send MERROW_KEY=http://127.0.0.1:8480
"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--show", action="store_true", help="show only")
    parser.add_argument(
        "--send",
        dest="sends",
        action="append",
        default=[],
        metavar="NAME=ORIGIN",
        help="allow this secret, or what a message names as ca-file:... or proxy:..., for this origin",
    )
    parser.add_argument(
        "--forget", action="store_true", help="revoke everything that was allowed for this folder"
    )
    add_common(parser)


class _TrustArguments(Arguments):
    show: bool
    sends: list[str]
    forget: bool


def run(args: _TrustArguments) -> int:
    home = workspace(args)
    out, trust = terminal(args), Trust(home.root)
    if args.forget:
        trust.forget()
        out.line("revoked: nothing is allowed for this folder")
        return EXIT_HELD
    if args.sends:
        for reference, place in map(read_send, args.sends):
            trust.allow(sends={reference: (place,)})
            out.line("allowed: ", permission(reference, place))
        return EXIT_HELD
    if not args.show:
        trust.allow(commands=bool(trust.commands), sends=trust.sends)
    lacking = [name for name, origins in trust.sends.items() if origins and not trust.may_send(name, origins)]
    trusted = (trust.runs or not trust.commands) and not lacking
    if args.json:
        out.json(
            {
                "version": 2,
                "digest": trust.digest,
                "trusted": trusted,
                "commands": trust.commands,
                "files": trust.files,
                "sends": trust.sends,
            }
        )
        return EXIT_HELD if trusted else EXIT_FAILED
    _show(out, trust, lacking)
    if not trust.commands and not trust.sends:
        out.line("this workspace runs no commands and no queries, and names no secrets")
    else:
        out.line(("trusted", "held") if trusted else ("not trusted", "remark"), f"  digest {trust.digest}")
    return EXIT_HELD if trusted else EXIT_FAILED


def _show(out: Terminal, trust: Trust, lacking: list[str]) -> None:
    for target, system in trust.commands.items():
        for name in ("start", "reset", "stop"):
            words = system.get(name)
            if isinstance(words, tuple) and words:
                out.line((f"{target} {name}", "name"), "  ", shlex.join(words))
        if "sql" in system:
            where = system["file"] or f"the connection in {system['env']}"
            out.line((target, "name"), f"  {where}: {' '.join(str(system['sql']).split())}")
    for path, digest in trust.files.items():
        out.line(("file ", "note"), (path, "name"), f"  {digest[:16]}")
    for command, where in dict(found_by_path(trust.commands)).items():
        out.line((f"{command} is found by PATH, now {where}; its content is not checked", "remark"))
    for reference, origins in trust.sends.items():
        mark = ("  not allowed", "remark") if reference in lacking else ("", "note")
        where = ", ".join(origins) or "no address yet"
        if reference.startswith((CA_FILE, PROXY)):
            out.line(permission(reference, where), mark)
        else:
            out.line(("send ", "note"), (told(reference), "name"), f" to {where}", mark)
