"""The commands and their parsers; only the module of a command that is called is read."""

from __future__ import annotations

import argparse
import importlib
import keyword
import re
import sys
from collections.abc import Mapping
from typing import Any, NoReturn

from juxtalogos._version import VERSION

_BY_WORK: dict[str, dict[str, str]] = {
    "set up": {
        "init": "create a workspace",
        "import": "import a service definition",
        "contracts": "list, rename and remove contracts",
        "targets": "list, set and check targets",
        "trust": "allow the commands of a workspace and where its secrets go",
    },
    "read a definition and send requests": {
        "show": "show contracts, operations or one operation",
        "skeleton": "write a request skeleton for an operation",
        "call": "send one request and judge the response",
    },
    "write and run suites": {
        "pin": "turn values of a response into checks",
        "compose": "write a test suite for a contract",
        "suite": "list, check and edit suites",
        "parameters": "set named values that many steps share",
        "rules": "set rules for single operations",
        "run": "run suites against a target",
        "plans": "store run plans",
        "clean": "remove what runs left behind",
    },
    "look further": {
        "explore": "generate requests and look for faults",
        "audit": "judge recorded exchanges (HAR)",
    },
    "read results": {
        "coverage": "show how much of a definition was exercised",
        "report": "write a report of a run",
        "exchanges": "list exchanges or show one",
        "runs": "list runs",
        "history": "show a case, an operation or a finding over the runs",
        "compare": "compare two runs step by step",
        "ledger": "check the store of runs",
    },
    "set up the shell": {
        "completion": "complete commands in bash, zsh and fish",
    },
    "try": {
        "demo": "run the whole workflow on demo services",
    },
}


COMMANDS = {name: summary for group in _BY_WORK.values() for name, summary in group.items()}


_DESCRIPTION = """\
Juxtalogos compares what a service declares with what it does. It reads a service definition, writes
requests and test suites from it, sends them to the live service, and reports every deviation and how
much of the definition was exercised."""


_LISTED = "\n\n".join(
    "\n".join([f"{title}:", *(f"  {name:11}{summary}" for name, summary in group.items())])
    for title, group in _BY_WORK.items()
)


_EPILOG = f"""\
{_LISTED}

The options of a command: juxtalogos COMMAND --help

example:
  juxtalogos init && juxtalogos import berths.yaml
  juxtalogos targets set local http://127.0.0.1:8480/v1
  juxtalogos compose berths && juxtalogos run && juxtalogos report

exit status: 0 all checks passed; 1 a failure or a finding; 2 the command, the configuration or a file
cannot be used; 3 only errors, the target sent no responses; 130 interrupted."""


class _Parser(argparse.ArgumentParser):
    def error(self, message: str) -> NoReturn:
        wrong = re.search(r"invalid choice: '(.*?)' \(choose from (.*)\)", message)
        if wrong is not None:
            from juxtalogos.model.errors import nearest, quoted

            known = re.findall(r"'([^']+)'", wrong[2])
            message = f"{quoted(wrong[1])} is none of {', '.join(known)}"
            hint = nearest(wrong[1], known, 1)
            message += f"\n  {hint}" if hint.startswith("did") else ""
        sys.stderr.write(f"{self.prog}: {message}\n  see {self.prog} --help\n")
        raise SystemExit(2)


def _module(name: str) -> Any:
    module = f"{name}_" if keyword.iskeyword(name) else name
    return importlib.import_module(f"juxtalogos.cli.commands.{module}")


def added_commands() -> Mapping[str, Any]:
    """Commands of installed packages: modules with SUMMARY, DESCRIPTION, EXAMPLE, add_arguments and run."""
    from juxtalogos.plugins import Table

    return Table[Any]("juxtalogos.commands")


def build_parser(command: str | None) -> argparse.ArgumentParser:
    """The whole parser; only the named command's own arguments are added."""
    parser = _Parser(
        prog="juxtalogos",
        usage="juxtalogos [-h] [--version] COMMAND ...",
        description=_DESCRIPTION,
        epilog=_EPILOG,
        formatter_class=argparse.RawDescriptionHelpFormatter,
    )
    parser.add_argument("--version", action="version", version=f"juxtalogos {VERSION}")
    commands = parser.add_subparsers(dest="command", prog="juxtalogos", help=argparse.SUPPRESS)
    for name in {**COMMANDS, **({command: ""} if command else {})}:
        if name == command:
            module: Any = added_commands()[name] if name not in COMMANDS else _module(name)
            added = commands.add_parser(
                name,
                description=module.DESCRIPTION,
                epilog=f"example:\n{module.EXAMPLE.rstrip()}",
                formatter_class=argparse.RawDescriptionHelpFormatter,
            )
            module.add_arguments(added)
            added.set_defaults(run=module.run)
        else:
            commands.add_parser(name, add_help=False)
    return parser


def parsers_below(parser: argparse.ArgumentParser) -> dict[str, argparse.ArgumentParser]:
    """The parsers of the commands, or verbs, of a parser."""
    return next((dict(one.choices) for one in parser._actions if isinstance(one.choices, dict)), {})
