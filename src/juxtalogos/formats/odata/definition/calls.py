"""Actions and functions, and batches -> operations (4.0 part 1, 11.5 and 11.7; V2 service operations)."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import replace

from juxtalogos.conventions.naming import singular
from juxtalogos.formats.odata.csdl import BoundCalls, Callable, Import, Parameter
from juxtalogos.formats.odata.definition.builder import CHANGING, JSON, READING, SIGNED, Builder, Waypoint
from juxtalogos.formats.odata.definition.limits import Limits
from juxtalogos.model.contract import Body, DeclaredAnswer, Input, Intent, Media, Operation
from juxtalogos.model.location import Location
from juxtalogos.model.schema import Direction


class CallOperations:
    """Operations that call something."""

    def __init__(self, builder: Builder) -> None:
        self.builder = builder
        self.model = builder.model
        self.v4 = builder.v4
        self.bindings = BoundCalls(self.model)

    def imported(self, one: Import) -> Iterator[Operation]:
        """What the container lets be called by name; each overload is an operation of its own."""
        overloads = [each for each in self.model.callables.get(one.callable, ()) if not each.bound]
        stop = Waypoint(one.name, f"/{one.name}", "", one.place, False, (), Limits({}, {}), one.entity_set)
        yield from self.overloads(stop, one.name, f"/{one.name}", (), overloads, on_item=False)

    def bound(self, stop: Waypoint, item: tuple[str, tuple[Input, ...]] | None) -> Iterator[Operation]:
        """What can be called on a set, and on its entities."""
        found: dict[tuple[str, bool], list[Callable]] = {}
        for operation in self.bindings.of(stop.type):
            found.setdefault((operation.callable.name, operation.on_collection), []).append(
                operation.callable
            )
        for (name, on_collection), overloads in found.items():
            if on_collection and not stop.collection:
                continue
            path, keys = (stop.path, stop.keys) if on_collection else item or ("", ())
            if path:
                short = name.rpartition(".")[2]
                yield from self.overloads(
                    stop, f"{stop.name}.{short}", f"{path}/{name}", keys, overloads, on_item=not on_collection
                )

    def overloads(
        self,
        stop: Waypoint,
        identity: str,
        path: str,
        keys: tuple[Input, ...],
        overloads: list[Callable],
        *,
        on_item: bool,
    ) -> Iterator[Operation]:
        """An operation for each overload; those that share a name are told apart by their
        parameters' names.
        """
        taken: set[str] = set()
        for overload in overloads:
            own = overload.parameters[1:] if overload.bound else overload.parameters
            name = identity
            if name in taken:
                name = ".".join([identity, *(each.name for each in own)])
            if name not in taken:
                taken.add(name)
                yield self.call(stop, name, path, keys, overload, own, on_item)

    def call(
        self,
        stop: Waypoint,
        identity: str,
        path: str,
        keys: tuple[Input, ...],
        one: Callable,
        own: Iterable[Parameter],
        on_item: bool,
    ) -> Operation:
        """One overload as an operation."""
        inputs, body, method = list(keys), None, one.method or ("POST" if one.action else "GET")
        if one.action and self.v4:
            if list(own):
                ref = self.builder.ref(one.place, Direction.REQUEST, "parameters")
                body = Body(any(not each.optional for each in own), (Media(JSON, ref, one.place),), one.place)
        else:
            inputs += [self.parameter(each) for each in own]
            if self.v4:
                path += "(" + ",".join(f"{each.name}={{{each.name}}}" for each in own) + ")"
        words = "action" if one.action else "function"
        safe = not one.action
        resource = stop.resource if stop.type else ""
        returned = one.returns.name.rpartition(".")[2] if one.returns else ""
        said = one.annotations.get("Core.Description")
        return Operation(
            identity,
            self.builder.contract,
            method,
            path,
            one.place,
            one.place.pointer,
            identity,
            summary=said if isinstance(said, str) else f"the {words} {one.short_name}",
            inputs=tuple(inputs),
            body=body,
            answers=(*self.answers(one), self.builder.refusal(one.place)),
            security=READING if safe else CHANGING,
            facts=(
                ("does", words),
                *(() if safe else SIGNED),
                ("set", stop.entity_set),
                ("type", one.returns.name if one.returns else ""),
            ),
            intent=Intent.ACT,
            safe=safe,
            idempotent=safe,
            resource=resource,
            on_item=on_item,
            noun=stop.noun if stop.type else singular(returned or one.short_name),
            group=stop.name.partition(".")[0],
        )

    def parameter(self, one: Parameter) -> Input:
        """A parameter as an input: in the path in V4, in the query in V2."""
        schema = self.builder.ref(one.place, Direction.REQUEST, "given", self.builder.plain)
        place = "path" if self.v4 else "query"
        style = ("Collection " if one.type.collection else "") + self.model.underlying(one.type)
        return Input(one.name, place, not one.optional, schema, one.place, style, False)

    def answers(self, one: Callable) -> tuple[DeclaredAnswer, ...]:
        """4.0 part 1, 11.5.3 and 11.5.4."""
        builder, place = self.builder, one.place
        nothing = builder.answer("204", place)
        if one.returns is None:
            return (nothing,) if self.v4 else (nothing, builder.answer("200", place))
        found = builder.answer("200", place, "return show")
        named = self.model.structured(one.returns.name)
        if (
            named is None
            and one.returns.name.startswith("Edm.")
            and not one.returns.collection
            and one.returns.name in ("Edm.Stream",)
        ):
            found = replace(found, media=())
        made = builder.answer("201", place, "return show", headers=(builder.location_header(place),))
        created = (
            (made,)
            if one.action and named is not None and named.entity and not one.returns.collection
            else ()
        )
        return (
            found,
            *((nothing,) if (one.returns.nullable and not one.returns.collection) or not self.v4 else ()),
            *created,
        )

    def batch(self, place: Location) -> Iterator[Operation]:
        """Several requests in one (4.0 part 1, 11.7; JSON 4.01, 19; V2 batch processing)."""
        if not Limits({}, self.model.container).flag("BatchSupported"):
            return
        builder = self.builder
        media = "multipart/mixed"
        sample = next((entity_set.name for entity_set in self.model.sets.values()), "$metadata")
        ref = builder.ref(place, Direction.REQUEST, f"batch {sample}")
        medias = [Media(media, ref, place)]
        if self.model.version == "4.01":
            medias.append(Media(JSON, ref, place))
        answers = [Media(media, None, place)]
        if self.model.version == "4.01":
            answers.append(Media(JSON, None, place))
        answer = DeclaredAnswer("200", tuple(answers), builder.version_header(place), place)
        if not self.v4:
            accepted = replace(answer, status="202")  # V2 says 202, V4 says 200
            answer = replace(answer, status="202")
            yield self._batch(place, tuple(medias), (accepted, replace(answer, status="200")))
            return
        yield self._batch(place, tuple(medias), (answer,))

    def _batch(
        self, place: Location, medias: tuple[Media, ...], answers: tuple[DeclaredAnswer, ...]
    ) -> Operation:
        return Operation(
            "batch",
            self.builder.contract,
            "POST",
            "/$batch",
            place,
            place.pointer,
            "batch",
            summary="several requests in one",
            body=Body(True, medias, place),
            answers=(*answers, self.builder.refusal(place)),
            security=CHANGING,
            facts=(("does", "batch"), *SIGNED, ("set", ""), ("type", "")),
            intent=Intent.ACT,
            group="batch",
        )
