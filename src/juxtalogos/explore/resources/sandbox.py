"""What an exploration makes and takes away again; the claims of a block; the block itself."""

from __future__ import annotations

from collections.abc import AsyncIterator, Callable, Mapping
from dataclasses import dataclass, field
from types import MappingProxyType
from typing import Any

from juxtalogos.compose.listing import items_in
from juxtalogos.explore.laws.agreeing import blanket
from juxtalogos.explore.prober.comparing import Item, has_key, item_in
from juxtalogos.explore.prober.jobs import followed
from juxtalogos.explore.prober.pages import pages
from juxtalogos.explore.prober.prober import Prober, Purpose, Trial, broken_law, tell
from juxtalogos.explore.prober.requests import Context, RequestMaker, Unfillable
from juxtalogos.explore.resources.kinds import ResourceKind
from juxtalogos.formats import wire_of
from juxtalogos.model.contract import Intent, Operation
from juxtalogos.model.errors import JuxtalogosError, Unsampleable, UsageError
from juxtalogos.model.findings import CheckResult, general_path
from juxtalogos.model.location import Location
from juxtalogos.model.outcome import Outcome
from juxtalogos.model.schema import ABSENT
from juxtalogos.model.wire import Inputs, Wire
from juxtalogos.run.target.session import Session
from juxtalogos.suite.inputs import with_values

NONE: Mapping[str, Any] = MappingProxyType({})


@dataclass(slots=True, eq=False)
class Instance:
    """Something that this exploration made."""

    kind: ResourceKind
    made: Trial
    context: dict[str, Trial]
    gone: bool = False


@dataclass(frozen=True, slots=True)
class Claim:
    """A result that a technique told, with whose request shows it."""

    seen: Trial
    result: CheckResult

    @property
    def key(self) -> tuple[str, ...]:
        """What tells it again: not the values, for these differ each time."""
        return (self.seen.operation.id, self.result.kind, general_path(self.result.at))


@dataclass(slots=True)
class Sandbox:
    """All that the techniques share."""

    prober: Prober
    maker: RequestMaker
    kinds: list[ResourceKind]
    roles: Mapping[str, Session] = field(default_factory=dict)
    """Sessions by role of the target."""
    adopted: Callable[[str, str], bool | None] = lambda law, operation: None
    """(law, operation) -> whether a person took it for binding (True), or left it out (False)."""
    things: list[Instance] = field(default_factory=list)
    claims: list[Claim] = field(default_factory=list)
    worked: dict[str, Inputs] = field(default_factory=dict)
    """By operation, inputs that were answered with success."""
    shared: dict[str, Trial] = field(default_factory=dict)
    """By operation, an answer that references are taken from in this block."""
    outcomes: dict[tuple[str, str], dict[str, list[Trial]]] = field(default_factory=dict)
    """(operation, kind of request) -> what came back -> by which requests."""
    left: list[str] = field(default_factory=list)
    """What could not be taken away again."""
    volatile: dict[str, set[str]] = field(default_factory=dict)
    """By kind, members that change by themselves."""
    searches: dict[str, Any] = field(default_factory=dict)
    """By kind, what was found out of its states."""
    notes: dict[str, str] = field(default_factory=dict)
    """By operation, why it was not called."""

    @property
    def wire(self) -> Wire:
        return wire_of(self.maker.contract)

    def version(self, seen: Trial) -> str | None:
        """The mark of the version that a response shows."""
        return self.wire.version_of(seen.exchange) if seen.exchange is not None else None

    # Asking

    async def fill(
        self, operation: Operation, context: Context, *, full: bool = False, seed: int = 0, depth: int = 0
    ) -> tuple[Inputs, dict[str, Trial]]:
        """(inputs, context with what was made for them). Unfillable."""
        try:
            inputs = self.maker.own(operation, full=full, seed=seed)
        except Unsampleable as error:
            raise Unfillable(error.what) from None
        return await self.refer(operation, inputs, context, depth)

    async def condition(self, operation: Operation, inputs: Inputs, context: Context) -> Inputs:
        """With the version that is read now, where naming one is required."""
        address = next(
            (
                declared_input.address
                for declared_input in operation.inputs
                if declared_input.required and declared_input.is_version
            ),
            "",
        )
        version = self.maker.versions.get(operation.id)
        reader = self.maker.contract.operation(version.source) if version is not None else None
        if not address or version is None or reader is None:
            return inputs
        asked = self.maker.referred(reader, self.maker.own(reader), context)
        seen = await self.call(reader, asked)
        value = self.maker.taken(version.value, seen) if seen.ok else ABSENT
        return with_values(inputs, {address: value}) if isinstance(value, str) else inputs

    async def refer(
        self, operation: Operation, inputs: Inputs, context: Context, depth: int = 0
    ) -> tuple[Inputs, dict[str, Trial]]:
        """The inputs with references to what is in the context, or is made now."""
        known = dict(context)
        for need in self.maker.needs.get(operation.id, ()):
            if need.source not in known and self.maker.sends(operation, inputs, need):
                try:
                    known |= await self.provide(need.source, known, depth)
                except Unfillable:
                    if self.maker.names_item(operation, need):
                        raise  # else where it comes from is a guess: the sample stays
        filled = self.maker.referred(operation, inputs, known)
        return await self.condition(operation, filled, known), known

    async def provide(self, source: str, context: Context, depth: int) -> dict[str, Trial]:
        """An answer of an operation that others take values from, with what it needed itself."""
        if depth > 6:
            raise Unfillable(f"{source} needs too much")
        held = self.shared.get(source)
        if held is not None:
            return {source: held}
        operation = self.maker.contract.operation(source)
        if operation is None:
            raise Unfillable(f"there is no {source}")
        if operation.safe:
            inputs, known = await self.fill(operation, context, depth=depth + 1)
            seen = await self.call(operation, inputs)
            if not seen.ok:
                raise Unfillable(f"{source} returned {seen.code}")
            self.shared[source] = seen
            return {**known, source: seen}
        thing = await self.make_by(operation, context, depth=depth + 1)
        self.shared[source] = thing.made
        self.shared.update({name: one for name, one in thing.context.items() if name not in self.shared})
        return thing.context

    async def call(
        self, operation: Operation, inputs: Inputs, asked: Purpose = Purpose.VALID, **more: Any
    ) -> Trial:
        """Sends, and remembers what worked. Unfillable where it cannot be encoded."""
        try:
            seen = await self.prober.send(operation, inputs, asked, **more)
        except (UsageError, JuxtalogosError) as error:
            raise Unfillable(error.what) from None
        if seen.ok and asked is Purpose.VALID:
            self.worked.setdefault(operation.id, inputs)
        return seen

    async def ask(
        self,
        operation: Operation,
        context: Context,
        asked: Purpose = Purpose.VALID,
        *,
        values: Mapping[str, Any] = NONE,
        **more: Any,
    ) -> Trial:
        """Calls an operation about something that is there, with what worked before where it needs more."""
        inputs, _ = await self.fill(operation, context)
        return await self.call(operation, with_values(inputs, values), asked, **more)

    # Making

    def blanket(self, operation: Operation) -> bool:
        """Whether what is declared of conflicts tells nothing of an operation."""
        return blanket(self.wire, self.maker.contract.operations, operation)

    def kind_made_by(self, operation: Operation) -> ResourceKind | None:
        return next(
            (kind for kind in self.kinds if any(maker.id == operation.id for maker in kind.creators)), None
        )

    async def make(
        self, kind: ResourceKind, context: Context = NONE, *, full: bool = False, seed: int = 0
    ) -> Instance:
        """A new thing of a kind. Unfillable where none can be made."""
        refused = Unfillable(f"no operation creates {kind.name}")
        for creator in kind.creators[:2]:
            try:
                return await self.make_by(creator, context, full=full, seed=seed)
            except Unfillable as error:
                refused = error
        raise refused

    async def make_by(
        self,
        operation: Operation,
        context: Context,
        *,
        full: bool = False,
        seed: int = 0,
        depth: int = 0,
        inputs: Inputs | None = None,
    ) -> Instance:
        """What an operation makes; in other ways where that is refused."""
        if self.prober.only_reading:
            raise Unfillable("not created: only reading is allowed")
        tried: list[str] = []
        for turn_full, turn_seed in ((full, seed), (not full, seed), (full, seed + 1)):
            if inputs is None:
                filled, known = await self.fill(
                    operation, context, full=turn_full, seed=turn_seed, depth=depth
                )
            else:
                filled, known = inputs, dict(context)
            seen = await self.call(operation, filled)
            if seen.ok:
                return await self.keep(operation, seen, known)
            tried.append(seen.code)
            if inputs is not None or not seen.refused or seen.outcome.about_caller:
                break
        raise Unfillable(f"{operation.id} returned {', '.join(tried)}")

    async def keep(self, operation: Operation, seen: Trial, known: Context) -> Instance:
        """Notes what was made, so that it is taken away again; of what was only begun, its end is awaited."""
        kind = self.kind_made_by(operation)
        if (
            kind is not None
            and self.key(Instance(kind, seen, {**known, **{creator.id: seen for creator in kind.creators}}))
            is ABSENT
        ):
            seen = await finished(self, seen)
        context = {
            **known,
            **{creator.id: seen for creator in (kind.creators if kind else ())},
            operation.id: seen,
        }
        thing = Instance(kind or self._anonymous(operation), seen, context)
        self.things.append(thing)
        return thing

    def _anonymous(self, operation: Operation) -> ResourceKind:
        resource = self.maker.resources.of(operation)
        assert resource is not None
        return ResourceKind(resource)

    def key(self, thing: Instance) -> Any:
        """What names a thing; ABSENT where nothing does."""
        for operation in thing.kind.on_item:
            need = thing.kind.key_of(operation)
            if need is not None and need.source in thing.context:
                value = self.maker.taken(need.value, thing.context[need.source])
                if value is not ABSENT and value is not None:
                    return value
        return ABSENT

    # Looking

    async def read(self, thing: Instance, operation: Operation | None = None) -> Trial | None:
        """A thing as it is read now; None where nothing reads it."""
        reader = operation or next(iter(thing.kind.reads), None)
        if reader is None:
            return None
        return await self.ask(reader, thing.context, Purpose.ABSENT if thing.gone else Purpose.VALID)

    async def item(self, thing: Instance) -> tuple[Trial, Item] | None:
        """A thing as it is read, or as its list shows it."""
        seen = await self.read(thing)
        key = self.key(thing)
        if seen is not None and seen.ok:
            found = item_in(seen.value, {**thing.made.body}, key)
            return (seen, found) if found is not None else None
        if seen is None:
            for listing in thing.kind.lists:
                seen, items = await self.whole(listing, thing.context)
                for entry in items:
                    if isinstance(entry, dict) and has_key(entry, key):
                        return seen, entry
        return None

    async def pages(
        self, listing: Operation, context: Context, values: Mapping[str, Any] = NONE
    ) -> AsyncIterator[Trial]:
        """Each page of a list. Unfillable where the first does not come."""
        inputs, _ = await self.fill(listing, context)
        async for trial in pages(self.call, self.maker, listing, inputs, values):
            yield trial

    async def whole(
        self, listing: Operation, context: Context, values: Mapping[str, Any] = NONE
    ) -> tuple[Trial, list[Any]]:
        """(the first answer, all items of a list): its pages are followed."""
        items: list[Any] = []
        first: Trial | None = None
        async for seen in self.pages(listing, context, values):
            first = first or seen
            items += items_in(seen.value) or []
        assert first is not None
        return first, items

    # Telling

    def claim(
        self,
        seen: Trial,
        law: str,
        at: str,
        declared: str,
        observed: str,
        location: Location | None = None,
        *,
        must: bool | None = None,
        detail: str = "",
    ) -> None:
        """A law does not hold. Whether it is told is known when the block has been gone through twice."""
        adopted = self.adopted(law, seen.operation.id)
        if adopted is False:
            return
        place = (
            location
            or (seen.answer.declared.location if seen.answer and seen.answer.declared else None)
            or seen.operation.location
        )
        self.claims.append(
            Claim(
                seen,
                broken_law(law, at, declared, observed, place, must=True if adopted else must, detail=detail),
            )
        )

    def note(self, kind: str, seen: Trial) -> None:
        """Remembers how a kind of request was answered, to compare with others of its kind."""
        self.outcomes.setdefault((seen.operation.id, kind), {}).setdefault(seen.code, []).append(seen)

    # Taking away

    async def remove(self, thing: Instance) -> bool:
        """Whether a thing is gone, or nothing can take it away."""
        deleter = thing.kind.deleter
        if deleter is None or thing.gone:
            return True
        try:
            seen = await self.ask(deleter, thing.context, Purpose.CLEANUP)
        except Unfillable:
            return True
        if seen.ok or seen.outcome is Outcome.ABSENT or seen.withheld:  # what was not made stays
            thing.gone = True
            return True
        return False


async def finished(sandbox: Sandbox, begun: Trial) -> Trial:
    """Of what was begun only (202), the answer with what its job tells when it is over."""
    if begun.outcome is not Outcome.BEGUN:
        return begun
    last, _ = await followed(
        sandbox.call, sandbox.maker.contract, sandbox.prober.session.base_url(sandbox.maker.contract), begun
    )
    return (
        begun
        if last is None
        else Trial(begun.operation, begun.inputs, begun.purpose, begun.record, last.exchange, last.answer)
    )


def changing(kind: ResourceKind) -> list[Operation]:
    """Operations that change an item, without what ends it."""
    return [
        one
        for one in (*kind.updates, *kind.acts)
        if not one.danger.withheld and one.intent is not Intent.EMPTY
    ]


def settle(claims: list[Claim]) -> None:
    """Adds what was claimed to the requests that show it; not where the contract says so much already."""
    for one in claims:
        places = {
            general_path(result.at)
            for result in one.seen.record.results
            if result.fails and not result.kind.startswith("law.")
        }
        if general_path(one.result.at) not in places or not one.result.at.startswith("body"):
            tell(one.seen, one.result)
