"""`suite set`, `clear` and `add`: what the steps of a case send and check."""

from __future__ import annotations

import argparse
import re
import shlex

from juxtalogos.cli.shared.earlier import exchange_named
from juxtalogos.cli.shared.options import EXIT_HELD, terminal, workspace
from juxtalogos.cli.suite.verbs import CASE, STEP, SuiteArguments, Verb, add_place, case_place, step_place
from juxtalogos.documents.jsontext import dump_json
from juxtalogos.exchange.redact import MASK
from juxtalogos.formats import wire_of
from juxtalogos.model.contract import Contract, Operation
from juxtalogos.model.errors import UsageError, quoted
from juxtalogos.model.exchange import Exchange
from juxtalogos.model.wire import Inputs
from juxtalogos.suite.document.managing import SuitePlace
from juxtalogos.suite.document.outcomes import criteria_of, outcome_seen
from juxtalogos.suite.document.saving import save_call, secret_inputs
from juxtalogos.suite.document.setting import add_check, set_input, step_at
from juxtalogos.suite.document.stepping import clear_input, edit_check, move_step
from juxtalogos.workspace.workspace import Workspace

_SET = "set SUITE#CASE#STEP ADDRESS=VALUE"
_CLEAR = "clear SUITE#CASE#STEP ADDRESS"
_ADD = "add SUITE#CASE @EXCHANGE"
_NUMBERED = re.compile(r"\s*(\d{1,4})\s*:\s*(.+)", re.DOTALL)


class _SetArguments(SuiteArguments):
    settings: list[str]
    checks: list[str]


class _ClearArguments(SuiteArguments):
    addresses: list[str]
    checks: list[str]


class _AddArguments(SuiteArguments):
    exchange: str
    before: str
    after: str


def _set_arguments(parser: argparse.ArgumentParser) -> None:
    add_place(parser, STEP)
    parser.add_argument(
        "settings",
        nargs="*",
        metavar="ADDRESS=VALUE",
        help="=@STEP#/path for a value of an earlier response (or #$.items[?@.free].id by JSONPath, the"
        " first match), =@CASE#STEP/path of another case, =$inputs.NAME, ==FORMULA",
    )
    parser.add_argument(
        "--check",
        dest="checks",
        action="append",
        default=[],
        metavar="'[N:] ADDRESS TEST OPERAND'",
        help="add a written check, such as 'body/state equals moored'; with its number replace one",
    )


def _set(args: _SetArguments) -> int:
    home, out, place = workspace(args), terminal(args), step_place(args.place, _SET)
    if not (args.settings or args.checks):
        raise UsageError("say what to set", mend=f"juxtalogos suite {_SET}")
    at = step_at(home, place)
    place = SuitePlace(place.suite, at.case.id, at.step.id)
    told: list[tuple[str | tuple[str, str], ...]] = []
    for setting in args.settings:
        address, equals, text = setting.partition("=")
        if not equals or not address.strip():
            raise UsageError(
                f"{quoted(setting)} has no '='", mend="write ADDRESS=VALUE, such as body/kind=tanker"
            )
        value = set_input(home, place, address.strip(), text)
        told.append(("set: ", (f"{place} {address.strip()}", "name"), f" = {value}"))
    for text in args.checks:
        numbered = _NUMBERED.fullmatch(text)
        if numbered is not None:
            (before,) = edit_check(home, place, numbered[1], numbered[2])
            told.append((("check: ", "note"), numbered[2], (f"   in place of {before}", "note")))
        else:
            told.append((("check: ", "note"), dump_json(add_check(home, place, text))))
    for parts in told:  # once all of it is done
        out.line(*parts)
    return EXIT_HELD


def _clear_arguments(parser: argparse.ArgumentParser) -> None:
    add_place(parser, STEP)
    parser.add_argument("addresses", nargs="*", metavar="ADDRESS", help="an input that is not sent any more")
    parser.add_argument(
        "--check",
        dest="checks",
        action="append",
        default=[],
        metavar="N|ADDRESS",
        help="remove a check by its number in `suite show`, or all at an address",
    )


def _clear(args: _ClearArguments) -> int:
    home, out, place = workspace(args), terminal(args), step_place(args.place, _CLEAR)
    if not (args.addresses or args.checks):
        raise UsageError("say what to clear", mend=f"juxtalogos suite {_CLEAR}")
    at = step_at(home, place)
    place = SuitePlace(place.suite, at.case.id, at.step.id)
    told: list[tuple[str | tuple[str, str], ...]] = []
    for text in args.addresses:
        address, required = clear_input(home, place, text)
        told.append(("cleared: ", (f"{place} {address}", "name")))
        if required:
            advice = f"  {address} is required: juxtalogos suite set {place} {address}=VALUE"
            told.append(((advice, "remark"),))
    numbers = sorted((one for one in args.checks if one.isdigit()), key=int, reverse=True)
    for which in (*numbers, *(one for one in args.checks if not one.isdigit())):
        told += [("removed: ", ("check ", "note"), before) for before in edit_check(home, place, which)]
    for parts in told:
        out.line(*parts)
    return EXIT_HELD


def _add_arguments(parser: argparse.ArgumentParser) -> None:
    add_place(parser, CASE)
    parser.add_argument("exchange", metavar="@EXCHANGE", help="an exchange, such as @17 or @last")
    where = parser.add_mutually_exclusive_group()
    where.add_argument("--before", default="", metavar="STEP", help="insert it before this step")
    where.add_argument("--after", default="", metavar="STEP", help="insert it after this step")


def _add(args: _AddArguments) -> int:
    home, out, place = workspace(args), terminal(args), case_place(args.place, _ADD)
    if not args.exchange.startswith("@"):
        raise UsageError(f"{quoted(args.exchange)} names no exchange", mend=f"juxtalogos suite {_ADD}")
    record = exchange_named(home, args.exchange[1:])
    if not record.operation or record.exchange is None:
        raise UsageError(f"exchange {record.id} is not of an operation", mend="see juxtalogos exchanges")
    contract, operation = home.operation(f"{record.contract}:{record.operation}")
    inputs = _inputs_of(home, contract, operation, record.exchange)
    hidden = secret_inputs(contract, operation, inputs, lambda value: MASK in str(value))
    wire = wire_of(contract)
    outcome = outcome_seen(record.exchange, wire.decode(operation, record.exchange))
    criteria = criteria_of(outcome, wire, operation)
    if args.before or args.after:  # what is mistyped is told before anything is written
        step_at(home, SuitePlace(place.suite, place.case, args.before or args.after))
    _, step = save_call(home.suites, str(place), contract, operation, inputs, (), "", criteria, hidden)
    added = SuitePlace(place.suite, place.case, step)
    if args.before or args.after:
        move_step(home, added, args.before or args.after, after=bool(args.after))
    out.line("added: ", (str(added), "name"), f"   {operation.full_id}, exchange {record.id}")
    for address, name in hidden.items():
        told = f"{address} is a secret, so it is an input: juxtalogos run ... --set {name}=env:NAME"
        out.line((told, "remark"), indent=2)
    return EXIT_HELD


def _inputs_of(home: Workspace, contract: Contract, operation: Operation, exchange: Exchange) -> Inputs:
    """The inputs of an exchange, at whichever target it was made. UsageError where it is at none."""
    wire = wire_of(contract)
    targets = [
        target.base_url(contract) for target in home.config.targets.values() if target.serves(contract.name)
    ]
    for base in (*targets, *contract.servers):
        if operation in wire.match(exchange.request, base):
            return wire.inputs_of(operation, exchange.request, base)
    raise UsageError(
        f"the exchange was not made at a target of this workspace, so its inputs of {operation.id} are"
        " not known",
        mend=f"juxtalogos call {shlex.quote(operation.id)} --save SUITE#CASE",
    )


SET = Verb(
    _set_arguments,
    _set,
    "juxtalogos suite set fleet#vessel#register body/kind=tanker --check 'body/kind equals tanker'",
    True,
)
CLEAR = Verb(_clear_arguments, _clear, "juxtalogos suite clear fleet#vessel#read query.limit --check 2", True)
ADD = Verb(_add_arguments, _add, "juxtalogos suite add fleet#vessel @17 --after register", True)
