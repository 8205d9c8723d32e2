"""Binding: a plan of references -> what a process needs to do it, read from the workspace, secrets resolved
here and now.
"""

from __future__ import annotations

import hashlib
from collections.abc import Mapping
from dataclasses import dataclass, replace
from functools import cached_property
from typing import Any

from juxtalogos.model.contract import Contract, Operation
from juxtalogos.model.errors import ConfigError, SuiteError, nearest, quoted
from juxtalogos.run.engine.plan import CaseRef, RunPlan, Turn, turns
from juxtalogos.run.target.session import Identity, Session, open_session
from juxtalogos.suite.document.reader import find_suite, read_suites
from juxtalogos.suite.document.selection import cut_to_step, reachable
from juxtalogos.suite.model import Case, CaseKey, Suite
from juxtalogos.suite.tables import check_columns, needs_trust, read_table
from juxtalogos.workspace.trust import Trust
from juxtalogos.workspace.workspace import Workspace

Row = Mapping[str, Any]
Cases = Mapping[CaseKey, tuple[Suite, Case]]


@dataclass(frozen=True)
class BoundRun:
    """A plan with everything that its references lead to."""

    plan: RunPlan
    session: Session
    cases: Cases
    """Every case that is run, needed or called."""
    keys: Mapping[tuple[str, str], CaseKey]
    rows: Mapping[CaseKey, tuple[Row, ...]]
    """Of cases that have a table."""

    @cached_property
    def subjects(self) -> frozenset[str]:
        """Operations that a case of the run is about, in full."""
        steps = (
            step for _, case in self.cases.values() for step in case.steps if not (step.needed or step.always)
        )
        return frozenset(step.operation.full_id for step in steps if step.operation is not None)

    def key(self, ref: CaseRef) -> CaseKey:
        return self.keys[ref.suite, ref.case]

    @property
    def row_counts(self) -> dict[CaseKey, int]:
        return {key: len(rows) for key, rows in self.rows.items()}


def bind(home: Workspace, plan: RunPlan, *, given: tuple[list[Suite], Cases] | None = None) -> BoundRun:
    """Everything that users can have wrong comes to light here, before anything is sent.

    `given`: suites that were read already.
    """
    suites, everything = given or read_suites(
        home, [find_suite(home, name) for name in dict.fromkeys(ref.suite for ref in plan.cases)]
    )
    chosen = [_case(suites, ref) for ref in plan.cases]
    cases = reachable(chosen, everything)
    target = home.target(plan.target)
    if plan.agreed:
        target = replace(target, guarded="")
    if target.system or needs_trust(home.config, [case for _, case in cases.values()]):
        Trust(home.root, plan.grant).require_commands()
    contracts = contracts_of(cases)
    _same(plan, contracts)
    session = open_session(
        contracts,
        target,
        home.root,
        with_credentials=plan.with_credentials,
        config=home.config,
        seed=plan.seed,
        given=dict(plan.values),
        now=plan.started,
        identity=Identity(plan.role, plan.credentials, plan.headers),
        roles=[step.role for _, case in cases.values() for step in case.steps if step.role],
        grant=plan.grant,
    )
    for contract in contracts.values():
        session.base_url(contract)
    rows = {key: read_table(home, suite, case) for key, (suite, case) in cases.items() if case.table}
    for key, found in rows.items():
        check_columns(cases[key][1], found, session.target.variables)
    keys = {(ref.suite, ref.case): case.key for ref, (_, case) in zip(plan.cases, chosen)}
    return BoundRun(plan, session, cases, keys, rows)


def turns_of(run: BoundRun, key: CaseKey, only: tuple[int, int] | None = None) -> list[Turn]:
    """The turns of a case, or those of some rows of its table."""
    rows = run.rows.get(key)
    return list(turns(run.cases[key][1], None if rows is None else len(rows), run.plan.repeat, only))


def contracts_of(cases: Cases) -> dict[str, Contract]:
    """The contracts that some cases call."""
    steps = (step for _, case in cases.values() for step in case.steps)
    return {step.contract.name: step.contract for step in steps if step.contract}


def operations_of(cases: Cases) -> list[Operation]:
    """The operations that some cases call, each once."""
    steps = [step for _, case in cases.values() for step in case.steps]
    return list({step.operation.full_id: step.operation for step in steps if step.operation}.values())


def digest_of(contract: Contract) -> str:
    """What a contract's documents are, in one text."""
    digest = hashlib.sha256(contract.format.encode())
    for uri in sorted(contract.documents):
        digest.update(f"\x00{uri}\x00".encode())
        digest.update(hashlib.sha256(contract.documents[uri].text).digest())
    return digest.hexdigest()[:32]


def _same(plan: RunPlan, contracts: Mapping[str, Contract]) -> None:
    """ConfigError when a contract is another one here than where the plan was made."""
    for name, digest in plan.contracts:
        if name in contracts and digest_of(contracts[name]) != digest:
            raise ConfigError(
                f"the definition {name} is not the one that the run was planned with",
                where=f"[contracts.{name}]",
                mend="run it again, and leave the workspace as it is meanwhile",
            )


def _case(suites: list[Suite], ref: CaseRef) -> tuple[Suite, Case]:
    suite = next((document_ for document_ in suites if document_.name == ref.suite), None)
    if suite is None:
        raise SuiteError(
            f"there is no suite {quoted(ref.suite)}",
            where=ref.suite,
            mend=nearest(ref.suite, [document_.name for document_ in suites]),
        )
    case = suite.case(ref.case)
    if case is None:
        raise SuiteError(
            f"there is no case {quoted(ref.case)}",
            where=str(suite.path),
            mend=nearest(ref.case, [other_case.id for other_case in suite.cases]),
        )
    return suite, cut_to_step(suite, case, ref.step) if ref.step else case
