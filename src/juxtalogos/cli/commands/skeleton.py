"""`skeleton`: a ready-to-edit request."""

from __future__ import annotations

import argparse
from pathlib import Path

from juxtalogos.cli.shared.calling import tell_misfits
from juxtalogos.cli.shared.options import EXIT_HELD, Arguments, add_common, add_unchecked, terminal, workspace
from juxtalogos.compose.filling import filled, known_given, misfits, settings_given
from juxtalogos.compose.skeleton import FORMS, skeleton
from juxtalogos.compose.value_table import value_table
from juxtalogos.formats import wire_of
from juxtalogos.model.errors import ConfigError
from juxtalogos.workspace.config import Target

DESCRIPTION = """\
Write a request skeleton for an operation, filled with valid sample values: an HTTP/1.1 message to
edit and send with `call --message`, a shell command, the body alone, a step of a suite, or a table
(CSV) of the allowed values and limits of inputs. Credentials are never written."""
EXAMPLE = """\
  juxtalogos skeleton announcePortCall > announce.http
  juxtalogos skeleton announcePortCall --form body --full
  juxtalogos skeleton registerVessel --form table --input body/kind --input body/lengthMetres
"""
_NOWHERE = "http://host.invalid"


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("operation", metavar="OPERATION", help="an operation's id")
    parser.add_argument("--form", choices=(*FORMS, "table"), default="message", help="the form (message)")
    parser.add_argument(
        "--input",
        action="append",
        default=[],
        metavar="ADDRESS",
        help="with --form table: an input for the table",
    )
    parser.add_argument("--full", action="store_true", help="also fill in optional inputs")
    parser.add_argument(
        "--set",
        dest="settings",
        action="append",
        default=[],
        metavar="ADDRESS=VALUE",
        help="an input's value",
    )
    add_unchecked(parser)
    parser.add_argument("--target", metavar="NAME", help="the target whose host name to use")
    parser.add_argument("-o", "--output", type=Path, metavar="FILE", help="write to this file")
    add_common(parser, json=False)


class _SkeletonArguments(Arguments):
    operation: str
    form: str
    input: list[str]
    full: bool
    settings: list[str]
    unchecked: bool
    target: str | None
    output: Path | None


def run(args: _SkeletonArguments) -> int:
    home = workspace(args)
    contract, operation = home.operation(args.operation)
    if args.form == "table":
        return _write(args, value_table(contract, operation, args.input))
    wire = wire_of(contract)
    given = settings_given(wire, operation, args.settings)
    target: Target | None = None
    try:
        target = home.target(args.target, [contract.name])
        base_url = target.base_url(contract)
    except ConfigError:
        if args.target:
            raise
        named = next(iter((*operation.servers, *contract.servers)), "")
        base_url = named if "://" in named else _NOWHERE + (named if named.startswith("/") else "")
    known = known_given(contract, operation, home.hints(contract.name, target), full=args.full)
    inputs = filled(contract, operation, {**known, **given}, full=args.full, unchecked=args.unchecked)
    if given:
        tell_misfits(terminal(args), misfits(contract, operation, inputs))
    return _write(args, skeleton(wire, operation, inputs, base_url, args.form, loose=args.unchecked))


def _write(args: _SkeletonArguments, text: str) -> int:
    if args.output:
        from juxtalogos.workspace.files import write_whole

        write_whole(args.output, text.encode())
        terminal(args).note(f"written: {args.output}")
    else:
        terminal(args).raw(text)
    return EXIT_HELD
