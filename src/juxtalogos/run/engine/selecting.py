"""Which cases a run is of: suites, folders of them, cases, steps; of these by tag, by operation, or what
still fails.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from pathlib import Path

from juxtalogos.ledger import RunQuery, open_ledger
from juxtalogos.model.errors import SuiteError, UsageError, nearest, quoted
from juxtalogos.model.verdict import Verdict
from juxtalogos.run.engine.plan import CaseRef
from juxtalogos.suite.document.reader import find_suite, suite_name, suite_paths
from juxtalogos.suite.document.selection import select
from juxtalogos.suite.model import Case, Suite
from juxtalogos.workspace.workspace import Workspace

_RUNS_LOOKED_AT = 50


@dataclass(frozen=True, slots=True)
class Selection:
    """What was asked for; all of it empty means every case."""

    words: tuple[str, ...] = ()
    """`SUITE`, `FOLDER`, `SUITE#CASE` or `SUITE#CASE#STEP`."""
    tags: tuple[str, ...] = ()
    operations: tuple[str, ...] = ()
    still_failing: bool = False

    def __str__(self) -> str:
        told = [
            *self.words,
            *(f"tag {tag}" for tag in self.tags),
            *(f"operation {operation}" for operation in self.operations),
        ]
        return ", ".join([*told, *(["still failing"] if self.still_failing else [])]) or "every suite"


def paths_of(home: Workspace, selection: Selection) -> list[Path]:
    """The files of the suites that are named, each once.

    SuiteError where a name is of neither suite nor folder.
    """
    if not selection.words:
        return suite_paths(home)
    found: dict[Path, None] = {}
    for word in selection.words:
        name = word.partition("#")[0]
        inside = [
            path for path in suite_paths(home) if suite_name(path, home).startswith(name.rstrip("/") + "/")
        ]
        known = {suite_name(path, home) for path in suite_paths(home)}
        found |= dict.fromkeys(inside if inside and name not in known else [find_suite(home, name)])
    return list(found)


def choose(home: Workspace, suites: Sequence[Suite], selection: Selection) -> tuple[CaseRef, ...]:
    """The cases, each once, in the order in which they were named.

    SuiteError or UsageError where nothing is left.
    """
    if not suites:
        raise SuiteError(
            "there are no suites", where=str(home.suites), mend="compose one: juxtalogos compose CONTRACT"
        )
    chosen: dict[tuple[str, str, str], tuple[Suite, Case]] = {}
    for word in selection.words or ("",):
        name, _, rest = word.partition("#")
        case_id, _, step_id = rest.partition("#")
        of = [
            suite
            for suite in suites
            if not name or suite.name == name or suite.name.startswith(name.rstrip("/") + "/")
        ]
        picked = list(select(of, case_id, step_id))
        if not picked:
            known = [case.id for suite in of for case in suite.cases]
            raise SuiteError(f"there is no case {quoted(case_id)}", where=word, mend=nearest(case_id, known))
        chosen |= {(suite.name, case.id, step_id): (suite, case) for suite, case in picked}
    _check_tags(suites, selection.tags)
    wanted = {home.operation(name)[1].full_id for name in selection.operations}
    failing = _failing(home) if selection.still_failing else None
    refs = tuple(
        CaseRef(suite, case_id, step)
        for (suite, case_id, step), (_, case) in chosen.items()
        if (not selection.tags or set(selection.tags) & set(case.tags))
        and (
            not wanted
            or any(earlier.operation and earlier.operation.full_id in wanted for earlier in case.steps)
        )
        and (failing is None or (suite, case_id) in failing)
    )
    if not refs:
        raise UsageError(
            f"no case is left of: {selection}", mend="see what there is: juxtalogos suite list SUITE"
        )
    return refs


def _check_tags(suites: Iterable[Suite], tags: Iterable[str]) -> None:
    known = {tag for suite in suites for case in suite.cases for tag in case.tags}
    for tag in tags:
        if tag not in known:
            mend = nearest(tag, known) if known else "no case has a tag: juxtalogos suite tag SUITE#CASE TAG"
            raise UsageError(f"no case has the tag {quoted(tag)}", mend=mend)


def _failing(home: Workspace) -> set[tuple[str, str]]:
    """(suite, case) of what did not pass when it last ran; of a case with a table or repeated, when any of
    its turns did not.
    """
    latest: dict[tuple[str, str], tuple[int, set[Verdict]]] = {}
    with open_ledger(home.ledger_path) as ledger:
        for run in ledger.runs(_RUNS_LOOKED_AT, RunQuery(calls=False)):
            for case in ledger.cases(run.id):
                key = case.suite, case.case.partition("[")[0]
                number, verdicts = latest.setdefault(key, (run.id, set()))
                if number == run.id:
                    verdicts.add(case.verdict)
    return {key for key, (_, verdicts) in latest.items() if verdicts & {Verdict.FAILED, Verdict.ERROR}}
