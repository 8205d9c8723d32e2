"""`compare`: two runs side by side."""

from __future__ import annotations

import argparse
from collections import Counter
from dataclasses import replace
from typing import Any

from juxtalogos.cli.shared.layout import counted
from juxtalogos.cli.shared.options import (
    EXIT_FAILED,
    EXIT_HELD,
    Arguments,
    add_common,
    add_full,
    terminal,
    workspace,
)
from juxtalogos.cli.shared.terminal import Terminal
from juxtalogos.formats import wire_of
from juxtalogos.ledger import ExchangeQuery, ExchangeRecord, RunQuery, RunRecord, open_ledger
from juxtalogos.model.errors import UsageError
from juxtalogos.model.schema import ABSENT
from juxtalogos.model.verdict import Verdict
from juxtalogos.report.compare import Pair, pairs, place_counts, plain_answer
from juxtalogos.report.finding_changes import ChangedFinding, FindingChange, finding_changes
from juxtalogos.run.judging.known import made_places
from juxtalogos.suite.comparing import Allowed
from juxtalogos.suite.kept_answers import read_rules
from juxtalogos.workspace.workspace import Workspace

DESCRIPTION = """\
Compare two runs step by step, such as the same suite on two targets: statuses, verdicts and values
of responses. Values that are expected to differ are ignored: generated IDs, timestamps, and what the
rules of an operation allow (kept/rules). Findings are newly failing, still failing or mended; where one
of the runs did not make the check, it says so. Without numbers, the two latest runs are compared.

exit status: 0 no differences; 1 something differs."""
EXAMPLE = """\
  juxtalogos run berths --target quayside && juxtalogos run berths --target harbour
  juxtalogos compare
  juxtalogos compare 4 9 --all
"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("runs", nargs="*", type=int, metavar="RUN", help="two runs (default: the two latest)")
    parser.add_argument("--all", action="store_true", help="also show steps without differences")
    add_full(parser)
    add_common(parser)


class _CompareArguments(Arguments):
    runs: list[int]
    all: bool
    full: bool


def run(args: _CompareArguments) -> int:
    home, out = workspace(args), terminal(args)
    with open_ledger(home.ledger_path) as ledger:
        if len(args.runs) not in (0, 2):
            raise UsageError("two runs are compared", mend="name both, or neither for the two latest")
        numbers = args.runs or [one.id for one in ledger.runs(2, RunQuery(calls=False))][::-1]
        if len(numbers) < 2:
            raise UsageError(
                "there are not two runs yet",
                mend="run the same suite twice: juxtalogos run SUITE --target NAME",
            )
        first, second = (ledger.run(number) for number in numbers)
        one, other = (ledger.exchanges(ExchangeQuery(run=run.id)) for run in (first, second))
        found = pairs(one, other, lambda record: _answer(home, record))
        changed = finding_changes(found, lambda record: _answer(home, record)[0])
    differing = [pair for pair in found if not pair.same]
    if args.json:
        out.json(
            {
                "version": 1,
                "runs": [first.id, second.id],
                "targets": [first.target, second.target],
                "steps": [_data(item) for item in (found if args.all else differing)],
                "same": len(found) - len(differing),
                "findings": [_finding_data(item) for item in changed],
            }
        )
        return EXIT_FAILED if differing else EXIT_HELD
    _tell(out, (first, second), found, changed, args)
    return EXIT_FAILED if differing else EXIT_HELD


def _answer(home: Workspace, record: ExchangeRecord) -> tuple[Any, Allowed]:
    """An answer as its definition has it, with what may differ by the operation's rules and what its call
    made.
    """
    contract = home.contract(record.contract) if record.contract in home.contract_names() else None
    operation = contract.operation(record.operation) if contract else None
    if contract is None or operation is None or record.exchange is None or record.exchange.response is None:
        return plain_answer(record)
    value = wire_of(contract).decode(operation, record.exchange).value
    if value is ABSENT:
        value = plain_answer(record)[0]
    allowed = read_rules(home.root, record.contract, record.operation)
    made = made_places(record, operation, value)
    return value, replace(allowed, created=tuple(dict.fromkeys([*allowed.created, *made])))


STEPS, PLACES = 20, 20
VALUES = "other values in the response"


def _tell(
    out: Terminal,
    runs: tuple[RunRecord, RunRecord],
    found: list[Pair],
    changed: list[ChangedFinding],
    args: _CompareArguments,
) -> None:
    """What changed first, like with like; then the steps, the worst first."""
    first, second = runs
    differing = [pair for pair in found if not pair.same]
    out.line(
        f"{counted(len(found), 'step')}: {len(found) - len(differing)} the same, ",
        (f"{len(differing)} not", "head"),
    )
    changes = Counter(map(_change, differing))
    for change, count in changes.most_common():
        out.line((f"{count:6}  ", "head"), change)
    _tell_findings(out, changed, full=args.full)
    _tell_kept(out, found, full=args.full)
    places = place_counts(differing)
    if places:
        out.line()
        out.line(("values that differ", "head"))
        listed = places if args.full else places[:PLACES]
        out.table(
            ("steps", "operation", "place", "for example"), listed, styles=("", "name", "name"), right=(0,)
        )
        if len(listed) < len(places):
            out.line((f"and {len(places) - len(listed)} more places: --full", "note"))
    # Whose values alone differ is told by its places.
    told = differing if args.full else [one for one in differing if _change(one) != VALUES]
    shown = found if args.all else sorted(told, key=_badness)
    if not shown:
        return
    out.line()
    listed_steps = shown if args.full or args.all else shown[:STEPS]
    out.table(
        ("step", f"run {first.id} ({first.target})", f"run {second.id} ({second.target})", "answers"),
        [
            (
                f"{earlier.suite}#{earlier.case}#{earlier.step}",
                _side(earlier.first),
                _side(earlier.second),
                _words(earlier),
            )
            for earlier in listed_steps
        ],
        styles=("name",),
    )
    if len(listed_steps) < len(shown):
        out.line((f"and {len(shown) - len(listed_steps)} more steps: --full, or --json", "note"))


_UNCHANGED = (FindingChange.STILL, FindingChange.NOT_TRIED)
_STYLES = {FindingChange.MENDED: "passed", FindingChange.NOT_TRIED: "note"}


def _tell_findings(out: Terminal, changed: list[ChangedFinding], *, full: bool) -> None:
    """How the findings differ: counts, then each that is newly failing or mended."""
    if not changed:
        return
    counts = Counter(one.change for one in changed)
    out.line()
    out.line(
        ("findings: ", "head"), ", ".join(f"{counts[one]} {one}" for one in FindingChange if counts[one])
    )
    left = 0
    for change in FindingChange:
        found = [one for one in changed if one.change is change]
        told = found if full else [] if change in _UNCHANGED else found[:PLACES]
        left += len(found) - len(told)
        rows = [(one.finding.result.kind, one.finding.result.at, one.step, one.exchange) for one in told]
        if rows:
            style = _STYLES.get(change, "deviation")
            out.table((change, "at", "step", "exchange"), rows, styles=(style,), right=(3,))
    if left:
        out.line((f"and {counted(left, 'more finding')}: --full", "note"))


def _finding_data(one: ChangedFinding) -> dict[str, Any]:
    return {
        "change": one.change,
        "kind": one.finding.result.kind,
        "at": one.finding.result.at,
        "fingerprint": one.finding.fingerprint,
        "operation": f"{one.finding.contract}:{one.finding.operation}",
        "step": one.step,
        "exchange": one.exchange,
    }


def _tell_kept(out: Terminal, found: list[Pair], *, full: bool) -> None:
    """Answers that are not as a kept one, in either run: two runs may fail alike."""
    kept = [(pair, *pair.not_as_kept) for pair in found if any(pair.not_as_kept)]
    if not kept:
        return
    out.line()
    out.line(("not as the kept response", "head"))
    rows = [
        (
            f"{pair.suite}#{pair.case}#{pair.step}",
            "both" if first and second else "first" if first else "second",
            (second or first)[0],
        )
        for pair, first, second in (kept if full else kept[:PLACES])
    ]
    out.table(("step", "run", "differs"), rows, styles=("name",))
    if len(rows) < len(kept):
        out.line((f"and {len(kept) - len(rows)} more: --full", "note"))


def _change(pair: Pair) -> str:
    """What changed of a step, in words that others may share."""
    one, other = pair.first, pair.second
    if one is None or other is None:
        return f"steps only in the {'second' if one is None else 'first'} run"
    if one.status != other.status:
        return f"status {one.status or 'no response'}, then {other.status or 'no response'}"
    if one.verdict is not other.verdict:
        return f"{one.verdict}, then {other.verdict}"
    return VALUES


def _badness(pair: Pair) -> tuple[bool, int]:
    """What got worse first."""
    if pair.first is None or pair.second is None:
        return True, 0
    order = list(Verdict)
    return order.index(pair.second.verdict) >= order.index(pair.first.verdict), order.index(
        pair.second.verdict
    )


def _side(record: ExchangeRecord | None) -> str:
    return f"{record.status or 'no response'} {record.verdict}" if record else "not there"


def _words(pair: Pair) -> str:
    if pair.first is None or pair.second is None:
        return ""
    return counted(len(pair.differences), "difference") if pair.differences else "the same"


def _data(pair: Pair) -> dict[str, Any]:
    def side(record: ExchangeRecord | None) -> Any:
        return (
            {"exchange": record.id, "status": record.status or None, "verdict": record.verdict}
            if record
            else None
        )

    return {
        "suite": pair.suite,
        "case": pair.case,
        "step": pair.step,
        "first": side(pair.first),
        "second": side(pair.second),
        "differences": list(pair.differences),
        "notAsKept": {"first": list(pair.not_as_kept[0]), "second": list(pair.not_as_kept[1])},
    }
