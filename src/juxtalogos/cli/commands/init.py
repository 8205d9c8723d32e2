"""`init`: make a workspace."""

from __future__ import annotations

import argparse
from pathlib import Path

from juxtalogos.cli.shared.options import EXIT_HELD, Arguments, add_common, terminal
from juxtalogos.workspace.workspace import init_workspace

DESCRIPTION = "Create a workspace: a folder with juxtalogos.toml, definitions, suites and the ledger of runs."
EXAMPLE = """\
  juxtalogos init harbour
  cd harbour && juxtalogos import ../berths.yaml
"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("folder", nargs="?", type=Path, help="the folder (default: the current one)")
    add_common(parser)


def run(args: Arguments) -> int:
    folder = args.directory / args.folder if args.folder else args.directory
    made = init_workspace(folder)
    out = terminal(args)
    if args.json:
        out.json({"workspace": str(made.root)})
    else:
        out.line("made ", (made.root / "juxtalogos.toml", "name"))
        out.note(("next: juxtalogos import FILE", "note"))
    return EXIT_HELD
