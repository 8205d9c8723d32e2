"""The gate: asked before every request that changes something, and told of what came back.

A request passes that works on what this run made, by proof, or below it. What exists once is read first and
written back. What was there before is not touched: `Withheld` says why a request is not sent.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import asdict, dataclass, field, replace
from typing import Any

from juxtalogos.exchange.transport import Sender
from juxtalogos.formats import outcome_of, wire_of
from juxtalogos.formats.http.outcomes import reads_only
from juxtalogos.model.contract import Contract, Intent, Operation
from juxtalogos.model.errors import JuxtalogosError, Withheld
from juxtalogos.model.exchange import Exchange, Request
from juxtalogos.model.outcome import Outcome
from juxtalogos.model.wire import Inputs
from juxtalogos.run.gate.inventory import CASE, Admission, Blind, Inventory, Made
from juxtalogos.run.gate.places import Aim, Site, Sites, aim_of, normal, reads, unfit
from juxtalogos.run.gate.pulse import Pulse
from juxtalogos.run.gate.reading import Reader, Tally
from juxtalogos.run.gate.records import ServiceRecords
from juxtalogos.run.gate.settings import IsList, KeptSettings
from juxtalogos.run.target.session import Session

_WRITES = (Intent.REPLACE, Intent.UPDATE)
_ENDS = (*_WRITES, Intent.DELETE, Intent.EMPTY)


@dataclass(slots=True)
class Gate:
    """Of one run, or of all rounds of learning."""

    inventory: Inventory = field(default_factory=Inventory)
    session: Session | None = None
    """Who looks; None for whoever sends."""
    exploring: bool = False
    """Whether no person has asked for any request by name: then what is dangerous is never sent."""
    strict: bool = False
    """Whether nothing is created that no operation removes."""
    keeps: set[str] = field(default_factory=set)
    """Full ids of operations that create: what they made is not removed yet, for another round needs it."""
    places: dict[str, Sites] = field(default_factory=dict)
    singles: KeptSettings = field(default_factory=KeptSettings)
    withheld: dict[str, str] = field(default_factory=dict)
    """By operation, why a request of it was not sent."""
    tally: Tally = field(default_factory=Tally)
    records: ServiceRecords = field(default_factory=ServiceRecords)
    pulse: Pulse = field(init=False)
    changing: int = 0
    """Requests that passed and may change something."""
    unwatched: dict[str, None] = field(default_factory=dict)
    """Operations that were called, and of which nobody looked at what they change."""

    def __post_init__(self) -> None:
        self.pulse = Pulse(self.tally)

    def of(self, contract: Contract) -> Sites:
        """The places of a contract, looked at once."""
        found = self.places.get(contract.name)
        if found is None or found.contract is not contract:
            found = self.places[contract.name] = Sites(contract)
        return found

    def reader(self, session: Session, sender: Sender, contract: Contract) -> Reader:
        """What reads for the gate."""
        return Reader(self.session or session, sender, self.of(contract), self.tally)

    async def admit(
        self,
        session: Session,
        sender: Sender,
        contract: Contract,
        operation: Operation,
        request: Request,
        *,
        watch: bool = False,
        made_with: Inputs | None = None,
    ) -> Admission | None:
        """Withheld where the request could change what this run did not make; None where it only reads.

        With `watch` nothing is withheld, for a person wrote the request; what it makes is noted all the same.
        """
        if self.pulse.broken and not watch:
            raise Withheld(self.pulse.broken)
        as_declared = wire_of(contract).answers_to(operation, request)
        if reads(operation) and (as_declared or reads_only(request)):
            return None
        reader = self.reader(session, sender, contract)
        try:
            inputs = _inputs(session, contract, operation, request, made_with)
        except Withheld:
            if watch:
                return None  # a person's request is sent as it is
            raise
        aim = reader.places.aim(operation, inputs)
        creates = reader.places.creates(operation)
        admission = Admission(operation, inputs, aim, creates, watch, self.inventory.marks_in(inputs))
        if creates:
            admission.known = await self.inventory.look(reader, operation, inputs, aim)
        if not watch:
            try:
                await self._judge(reader, admission)
            except Withheld as refusal:
                if not reads(operation):
                    self.withheld.setdefault(operation.full_id, refusal.what)
                raise
            if admission.creates:
                admission.intent = await self.inventory.intend(reader.places, admission)
            elif operation.intent in _WRITES and self.inventory.is_made(aim.place, aim.key):
                item = self.inventory.made[aim.place][aim.key]
                await self.inventory.will_change(reader.places, item, admission.marks)
        self.changing += 1
        self.pulse.began(operation)
        return admission

    async def _judge(self, reader: Reader, admission: Admission) -> None:
        operation, aim = admission.operation, admission.aim
        for key in (*(key for _, key in aim.above), aim.key):
            if key and unfit(key):
                raise Withheld(f"{', '.join(key)!r} must not stand in an address")
        if reads(operation):  # sent by another method than declared
            if not self.inventory.below_ours(aim):
                raise Withheld("it is sent by a method that may change what this run did not make")
        elif operation.full_id in self.pulse.mended:
            raise Withheld(self.pulse.mended[operation.full_id])
        elif operation.intent is Intent.EMPTY and aim.above:
            if not self.inventory.below_ours(aim):
                raise Withheld("it would remove what this run did not make")
        elif operation.danger.withheld:
            if self.exploring:
                raise Withheld(f"it {operation.danger}")
            self.unwatched[operation.full_id] = None  # a person asked for it: compose leaves it out
        elif admission.creates and not self.inventory.is_made(aim.place, aim.key):
            await self._may_create(reader, admission)
        elif self.inventory.below_ours(aim):
            return
        elif aim.key:
            await self._may_change(reader, admission)
        elif operation.intent is Intent.EMPTY:
            raise Withheld("it would remove what this run did not make")
        else:
            await self._may_act(reader, admission)

    async def _may_create(self, reader: Reader, admission: Admission) -> None:
        """An item may be added; under a name of the caller's only where nothing has that name."""
        operation, aim = admission.operation, admission.aim
        shown = admission.known.shown if admission.known is not None else None
        if self.strict and reader.places.deleter(operation) is None:
            raise Withheld("no operation of the contract removes what it creates")
        if not aim.key:
            return
        if shown is not None and shown.has(aim, operation.noun):
            raise Withheld(f"{aim.told} was there before")
        state = await reader.state_of(operation, aim)
        if state is None and shown is None:
            raise Withheld(f"nothing shows whether {aim.told} is there already")
        if state is not None and state is not Outcome.ABSENT:
            raise Withheld(f"reading {aim.told} does not say that it is not there yet")

    async def _may_change(self, reader: Reader, admission: Admission) -> None:
        """An item of others is not changed; one of a kind that nothing makes is written back."""
        operation, inputs, aim, places = admission.operation, admission.inputs, admission.aim, reader.places
        admission.made = await self.inventory.known_elsewhere(reader, operation, aim)
        if admission.made is not None:
            return
        beside = places.reader_beside(operation, inputs)
        if operation.intent in _WRITES and beside is not None and not places.makes_items_at(aim.place):
            await self._keep(reader, admission, beside)
        elif operation.intent is Intent.ACT and places.takes_a_setting(operation, aim):
            self.unwatched[operation.full_id] = None
        elif not await self._is_nowhere(reader, operation, inputs, aim):
            raise Withheld(f"this run did not make {aim.told}")

    async def _is_nowhere(self, reader: Reader, operation: Operation, inputs: Inputs, aim: Aim) -> bool:
        """Whether the service says that there is no such item: then nothing can be changed."""
        state = await reader.state_of(operation, aim)
        if state is Outcome.INVALID and self.exploring:
            state = Outcome.ABSENT  # the tool made up the name, and it is none that anything can have
        if state is not None and state is not Outcome.ABSENT:
            return False
        listing = reader.places.listing(operation, inputs)
        asked = reader.list_inputs(listing, inputs) if listing is not None else None
        shown = await reader.all_of(listing, asked) if listing is not None and asked is not None else None
        if shown is not None and shown.has(aim, operation.noun):
            return False
        return state is not None or shown is not None

    async def _may_act(self, reader: Reader, admission: Admission) -> None:
        """What names no item: a thing that exists once is written back, a list is added to, and what cannot
        be read is an action that its danger decides on.
        """
        operation, inputs, aim, places = admission.operation, admission.inputs, admission.aim, reader.places
        beside = places.reader_beside(operation, inputs)
        if beside is not None:
            try:
                await self._keep(reader, admission, beside)
            except IsList:
                if operation.intent in _ENDS:
                    raise
                admission.creates = True  # it adds to a list, from which nothing is removed again
                admission.known = await self.inventory.look(reader, operation, inputs, aim, beside)
            return
        foreign = next((above for above in reversed(aim.above) if places.makes_items_at(above[0])), None)
        if foreign is not None and await reader.state_at(*foreign) is not Outcome.ABSENT:
            raise Withheld(f"it works on {', '.join(foreign[1])}, which this run did not make")
        if operation.intent in _ENDS:
            raise Withheld("nothing reads what it changes, so it could not be written back")
        self.unwatched[operation.full_id] = None

    async def _keep(self, reader: Reader, admission: Admission, beside: Operation) -> None:
        """Reads what exists once; what writes it back is kept before anything is written."""
        operation = admission.operation
        single = await self.singles.keep(reader, operation, beside, admission.inputs, CASE.get())
        await self.inventory.intend_write(reader.places.contract, operation, single)
        admission.single = single

    async def note(
        self, session: Session, sender: Sender, contract: Contract, admission: Admission, exchange: Exchange
    ) -> None:
        """What came of a request that passed."""
        operation, aim, inventory = admission.operation, admission.aim, self.inventory
        outcome = outcome_of(contract, operation, exchange)
        if admission.single is not None:
            admission.single.written = True
        if outcome.succeeded and operation.intent is Intent.DELETE and aim.key:
            await inventory.forget(admission.made or inventory.made.get(aim.place, {}).get(aim.key))
        elif outcome.succeeded and admission.creates and not inventory.is_made(aim.place, aim.key):
            await inventory.created(self.reader(session, sender, contract), admission, exchange)
        elif outcome.succeeded and operation.intent is Intent.ACT and inventory.is_made(aim.place, aim.key):
            await inventory.acted(self.reader(session, sender, contract), admission, exchange)
        elif admission.creates and not (outcome.refused or outcome.succeeded or exchange.unsent):
            inventory.note_blind(admission)  # it may have been made all the same
        elif outcome.refused and admission.marks and admission.known and admission.known.shown:
            inventory.note_blind(admission)  # some services refuse what they have begun: the list shows it
        if exchange.response is not None or exchange.unsent:
            await self.unsent(admission)

    async def unsent(self, admission: Admission) -> None:
        """A request was not sent after all, or what it did is known: its intent is no more."""
        if admission.intent is not None:
            await self.inventory.put(replace(admission.intent, done=True))

    async def feel(
        self,
        session: Session,
        sender: Sender,
        contract: Contract,
        operation: Operation,
        request: Request,
        exchange: Exchange,
    ) -> None:
        """Takes every answer, to notice when the service does not answer as it did any more."""
        told = contract, operation, request, exchange
        await self.pulse.note(session, sender, told, lambda: self._write_back(session, sender))

    async def feel_once(self, session: Session, sender: Sender) -> None:
        """At the end: whether the latest answers were the first of a service that has changed."""
        await self.pulse.look(session, sender, lambda: self._write_back(session, sender))

    async def _write_back(self, session: Session, sender: Sender) -> bool:
        return await self.singles.write_back(
            lambda name: self.reader(session, sender, session.contracts[name])
        )

    async def settle(self, session: Session, sender: Sender) -> None:
        """At the end of a case: what exists once and was changed is written back."""
        settled = await self.singles.settle(
            lambda name: self.reader(session, sender, session.contracts[name]), CASE.get()
        )
        for single in settled:
            if not single.left and single.undo is not None:
                await self.inventory.put(replace(single.undo, done=True))
                single.undo = None

    def unread_creators(self) -> Iterator[Operation]:
        """What may have left something behind, where nobody has looked."""
        for items in self.inventory.made.values():
            yield from (made.creator for made in items.values() if not made.gone)
        yield from (blind.operation for blind in self.inventory.blind.values())
        yield from (single.writer for single in self.singles.known.values() if single.written)

    def note_unwatched(self, operation: Operation) -> None:
        """A person's request may change something, and nothing is looked at for it."""
        if not reads(operation):
            self.changing += 1
            self.unwatched[operation.full_id] = None
            self.pulse.began(operation)

    def told(self) -> dict[str, Any]:
        """What another process is told of the work of this one."""
        return {
            "broken": self.pulse.broken,
            "mended": self.pulse.mended,
            "changing": self.changing,
            "requests": self.tally.requests,
            "withheld": self.withheld,
            "unwatched": list(self.unwatched),
            "blind": [[one.operation.contract, one.operation.id] for one in self.inventory.blind.values()],
            "left": [
                [asdict(made.aim), made.creator.contract, made.creator.id, made.left]
                for items in self.inventory.made.values()
                for made in dict.fromkeys(items.values())
                if not made.theirs
            ],
        }

    def hear(self, told: Mapping[str, Any], contracts: Mapping[str, Contract]) -> None:
        """Takes what another process told."""
        self.pulse.broken = self.pulse.broken or told["broken"]
        self.pulse.mended |= told["mended"]
        self.changing += told["changing"]
        self.tally.requests += told["requests"]
        self.withheld |= {name: why for name, why in told["withheld"].items() if name not in self.withheld}
        self.unwatched |= dict.fromkeys(told["unwatched"])
        for contract, name in told["blind"]:
            operation = contracts[contract].operation(name)
            if operation is not None:
                place = Site(contract, normal(operation.resource or operation.noun))
                self.inventory.blind.setdefault(place, Blind(operation, []))
        for aim, contract, name, why in told["left"]:
            operation = contracts[contract].operation(name)
            if operation is not None:
                made = Made(contracts[contract], operation, aim_of(aim), left=why)
                self.inventory.made.setdefault(made.aim.place, {})[made.aim.key] = made


def _inputs(
    session: Session, contract: Contract, operation: Operation, request: Request, made_with: Inputs | None
) -> Inputs:
    """What a request was made with; Withheld where that cannot be told."""
    try:
        return wire_of(contract).inputs_of(operation, request, session.base_url(contract))
    except (JuxtalogosError, ValueError, LookupError):
        if made_with is not None:
            return made_with
        raise Withheld("its address cannot be read back, so nothing shows what it works on") from None
