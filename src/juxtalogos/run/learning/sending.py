"""How the cases of a round are run, and what is left at the end of all."""

from __future__ import annotations

import secrets
import time
from collections.abc import Iterator
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

from juxtalogos.compose.composer import Composed
from juxtalogos.documents.jsontext import dump_json
from juxtalogos.exchange.transport import Transport
from juxtalogos.ledger import ExchangeQuery, ExchangeRecord, Ledger
from juxtalogos.ledger.recorder import Recorder
from juxtalogos.model.contract import Contract
from juxtalogos.run.engine.binding import bind, digest_of
from juxtalogos.run.engine.execute import execute, until_interrupted
from juxtalogos.run.engine.plan import CaseRef, RunPlan
from juxtalogos.run.engine.stop import Stop
from juxtalogos.run.gate.gate import Gate
from juxtalogos.run.gate.state import ServiceState
from juxtalogos.run.gate.sweeping import sweep
from juxtalogos.run.gate.truth import compare
from juxtalogos.run.learning.progress import OperationProgress
from juxtalogos.run.target.recording import Recording
from juxtalogos.run.target.session import Session, known_values
from juxtalogos.suite.document.reader import read_suites
from juxtalogos.suite.document.writer import to_yaml
from juxtalogos.workspace.config import Target
from juxtalogos.workspace.files import write_whole
from juxtalogos.workspace.known import Hints, LeftOut
from juxtalogos.workspace.workspace import Workspace


@dataclass(slots=True)
class LearningResult:
    """What came of it."""

    progresses: list[OperationProgress]
    left_out: tuple[LeftOut, ...] = ()
    """Optional inputs that were refused."""
    requests: int = 0
    runs: list[int] = field(default_factory=list)
    interrupted: bool = False
    state: ServiceState = field(default_factory=ServiceState)
    """What is different at the service from before, as far as somebody looked."""


@dataclass(slots=True)
class RoundSender:
    """Runs the cases of one round after another: who is signed in stays so, and what one round has made the
    next may use.
    """

    home: Workspace
    ledger: Ledger
    contract: Contract
    target: Target
    plan: dict[str, Any]
    """Further parts of the plan of each round; may change between rounds."""
    gate: Gate
    session: Session | None = None
    token: str = field(default_factory=lambda: secrets.token_hex(4))

    @property
    def path(self) -> Path:
        """Where the suite of the round under way stands."""
        return self.home.state / "learning.arazzo.yaml"

    async def run(self, composed: Composed, hints: Hints, result: LearningResult) -> Iterator[ExchangeRecord]:
        """Runs the cases; gives what was kept of each step, one by one: answers may be large."""
        if not composed.cases:
            return iter(())
        write_whole(self.path, to_yaml(composed.document).encode(), private=True)
        read = read_suites(self.home, [self.path])
        suite = read[0][0]
        refs = tuple(CaseRef(suite.name, case.id) for case in suite.cases)
        digest = ((self.contract.name, digest_of(self.contract)),)
        token = f"{self.token}{len(result.runs)}"
        plan = RunPlan(refs, self.target.reference, digest, started=time.time(), token=token, **self.plan)
        bound = bind(self.home, plan, given=read)
        known = known_values(self.home.config, self.target, [self.contract.name], self.home.root)
        known |= {entry.name: entry.given for entry in reversed(hints.known)}
        if self.session is not None:  # who is signed in stays so
            bound.session.signer.take_over(self.session.signer)
        bound = replace(bound, session=replace(bound.session, known=known))
        ended = await execute(
            bound,
            self.home.root,
            self.ledger,
            f"learn {self.contract.name}",
            lambda record: None,
            kind="learn",
            gate=self.gate,
            look=False,
        )
        self.session = bound.session
        result.runs.append(ended.number)
        if ended.interrupted:
            result.interrupted = True
        return self.ledger.exchanges(ExchangeQuery(run=ended.number))

    async def remove_left(self, result: LearningResult) -> None:
        """Removes what the gate does not keep any more, before the next round."""
        if self.session is not None:
            number = result.runs[-1]
            async with (
                Recorder(self.ledger, number) as recorder,
                Transport(self.session.options) as transport,
            ):
                self.gate.inventory.put_undo = Recording(self.session, recorder, number).put_undo
                await sweep(self.gate, self.session, transport)

    async def leave(self, result: LearningResult) -> None:
        """Removes what the rounds have kept for one another, and looks at the service again: also where that
        is interrupted once.
        """
        if self.session is not None and await until_interrupted(self._leave(self.session, result), Stop()):
            result.interrupted = True

    async def _leave(self, session: Session, result: LearningResult) -> None:
        number = result.runs[-1]
        async with Recorder(self.ledger, number) as recorder, Transport(session.options) as transport:
            self.gate.inventory.put_undo = Recording(session, recorder, number).put_undo
            if self.gate.keeps:
                self.gate.keeps.clear()
                await sweep(self.gate, session, transport)
            result.state = await compare(self.gate, session, transport)
        self.ledger.note_state(number, dump_json(result.state.to_json()))
