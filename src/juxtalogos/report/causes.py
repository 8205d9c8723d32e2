"""Which operations had no success in a run, and what they wait for: one row a cause."""

from __future__ import annotations

import re
import shlex
from collections.abc import Iterable, Mapping
from dataclasses import dataclass

from juxtalogos.formats.http.outcomes import status_outcome
from juxtalogos.ledger import StepRow
from juxtalogos.model.findings import ResultClass
from juxtalogos.model.outcome import Outcome
from juxtalogos.model.verdict import Verdict
from juxtalogos.report.view import RunView

NEEDS_VALUE, NEEDS_STATE, NEEDS_RIGHT = "needs a value", "needs a state", "needs a credential or role"
FAILS, NOT_SENT, NOT_FOUND = "service fails", "not sent", "no working request found"
_STATE = re.compile(
    r"\b(state|status|already|not yet|must be (?:open|closed|active)|in progress|conflict)\b", re.IGNORECASE
)
_CHECK = re.compile(r"[a-z]+\.[a-z-]+ at ")
_WAITS = re.compile(r"the step (\S+) did not succeed|\$steps\.([^.]+)\.")


def need_of(outcome: Outcome, words: str) -> str:
    """What a request without success needs, as far as its response tells."""
    if outcome.about_caller:
        return NEEDS_RIGHT
    if outcome.failed:
        return FAILS
    if outcome is Outcome.CONFLICT or _STATE.search(words):
        return NEEDS_STATE
    return NEEDS_VALUE if outcome is Outcome.INVALID else NOT_FOUND


@dataclass(frozen=True, slots=True)
class Unreached:
    """An operation without a success, and how many others wait for it."""

    operation: str
    """`contract:id`."""
    need: str
    status: int
    words: str
    waiting: tuple[str, ...] = ()
    address: str = ""
    """The input that the service names."""

    @property
    def opens(self) -> int:
        """How many operations a success would open, itself among them."""
        return 1 + len(self.waiting)

    @property
    def command(self) -> str:
        """What is worth typing first; empty where nothing is known that would help."""
        if self.need != NEEDS_VALUE:
            return ""
        return f"juxtalogos rules {shlex.quote(self.operation)} --known {self.address or 'ADDRESS'}=VALUE"


def unreached(view: RunView) -> list[Unreached]:
    """Of the operations of a run, those that no request reached with success, by what all else waits for: the
    one that opens most first.
    """
    reached = {
        _name(step)
        for step in view.steps
        if status_outcome(step.status).succeeded and step.verdict is not Verdict.REFUSED
    }
    best: dict[str, StepRow] = {}
    for step in view.steps:
        name = _name(step)
        if name not in reached and (name not in best or _tells(step) > _tells(best[name])):
            best[name] = step
    blocked = {name: _blocked_by(view, step) for name, step in best.items() if not step.status}
    waiting: dict[str, list[str]] = {name: [] for name in best}
    roots = {name: _root(name, blocked, best) for name in best}
    for name, root in roots.items():
        if root != name:
            waiting[root].append(name)
    addresses = _addresses(view)
    found = [
        Unreached(
            name,
            _need(best[name]),
            best[name].status,
            _words(best[name]),
            tuple(waiting[name]),
            addresses.get(name, ""),
        )
        for name, root in roots.items()
        if root == name
    ]
    return sorted(found, key=lambda one: (-one.opens, not one.command))


def _name(step: StepRow) -> str:
    return f"{step.contract}:{step.operation}"


def _tells(step: StepRow) -> tuple[bool, bool]:
    return bool(step.status), step.reason.startswith("not sent")


def _need(step: StepRow) -> str:
    if not step.status:
        return NOT_SENT
    need = need_of(status_outcome(step.status), step.reason)
    # A protocol may declare its refusals with a status of failures, as SOAP does.
    return NEEDS_VALUE if need == FAILS and step.verdict is Verdict.REFUSED else need


def _words(step: StepRow) -> str:
    """The service's message, without what is told beside it; none where a check of ours is told instead."""
    if step.failing and _CHECK.match(step.reason):
        return "see the findings"
    return re.sub(r"^\d+: (?:refused )?", "", step.reason.removeprefix("not sent: "))


def _blocked_by(view: RunView, step: StepRow) -> str:
    """The operation of the step that a step waited for; empty where it waited for none."""
    found = _WAITS.search(step.reason)
    if found is None:
        return ""
    wanted = found[1] or found[2]
    steps = view.by_case.get((step.suite, step.case), ())
    return next((_name(one) for one in steps if one.step == wanted), "")


def _root(name: str, blocked: Mapping[str, str], known: Iterable[str]) -> str:
    seen = {name}
    while (above := blocked.get(name, "")) and above in known and above not in seen:
        seen.add(above)
        name = above
    return name


_ADDRESS = re.compile(r"--known (\S+)=VALUE")


def _addresses(view: RunView) -> dict[str, str]:
    """By operation the input that a refusal names, where its advice has one."""
    found: dict[str, str] = {}
    for one in view.findings:
        told = _ADDRESS.search(one.result.detail)
        if one.result.result_class is ResultClass.REFUSAL and told and told[1] != "ADDRESS":
            found.setdefault(f"{one.found.finding.contract}:{one.operation}", told[1])
    return found
