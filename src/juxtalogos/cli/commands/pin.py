"""`pin`: values of an observed answer turned into checks, or the whole answer kept."""

from __future__ import annotations

import argparse
from collections.abc import Mapping
from functools import partial
from types import MappingProxyType
from typing import Any

from juxtalogos.cli.shared.earlier import exchange_named
from juxtalogos.cli.shared.keeping import is_step, keep_whole, renew, saved_as_step
from juxtalogos.cli.shared.layout import counted
from juxtalogos.cli.shared.options import EXIT_HELD, Arguments, add_common, terminal, workspace
from juxtalogos.cli.shared.targeting import add_agreement
from juxtalogos.documents.jsontext import NotJson, dump_json, parse_json
from juxtalogos.formats import wire_of
from juxtalogos.ledger import ExchangeRecord
from juxtalogos.model.errors import UsageError
from juxtalogos.model.schema import ABSENT
from juxtalogos.suite.checks.pins import AnswerPlace, chosen, places, prefixes_for
from juxtalogos.suite.document.editor import add_checks, add_reported
from juxtalogos.suite.document.history import noted
from juxtalogos.suite.document.reader import find_suite, read_suites
from juxtalogos.suite.document.writer import to_yaml
from juxtalogos.workspace.workspace import Workspace

DESCRIPTION = """\
Turn values of a response into checks. --list shows the response as a numbered tree. Choose places by
number or path; a check of each is added to the step that made the exchange, or printed if the
exchange is not part of a suite. These checks pin the current behaviour and say so when they fail.

--whole keeps the whole response in kept/ and compares later responses with it; values that the call
generates (IDs, timestamps) may differ. --twice repeats the call (or the case, if the operation is
not safe) and allows what differed. --renew shows what changed and replaces the kept response."""
EXAMPLE = """\
  juxtalogos pin --list
  juxtalogos pin 4 7
  juxtalogos pin body/state --test exists --exchange @getPortCall
  juxtalogos pin body/tonnes --above 0 --note "no empty ships"
  juxtalogos pin body/callId --report-as "port call"
  juxtalogos pin --whole berths/list --twice
"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "place", nargs="*", metavar="NUMBER or PATH", help="what to pin: numbers of --list, or paths"
    )
    parser.add_argument(
        "--exchange",
        default="@last",
        metavar="@N",
        help="the exchange: @17, @last (default) or @OPERATION",
    )
    parser.add_argument("--list", action="store_true", help="show the response as a numbered tree")
    parser.add_argument(
        "--test",
        choices=("equals", "type", "exists"),
        default="equals",
        help="what to check: the value, its type, or that it exists",
    )
    limits = parser.add_argument_group("the expected value, instead of the one received")
    for name, metavar, words in LIMITS:
        limits.add_argument(f"--{name}", default=None, metavar=metavar, help=words)
    parser.add_argument("--whole", metavar="NAME", help="keep the whole response under this name")
    parser.add_argument(
        "--twice",
        action="store_true",
        help="with --whole or --renew: repeat the call and allow what differed",
    )
    parser.add_argument(
        "--renew",
        metavar="NAME",
        help="show what changed and replace the kept response of this name",
    )
    parser.add_argument("--yes", action="store_true", help="with --renew: replace without asking")
    parser.add_argument(
        "--report-as",
        default="",
        metavar="NAME",
        help="check nothing: put the value into every report under this name",
    )
    parser.add_argument(
        "--save",
        default="",
        metavar="SUITE#CASE",
        help="first save the exchange as a step, for example a recorded one",
    )
    parser.add_argument("--note", default="", help="the reason; shown when the check fails")
    add_agreement(parser)
    add_common(parser)


LIMITS = (
    ("above", "N", "the value is more than this number, or after this date"),
    ("below", "N", "it is less"),
    ("matches", "PATTERN", "the pattern is found in it (ECMA-262)"),
    ("computed", "FORMULA", "it equals the result of a formula, such as 'inputs.a + inputs.b'"),
)


class _PinArguments(Arguments):
    place: list[str]
    exchange: str
    list: bool
    test: str
    whole: str | None
    twice: bool
    above: str | None
    below: str | None
    matches: str | None
    computed: str | None
    renew: str | None
    yes: bool
    note: str
    report_as: str
    save: str
    yes_to: str


def run(args: _PinArguments) -> int:
    home, out = workspace(args), terminal(args)
    record = exchange_named(home, args.exchange)
    exchange = record.exchange
    assert exchange is not None and exchange.response is not None
    if args.renew:
        return renew(out, home, record, args.renew, yes=args.yes, twice=args.twice, yes_to=args.yes_to)
    if args.whole:
        record = _as_step(args, home, record)
        check = {"at": "body", "kept": args.whole, **({"note": args.note} if args.note else {})}
        give = partial(_give, args, home, record, [check])
        keep_whole(out, home, record, args.whole, give, twice=args.twice, yes_to=args.yes_to)
        return EXIT_HELD
    contract = home.contract(record.contract) if record.contract in home.contract_names() else None
    known = {uri: prefix for prefix, uri in contract.namespaces} if contract else {}
    prefixes = prefixes_for(exchange.response, known, _prefixes_of(home, record))
    operation = contract.operation(record.operation) if contract else None
    value = wire_of(contract).decode(operation, exchange).value if contract and operation else ABSENT
    found = places(exchange.response, prefixes, value)
    if args.list or not args.place:
        if args.json:
            out.json(
                {
                    "version": 1,
                    "exchange": record.id,
                    "places": [_data(number, one) for number, one in enumerate(found, 1)],
                }
            )
        else:
            rows = [
                (number, "  " * one.depth + one.name, _shown(one), (one.address, "note"))
                for number, one in enumerate(found, 1)
            ]
            out.table(("number", "place", "value", "address"), rows, styles=("", "name"), right=(0,))
            out.note(
                (
                    (f"exchange {record.id}: {record.operation}; to pin some: juxtalogos pin NUMBER ..."),
                    "note",
                )
            )
        return EXIT_HELD
    chosen_places = [chosen(found, word) for word in args.place]
    if args.report_as:
        return _report(args, home, record, chosen_places, prefixes)
    held = {
        name: _operand(name, getattr(args, name)) for name, _, _ in LIMITS if getattr(args, name) is not None
    }
    checks = [
        check
        for place in chosen_places
        for check in [{**place.where, name: operand} for name, operand in held.items()]
        or [place.check(args.test)]
    ]
    if args.note:
        checks = [{**check, "note": args.note} for check in checks]
    declared = {prefix: uri for uri, prefix in prefixes.items()}
    _give(args, home, _as_step(args, home, record), checks, declared)
    return EXIT_HELD


def _prefixes_of(home: Workspace, record: ExchangeRecord) -> dict[str, str]:
    """The prefixes that a suite has, with their namespaces, where the exchange is a step of one."""
    if not is_step(home, record):
        return {}
    return dict(read_suites(home, [find_suite(home, record.suite)])[0][0].namespaces)


def _as_step(args: _PinArguments, home: Workspace, record: ExchangeRecord) -> ExchangeRecord:
    """The exchange, made a step where that is asked for."""
    if not args.save:
        return record
    made = saved_as_step(home, record, args.save)
    terminal(args).note(f"saved as {made.suite}#{made.case}#{made.step}")
    return made


def _operand(name: str, text: str) -> Any:
    """What a test compares with: a number where the text is one; formulas and patterns as they are."""
    if name in ("above", "below"):
        try:
            return parse_json(text)
        except NotJson:
            return text
    return text


def _shown(place: AnswerPlace) -> str:
    return f"{place.count} members" if place.count >= 0 else dump_json(place.value)[:80]


def _data(number: int, place: AnswerPlace) -> dict[str, Any]:
    return {
        "number": number,
        "address": place.address,
        "members": place.count if place.count >= 0 else None,
        "value": place.value,
    }


def _report(
    args: _PinArguments,
    home: Workspace,
    record: ExchangeRecord,
    places: list[AnswerPlace],
    prefixes: Mapping[str, str],
) -> int:
    if len(places) != 1:
        raise UsageError(
            "a name is for one value", mend="name one place: juxtalogos pin PLACE --report-as NAME"
        )
    record = _as_step(args, home, record)
    where: Any = places[0].at or {"xpath": places[0].xpath}
    out, case = terminal(args), record.case.partition("[")[0]
    if not is_step(home, record):
        raise UsageError("this exchange is not part of a suite", mend="save it as a step: --save SUITE#CASE")
    declared = {prefix: uri for uri, prefix in prefixes.items()}
    with noted(home, f"pin --report-as {args.report_as}"):
        add_reported(find_suite(home, record.suite), case, record.step, {args.report_as: where}, declared)
    out.line(
        "reported as ",
        (args.report_as, "name"),
        f": {places[0].address} of {record.suite}#{case}#{record.step}",
    )
    return EXIT_HELD


def _give(
    args: _PinArguments,
    home: Workspace,
    record: ExchangeRecord,
    checks: list[dict[str, Any]],
    prefixes: Mapping[str, str] = MappingProxyType({}),
) -> None:
    """Adds checks to the step that an exchange was; prints them where it was none."""
    out = terminal(args)
    case = record.case.partition("[")[0]
    if not is_step(home, record):
        out.raw(to_yaml({"x-juxtalogos-checks": checks}))
        out.note(("this exchange is not part of a suite; save it as a step with --save SUITE#CASE", "note"))
        return
    path = find_suite(home, record.suite)
    with noted(home, f"pin {counted(len(checks), 'check')} of {record.suite}#{case}#{record.step}"):
        add_checks(path, case, record.step, checks, prefixes)
    if args.json:
        out.json({"version": 1, "suite": record.suite, "case": case, "step": record.step, "checks": checks})
        return
    for check in checks:
        out.line(("check ", "note"), dump_json(check))
    out.note((f"added to {record.suite}#{case}#{record.step} in {path}", "note"))
