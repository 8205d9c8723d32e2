"""Writes docs/commands.md from the program's own --help. Run: python docs/make_commands.py"""

from __future__ import annotations

import os
from pathlib import Path

from juxtalogos.cli.parsing import COMMANDS, build_parser, parsers_below

_HEAD = """# Commands

Made from `--help` by `docs/make_commands.py`. Results go to stdout, all else to stderr; `--json` output carries a
`version`. Every command also answers to the short name `jux`.
"""  # noqa: E501


def main() -> None:
    os.environ["COLUMNS"] = "100"
    parts = [_HEAD, "```text\n" + build_parser(None).format_help().strip() + "\n```\n"]
    for name in COMMANDS:
        chosen = parsers_below(build_parser(name))[name]
        parts.append(f"## {name}\n\n```text\n{chosen.format_help().strip()}\n```\n")
        for verb, one in parsers_below(chosen).items():
            parts.append(f"### {name} {verb}\n\n```text\n{one.format_help().strip()}\n```\n")
    Path(__file__).with_name("commands.md").write_text("\n".join(parts), "utf-8")


if __name__ == "__main__":
    main()
