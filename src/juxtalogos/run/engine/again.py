"""A case of a suite run again, as when its answers are to be compared with earlier ones."""

from __future__ import annotations

import secrets
import time
from collections.abc import Iterable

from juxtalogos.ledger import Ledger
from juxtalogos.run.engine.binding import bind, contracts_of, digest_of
from juxtalogos.run.engine.execute import execute
from juxtalogos.run.engine.loop import run_loop
from juxtalogos.run.engine.plan import RunPlan
from juxtalogos.run.engine.selecting import Selection, choose, paths_of
from juxtalogos.suite.document.reader import read_suites
from juxtalogos.suite.document.selection import reachable
from juxtalogos.workspace.config import Target
from juxtalogos.workspace.workspace import Workspace


def target_again(home: Workspace, name: str, contracts: Iterable[str]) -> Target:
    """The target of an earlier run, where it is still there; else the usual one."""
    return home.target(name if name in home.config.targets or "://" in name else None, contracts)


def run_again(home: Workspace, ledger: Ledger, suite: str, case: str, target: Target, role: str = "") -> int:
    """Runs a whole case, its clean-up with it; gives the run's number. SuiteError when it is not there any
    more.
    """
    selection = Selection((f"{suite}#{case}",))
    read = read_suites(home, paths_of(home, selection))
    refs = choose(home, read[0], selection)
    cases = [(one, found) for one in read[0] if one.name == suite and (found := one.case(case)) is not None]
    contracts = contracts_of(reachable(cases, read[1]))
    plan = RunPlan(
        refs,
        target.reference,
        tuple((name, digest_of(contract)) for name, contract in contracts.items()),
        started=time.time(),
        token=secrets.token_hex(4),
        jobs=1,
        role=role,
        agreed=not target.guarded,
    )
    return run_loop(
        execute(bind(home, plan, given=read), home.root, ledger, str(selection), lambda _: None)
    ).number
