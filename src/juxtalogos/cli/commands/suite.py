"""`suite`: list, show, check and edit suites; each verb has its own options (`cli/suite/`)."""

from __future__ import annotations

import argparse
import importlib
import shlex

from juxtalogos.cli.shared.options import add_common, workspace
from juxtalogos.cli.suite.verbs import SuiteArguments, Verb

_BY_WORK: dict[str, dict[str, tuple[str, str]]] = {
    "see": {
        "list": ("listing", "list suites, or the cases of one"),
        "show": ("showing", "show cases: steps, inputs and where they come from, checks, last outcome"),
        "check": ("listing", "validate suites against their definitions, and suggest links and tables"),
    },
    "change a case": {
        "add": ("editing", "add a step from an exchange"),
        "set": ("editing", "set inputs of a step, add or replace checks"),
        "clear": ("editing", "remove inputs or checks of a step"),
        "table": ("tables", "run a case once per row of a file"),
        "tag": ("placing", "label and describe a case"),
        "disable": ("placing", "leave a case or a step out of runs"),
        "enable": ("placing", "run it again"),
    },
    "arrange": {
        "copy": ("placing", "copy a suite, case or step"),
        "move": ("placing", "move it, or a step within its case"),
        "rename": ("placing", "give it another name; references follow"),
        "remove": ("placing", "remove it"),
    },
    "take back": {
        "undo": ("placing", "take back the last change of suites"),
    },
}
_VERBS = {name: told for group in _BY_WORK.values() for name, told in group.items()}
_LISTED = "\n\n".join(
    "\n".join([f"{title}:", *(f"  {name:9}{told}" for name, (_, told) in group.items())])
    for title, group in _BY_WORK.items()
)
DESCRIPTION = f"""\
List, show, check and edit suites. Comments and the order of the file are kept; a change that would make
the suite invalid is refused. A place is SUITE, SUITE#CASE or SUITE#CASE#STEP; a step has a name and a
number. The last 20 changes can be taken back.

{_LISTED}

The options of a verb: juxtalogos suite VERB --help"""
EXAMPLE = """\
  juxtalogos suite show fleet#vessel
  juxtalogos suite set fleet#vessel#read path.vesselId=@register#/vesselId --check 'body/kind equals tanker'
  juxtalogos suite add fleet#vessel @last --after register
  juxtalogos suite undo
"""


def _verb(name: str) -> Verb:
    """Only the module of the verb that is called is read."""
    module = importlib.import_module(f"juxtalogos.cli.suite.{_VERBS[name][0]}")
    verb: Verb = getattr(module, name.upper())
    return verb


def add_arguments(parser: argparse.ArgumentParser) -> None:
    verbs = parser.add_subparsers(dest="verb", metavar="VERB", required=True, help=argparse.SUPPRESS)
    for name, (_, told) in _VERBS.items():
        verb = _verb(name)
        added = verbs.add_parser(
            name,
            description=f"{told[0].upper()}{told[1:]}.",
            epilog=f"example:\n  {verb.example}",
            formatter_class=argparse.RawDescriptionHelpFormatter,
        )
        verb.add_arguments(added)
        add_common(added, json=verb.json)


def run(args: SuiteArguments) -> int:
    verb = _verb(args.verb)
    if not verb.changes:
        return verb.run(args)
    from juxtalogos.suite.document.history import noted

    words = [args.verb, args.place, *_rest(args)]
    with noted(workspace(args), shlex.join(words)):
        return verb.run(args)


def _rest(args: SuiteArguments) -> list[str]:
    """What else was said, for the list of changes."""
    found: list[str] = []
    for name in ("to", "settings", "addresses", "checks", "exchange", "file", "tags"):
        value = getattr(args, name, None)
        found += [value] if isinstance(value, str) and value else map(str, value or ())
    return found
