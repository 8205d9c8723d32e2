"""A whole exploration: the system up, contracts explored one after another, everything kept also on an
interrupt.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass, field, replace
from pathlib import Path

from juxtalogos.documents.jsontext import dump_json
from juxtalogos.exchange.transport import Transport
from juxtalogos.explore.explorer import Explored, Explorer, Progress
from juxtalogos.explore.prober.budget import Budget
from juxtalogos.explore.prober.prober import Prober
from juxtalogos.explore.prober.requests import RequestMaker
from juxtalogos.explore.reporting.saving import Kept
from juxtalogos.explore.resources.kinds import kinds_of
from juxtalogos.explore.resources.sandbox import Sandbox
from juxtalogos.ledger import Ledger
from juxtalogos.ledger.recorder import Recorder
from juxtalogos.model.contract import Contract
from juxtalogos.model.verdict import Verdict
from juxtalogos.run.engine.execute import until_interrupted
from juxtalogos.run.engine.stop import Stop
from juxtalogos.run.gate.gate import Gate
from juxtalogos.run.gate.inventory import Inventory
from juxtalogos.run.gate.places import reads
from juxtalogos.run.gate.state import ServiceState
from juxtalogos.run.gate.sweeping import sweep
from juxtalogos.run.gate.truth import compare
from juxtalogos.run.target.recording import Recording
from juxtalogos.run.target.session import Session
from juxtalogos.run.target.system import running_system
from juxtalogos.workspace.known import Hints


@dataclass(frozen=True, slots=True)
class Wishes:
    """What a person wants of an exploration."""

    operations: Mapping[str, frozenset[str]]
    """By contract, what is explored."""
    budget: Budget
    seed: int = 0
    token: str = ""
    only_reading: bool = False
    hints: Mapping[str, Hints] = field(default_factory=dict)
    """By contract, what is known of it."""
    left_out: Mapping[str, Mapping[str, str]] = field(default_factory=dict)
    """By contract and operation, the reason why it is left out."""
    laws: Mapping[str, Callable[[str, str], bool | None]] = field(default_factory=dict)
    """By contract: (law, operation) -> adopted, left out, or neither."""
    enforced: frozenset[str] = frozenset()
    """Contracts of which each input that they do not allow must be refused."""
    strict_clean: bool = False
    """Whether nothing is created that no operation removes."""
    saving: bool = False
    """Whether cases are made of what is found."""


@dataclass(slots=True)
class Exploration:
    """How it ended; everything else is in the ledger."""

    number: int = 0
    interrupted: bool = False
    explored: dict[str, Explored] = field(default_factory=dict)
    state: ServiceState = field(default_factory=ServiceState)
    """What is different at the service from before, as far as somebody looked."""


async def explore(
    session: Session,
    workspace: Path,
    ledger: Ledger,
    wishes: Wishes,
    roles: Iterable[str],
    what: str,
    told: Callable[[Progress], None],
) -> Exploration:
    """`told` of each block that ended.

    ConfigError when the system does not come up, LedgerError when nothing can be kept.
    """
    done = Exploration()
    async with running_system(session, workspace):
        done.number = ledger.begin("explore", session.target.name, what, token=wishes.token)
        verdict, stop = Verdict.ERROR, Stop()
        done.interrupted = True
        try:
            done.interrupted = await until_interrupted(
                _all(session, ledger, done, wishes, tuple(roles), told, stop), stop
            )
            verdict = ledger.worst(done.number) if not done.interrupted else Verdict.ERROR
        finally:
            ledger.end(done.number, verdict, interrupted=done.interrupted)
    return done


async def _all(
    session: Session,
    ledger: Ledger,
    done: Exploration,
    wishes: Wishes,
    roles: tuple[str, ...],
    told: Callable[[Progress], None],
    stop: Stop,
) -> None:
    options = replace(session.options, connections=4, patient=True)
    async with Recorder(ledger, done.number) as recorder, Transport(options) as transport:
        door = Recording(session, recorder)
        gate = Gate(
            Inventory(session.target.reference, put_undo=door.put_undo),
            exploring=True,
            strict=wishes.strict_clean,
        )
        gate.session, session = session, replace(session, gate=gate)
        for name, contract in session.contracts.items():
            if not wishes.operations.get(name) or stop.asked:
                continue
            explorer = _explorer(contract, session, transport, wishes, roles, door, told, stop)
            if any(one.id in wishes.operations[name] and not reads(one) for one in contract.operations):
                await gate.records.look(gate.reader(session, transport, contract))
            explorer.sandbox.maker.marks = gate.inventory.marks
            done.explored[name] = await explorer.explore()
        await sweep(gate, session, transport)
        done.state = await compare(gate, session, transport)
        ledger.note_state(done.number, dump_json(done.state.to_json()))


def _explorer(
    contract: Contract,
    session: Session,
    transport: Transport,
    wishes: Wishes,
    roles: tuple[str, ...],
    door: Recording,
    told: Callable[[Progress], None],
    stop: Stop,
) -> Explorer:
    name = contract.name
    left_out = dict(wishes.left_out.get(name, {}))
    maker = RequestMaker(
        contract,
        wishes.hints.get(name, Hints()),
        wishes.token,
        wishes.seed,
        session.known,
        wishes.only_reading,
    )
    prober = Prober(
        contract,
        session,
        transport,
        wishes.budget,
        f"explore {name}",
        only_reading=wishes.only_reading or session.target.only_reading,
        settle=session.target.settle,
        enforced=name in wishes.enforced,
        stopped=lambda: stop.asked,
    )
    acting = {role: session.acting(role) for role in roles}
    sandbox = Sandbox(
        prober,
        maker,
        kinds_of(maker),
        acting,
        wishes.laws.get(name, lambda law, operation: None),
    )
    chosen = frozenset(candidate for candidate in wishes.operations[name] if candidate not in left_out)
    return Explorer(
        contract, sandbox, wishes.budget, door, chosen, left_out, told, kept=Kept() if wishes.saving else None
    )
