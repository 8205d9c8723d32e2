"""Options that several commands share, declared once, and what they lead to."""

from __future__ import annotations

import argparse
import re
from pathlib import Path
from typing import TYPE_CHECKING

from juxtalogos.cli.shared.terminal import Terminal
from juxtalogos.model.errors import UsageError, quoted

if TYPE_CHECKING:
    from juxtalogos.workspace.workspace import Workspace

EXIT_HELD, EXIT_FAILED, EXIT_UNUSABLE, EXIT_NO_ANSWER, EXIT_INTERRUPTED = 0, 1, 2, 3, 130


class Arguments(argparse.Namespace):
    """The options that every command has; each command adds its own."""

    directory: Path
    json: bool
    quiet: bool
    verbose: bool
    debug: bool


def add_common(parser: argparse.ArgumentParser, *, json: bool = True) -> None:
    """The options that every command has."""
    group = parser.add_argument_group("options of every command")
    group.add_argument(
        "-C",
        dest="directory",
        metavar="DIR",
        type=Path,
        default=Path(),
        help="use the workspace in this folder",
    )
    group.add_argument("-q", "--quiet", action="store_true", help="print only results")
    group.add_argument("-v", "--verbose", action="store_true", help="print more details")
    group.add_argument("--debug", action="store_true", help="show the traceback of an error")
    group.add_argument("--log", type=Path, metavar="FILE", help="append a log to this file, without secrets")
    if json:
        group.add_argument("--json", action="store_true", help="print data as JSON")


def add_target(parser: argparse.ArgumentParser) -> None:
    """The options of commands that send."""
    parser.add_argument(
        "--target",
        metavar="NAME",
        help="a target of juxtalogos.toml, or a base URL for this call (default: the one set as default)",
    )
    parser.add_argument("--no-credentials", action="store_true", help="send without the target's credentials")


def add_unchecked(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "--unchecked",
        action="store_true",
        help="send the given values unchanged, even undeclared or conflicting ones",
    )


def add_identity(parser: argparse.ArgumentParser) -> None:
    """Who sends: beside what the target says."""
    parser.add_argument("--role", default="", metavar="ROLE", help="use the credentials of this role")
    add_credential(parser, "SCHEME is the name of a security scheme")
    parser.add_argument(
        "--header",
        action="append",
        default=[],
        metavar="'NAME: VALUE'",
        help=(
            "send this field with every request; VALUE may end in env:NAME, file:PATH or keyring:SERVICE/NAME"
        ),
    )


def add_pace(parser: argparse.ArgumentParser) -> None:
    """How fast requests follow one another."""
    parser.add_argument(
        "--pace", type=float, default=0.0, metavar="SECONDS", help="minimum time between two requests"
    )


def add_strict_clean(parser: argparse.ArgumentParser) -> None:
    """Whether what cannot be removed again is created."""
    parser.add_argument(
        "--strict-clean",
        action="store_true",
        help="create nothing that no operation of the contract removes",
    )


def add_grant(parser: argparse._ActionsContainer) -> None:
    """What is allowed for this once, where nobody is there to be asked."""
    parser.add_argument(
        "--trust",
        default="",
        metavar="DIGEST",
        help="allow the commands and secrets with this digest of `juxtalogos trust --show`",
    )
    parser.add_argument(
        "--send",
        dest="sends",
        action="append",
        default=[],
        metavar="NAME=ORIGIN",
        help="allow this secret for this origin",
    )


def add_credential(parser: argparse._ActionsContainer, what: str) -> None:
    parser.add_argument(
        "--credential",
        action="append",
        default=[],
        metavar="SCHEME=[USER:]env:NAME",
        help=(
            f"a credential for this call: env:NAME, file:PATH or keyring:SERVICE/NAME of the secret; {what}"
        ),
    )


_FIELD_NAME = re.compile(r"[!#$%&'*+.^_`|~0-9A-Za-z-]+")
"""A token (RFC 9110, section 5.6.2)."""


def header_field(text: str) -> tuple[str, str]:
    """(name, value) of a `NAME: VALUE` option."""
    name, colon, value = text.partition(":")
    if not colon or not _FIELD_NAME.fullmatch(name.strip()) or any(char in text for char in "\r\n"):
        raise UsageError(f"{quoted(name)} is no header field", mend="write --header 'NAME: VALUE'")
    return name.strip(), value.strip()


def add_remarks(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--no-remarks", action="store_true", help="leave out remarks")


def add_full(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "--full", action="store_true", help="show everything, not only the worst and one of each kind"
    )


def add_strict(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "--strict", action="store_true", help="count unproven, refused and skipped cases as failed"
    )


def terminal(args: Arguments) -> Terminal:
    return Terminal(quiet=args.quiet, verbose=args.verbose)


def workspace(args: Arguments) -> Workspace:
    """The workspace of `-C`, or of a folder above it; UsageError when there is none."""
    from juxtalogos.workspace.workspace import find_workspace

    return find_workspace(args.directory)
