"""`rules`: what a workspace says of single operations: kinds of check switched off,
dependencies corrected.
"""

from __future__ import annotations

import argparse
import re
from typing import Any

from juxtalogos.cli.shared.options import EXIT_HELD, Arguments, add_common, terminal, workspace
from juxtalogos.compose.dependencies import find_dependencies
from juxtalogos.compose.filling import settings_given
from juxtalogos.conventions.danger import SAID
from juxtalogos.documents.jsontext import dump_json
from juxtalogos.formats import wire_of
from juxtalogos.model.contract import Contract, Operation
from juxtalogos.model.errors import UsageError, quoted
from juxtalogos.run.judging.rules import rules_of
from juxtalogos.suite.document.links import check_source, link_of
from juxtalogos.suite.inputs import resolve_address
from juxtalogos.workspace.rule_tables import RuleTable, add_rule, remove_rule, rule_tables
from juxtalogos.workspace.workspace import Workspace

DESCRIPTION = """\
List and write rules of juxtalogos.toml for single operations.

--known gives an input a value that the service accepts, and --leave-out leaves an optional one out.
--off switches a kind of check off, with a reason; failures of it are then reported but do not count.
ADDRESS=@OPERATION#/path corrects where compose takes an input from, and --no-source ADDRESS uses a
sample instead. --does states what an operation does if its name and method are misleading; `switch`
and `destroy` keep compose from calling it. CONTRACT:* stands for every operation."""
EXAMPLE = """\
  juxtalogos rules
  juxtalogos rules getBerth --off body.format --reason "the office writes local times until May"
  juxtalogos rules allotBerth body/berthId=@listBerths#/0/berthId
  juxtalogos rules allotBerth --no-source body/callId
  juxtalogos rules announcePortCall --known body/purpose=bunkering
  juxtalogos rules --remove 2
"""
_WORDS = {
    "off": "off",
    "dependencies": "source",
    "standing": "standing check",
    "meanings": "does",
    "known": "known value",
    "leave-out": "left out",
    "send": "sent",
}


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "operation", nargs="?", default="", metavar="OPERATION", help="an operation's id, or CONTRACT:*"
    )
    parser.add_argument(
        "settings",
        nargs="*",
        metavar="ADDRESS=@OPERATION#/path",
        help="an input and its source for compose",
    )
    parser.add_argument("--off", default="", metavar="KIND", help="the kind of check to switch off")
    parser.add_argument("--reason", default="", metavar="TEXT", help="with --off: why")
    parser.add_argument(
        "--no-source",
        action="append",
        default=[],
        metavar="ADDRESS",
        help="an input without a source: compose uses a sample",
    )
    parser.add_argument(
        "--known",
        action="append",
        default=[],
        metavar="ADDRESS=VALUE",
        help="a value that the service accepts for an input; by its declared type, or as JSON",
    )
    parser.add_argument(
        "--leave-out",
        action="append",
        default=[],
        metavar="ADDRESS",
        help="an optional input that is not sent",
    )
    parser.add_argument(
        "--does", default="", choices=SAID, metavar="WORD", help=f"what the operation does: {', '.join(SAID)}"
    )
    parser.add_argument(
        "--remove", type=int, metavar="NUMBER", help="remove a rule by its number in the list"
    )
    add_common(parser)


class _RulesArguments(Arguments):
    operation: str
    settings: list[str]
    off: str
    reason: str
    no_source: list[str]
    known: list[str]
    leave_out: list[str]
    does: str
    remove: int | None


def run(args: _RulesArguments) -> int:
    home, out = workspace(args), terminal(args)
    if args.remove is not None:
        rule = remove_rule(home, args.remove)
        out.line("removed: ", (_told(rule), "name"))
        return EXIT_HELD
    if not args.operation:
        return _list(args, home)
    contract, operation = _operation(home, args.operation)
    name = operation.id if operation else "*"
    if not (args.off or args.settings or args.no_source or args.does or args.known or args.leave_out):
        raise UsageError(
            "no rule is given",
            mend=(
                "give --known ADDRESS=VALUE, --leave-out ADDRESS, --off KIND, ADDRESS=@OPERATION#/path,"
                " --no-source ADDRESS or --does WORD"
            ),
        )
    for text in args.known:
        entry = _known(contract, operation, text)
        add_rule(home, contract.name, "known", entry, lambda: None)
        out.line("written: ", (f"{name} {entry['at']}", "name"), f" is {dump_json(entry['value'])}")
    for text in args.leave_out:
        entry = _left_out(operation, text, args.reason)
        add_rule(home, contract.name, "leave-out", entry, lambda: None)
        out.line("written: ", (f"{name} {entry['input']}", "name"), " is left out")
    if args.off:
        if not args.reason.strip():
            raise UsageError(
                "switching a check off needs a reason", mend="add it: --reason 'the office knows'"
            )
        entry = {"operation": name, "kind": args.off, "reason": args.reason}
        add_rule(home, contract.name, "off", entry, lambda: rules_of(home.config, {contract.name: contract}))
        out.line("written: ", (f"{name} {args.off}", "name"), f" is switched off: {args.reason}")
    if args.does:
        if operation is None:
            raise UsageError("--does is for one operation", mend="name it")
        add_rule(home, contract.name, "meanings", {"operation": name, "does": args.does}, lambda: None)
        out.line("written: ", (name, "name"), f" does {args.does}")
    for entry in [
        *(_source(contract, operation, one) for one in args.settings),
        *(_none(operation, one) for one in args.no_source),
    ]:
        add_rule(
            home,
            contract.name,
            "dependencies",
            entry,
            lambda: find_dependencies(contract, home.config.contracts[contract.name].hints.dependencies),
        )
        told = f"from {entry['from']} {entry['value']}" if "from" in entry else "from nowhere"
        out.line("written: ", (f"{name} {entry['input']}", "name"), f" is taken {told}")
    return EXIT_HELD


def _operation(home: Workspace, text: str) -> tuple[Contract, Operation | None]:
    name, colon, rest = text.partition(":")
    if colon and rest == "*":
        return home.contract(name), None
    return home.operation(text)


def _known(contract: Contract, operation: Operation | None, text: str) -> dict[str, Any]:
    """A known value for an input, by the type that is declared for it."""
    if operation is None:
        raise UsageError("--known is for one operation", mend="name it")
    given = settings_given(wire_of(contract), operation, [text])
    for address in given:
        if re.split(r"[/.]", address)[-1] in contract.secret_fields:
            raise UsageError(
                f"{address} is declared as a secret, and a secret itself is never stored",
                mend="give it for one call by --set, or for a target by --credential",
            )
    return next({"operation": operation.id, "at": at, "value": value} for at, value in given.items())


def _left_out(operation: Operation | None, text: str, reason: str) -> dict[str, Any]:
    if operation is None:
        raise UsageError("--leave-out is for one operation", mend="name it")
    address = resolve_address(operation, text.strip())
    if any(one.address == address and one.required for one in operation.inputs):
        raise UsageError(f"{address} is required, so it is always sent", mend="give it a value with --known")
    return {"operation": operation.id, "input": address, **({"reason": reason} if reason else {})}


def _source(contract: Contract, operation: Operation | None, text: str) -> dict[str, Any]:
    found = re.fullmatch(r"([^=]+)=@([^#]+)#(/.*|)", text, re.DOTALL)
    if found is None or operation is None:
        raise UsageError(
            f"{quoted(text)} is not a source of an input",
            mend="write ADDRESS=@OPERATION#/path, for one operation",
        )
    address = resolve_address(operation, found[1].strip())
    source = contract.operation(found[2])
    if source is not None:
        check_source(contract, source, found[3])
    return {
        "operation": operation.id,
        "input": address,
        "from": found[2],
        "value": link_of(address, "", found[3]).expression,
    }


def _none(operation: Operation | None, address: str) -> dict[str, Any]:
    if operation is None:
        raise UsageError("--no-source is for one operation", mend="name it")
    return {"operation": operation.id, "input": resolve_address(operation, address), "drop": True}


def _list(args: Arguments, home: Workspace) -> int:
    out, rules = terminal(args), rule_tables(home)
    if args.json:
        out.json(
            {
                "version": 1,
                "rules": [
                    {"number": number, "contract": one.contract, "rule": one.kind, **one.entry}
                    for number, one in enumerate(rules, 1)
                ],
            }
        )
        return EXIT_HELD
    rows = [
        (number, one.contract, str(one.entry.get("operation", "*")), _WORDS[one.kind], _words(one))
        for number, one in enumerate(rules, 1)
    ]
    if rows:
        out.table(
            ("number", "contract", "operation", "rule", "what"), rows, styles=("", "", "name"), right=(0,)
        )
    else:
        out.line("there are no rules")
    return EXIT_HELD


def _words(rule: RuleTable) -> str:
    entry = rule.entry
    if rule.kind == "off":
        return f"{entry['kind']}: {entry['reason']}"
    if rule.kind == "dependencies":
        source = "nowhere" if "drop" in entry else f"{entry.get('from', '')} {entry.get('value', '')}"
        return f"{entry['input']} from {source}"
    if rule.kind == "known":
        return f"{entry['at']} = {entry['formula'] if 'formula' in entry else dump_json(entry['value'])}"
    if rule.kind in ("leave-out", "send"):
        return f"{entry['input']}  {entry.get('reason', '')}".strip()
    if rule.kind == "meanings":
        return f"{entry['does']} {entry.get('noun', '')}".strip()
    return dump_json({key: value for key, value in entry.items() if key != "operation"})


def _told(rule: RuleTable) -> str:
    return f"{rule.contract} {rule.entry.get('operation', '')}: {_WORDS[rule.kind]} {_words(rule)}"
