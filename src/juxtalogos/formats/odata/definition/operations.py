"""Entity sets, singletons and navigation -> operations (4.0 part 1, 11.2 to 11.4; V2: operations 1 and 2)."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace
from functools import cached_property
from typing import Any

from juxtalogos.formats.odata.csdl import Navigation
from juxtalogos.formats.odata.definition.builder import (
    BINARY,
    CHANGING,
    JSON,
    READING,
    TEXT,
    Builder,
    Waypoint,
)
from juxtalogos.formats.odata.definition.limits import Limits
from juxtalogos.formats.odata.definition.options import Options
from juxtalogos.model.contract import Body, DeclaredAnswer, DeclaredLink, Input, Intent, Media, Operation
from juxtalogos.model.schema import Direction

ITEM_INTENTS = (Intent.READ, Intent.REPLACE, Intent.UPDATE, Intent.DELETE)


class EntityOperations:
    """The operations on entities of one contract."""

    def __init__(self, builder: Builder) -> None:
        self.builder = builder
        self.options = Options(builder)
        self.model = builder.model
        self.v4 = builder.v4

    def of_set(self, stop: Waypoint) -> Iterator[Operation]:
        """All that can be asked of a set or singleton, and of what its entities lead to."""
        if self.model.structured(stop.type) is None:
            yield self.bare_list(stop)
            return
        if stop.collection:
            yield from self.collection(stop)
        found = self.builder.item_path(stop) if stop.collection else (stop.path, stop.keys)
        if found is not None:
            yield from self.item(stop, *found)
            yield from self.ways(stop, *found)

    def bare_list(self, stop: Waypoint) -> Operation:
        """Of a set whose type cannot be read the list can still be asked for; what comes is not checkable."""
        return self.operation(
            stop,
            "list",
            "GET",
            stop.path,
            (),
            (self.builder.answer("200", stop.place, f"entities show {stop.type}"),),
            Intent.LIST,
        )

    # A collection and its items.

    def collection(self, stop: Waypoint) -> Iterator[Operation]:
        """List, count and create, as far as they are allowed."""
        builder, limits = self.builder, stop.limits
        if limits.readable:
            options = tuple(self.options.of_list(stop))
            answers = (builder.answer("200", stop.place, f"entities show {stop.type}"),)
            yield self.operation(stop, "list", "GET", stop.path, options, answers, Intent.LIST)
            if limits.may("CountRestrictions", "Countable"):
                counted = tuple(option for option in options if option.name in ("$filter", "$search"))
                answer = builder.answer("200", stop.place, "count", text=TEXT)
                yield self.operation(
                    stop, "count", "GET", f"{stop.path}/$count", counted, (answer,), Intent.ACT, safe=True
                )
        if limits.insertable and self.model.concrete(stop.type):
            yield self.create(stop, "create", stop.path)

    def create(self, stop: Waypoint, does: str, path: str) -> Operation:
        """A new entity (4.0 part 1, 11.4.2), or a media entity by its stream (11.4.7)."""
        builder, place = self.builder, stop.place
        where = builder.location_header(place)
        links = self.links(stop)
        created = builder.answer("201", place, f"entity show {stop.type}", headers=(where,))
        answers: tuple[DeclaredAnswer, ...] = (replace(created, links=links),)
        if self.v4:
            named = replace(where, name="OData-EntityId", description="the id of what was created")
            answers += (
                builder.answer(
                    "204",
                    place,
                    headers=(where, named),
                    note="created, and not sent back (Prefer: return=minimal)",
                ),
            )
        if self.model.is_media(stop.type):
            body = Body(True, (Media(BINARY, builder.ref(place, Direction.REQUEST, "bytes"), place),), place)
        else:
            body = Body(True, self.bodies(stop, "sent", f"create {stop.type}"), place)
        return self.operation(stop, does, "POST", path, (), answers, Intent.CREATE, body=body)

    def bodies(self, stop: Waypoint, role: str, words: str) -> tuple[Media, ...]:
        """The media types that an entity is sent in."""
        place = stop.place
        found = [Media(JSON, self.builder.ref(place, Direction.REQUEST, f"{role} {words}"), place)]
        if not self.v4:
            found.append(
                Media(
                    "application/atom+xml",
                    self.builder.ref(place, Direction.REQUEST, f"{role} {words}", "plain2"),
                    place,
                )
            )
        return tuple(found)

    @cached_property
    def incoming(self) -> dict[str, list[tuple[str, Navigation]]]:
        """By entity set, the sets and navigation properties that lead to it."""
        found: dict[str, list[tuple[str, Navigation]]] = {}
        for other in self.model.sets.values():
            from_there = self.builder.stop_of(other)
            for way in self.model.navigation(other.type) if not other.singleton else ():
                found.setdefault(self.builder.target_of(from_there, way), []).append((other.name, way))
        return found

    def links(self, stop: Waypoint) -> tuple[DeclaredLink, ...]:
        """What the metadata says of how entities depend on one another: referential constraints, and
        references that must be set.
        """
        if stop.name != stop.entity_set:
            return ()
        found: list[DeclaredLink] = []
        prefix = "" if self.v4 else "/d"
        if not self.v4:
            keys = tuple(
                (f"body/{part.path}", f"$response.body#/d/{part.path}") for part in self.model.key(stop.type)
            )
            found += [
                DeclaredLink(f"{stop.name}.{does}", keys, "", stop.place) for does in ("update", "replace")
            ]
        where = "$response.header.Location"
        for other, way in self.incoming.get(stop.entity_set, ()):
            name = f"{other}.{way.name}"
            found.append(
                DeclaredLink(
                    f"{name}.link", ((f"body/{'@odata.id' if self.v4 else 'uri'}", where),), "", way.place
                )
            )
            found.append(DeclaredLink(f"{name}.unlink", (("query.$id", where),), "", way.place))
            pairs: tuple[tuple[str, str], ...] = ()
            if not way.collection:
                pairs = tuple(
                    (f"body/{one}", f"$response.body#{prefix}/{there}") for one, there in way.constraints
                )
                if not pairs and self.v4 and not way.nullable:
                    pairs = ((f"body/{way.name}@odata.bind", where),)
            if pairs:
                found += [
                    DeclaredLink(f"{other}.{does}", pairs, "", way.place)
                    for does in ("create", "replace", "update")
                ]
        return tuple(found)

    def item(self, stop: Waypoint, path: str, keys: tuple[Input, ...]) -> Iterator[Operation]:
        """What can be done to one entity at a path."""
        builder, limits, place = self.builder, stop.limits, stop.place
        fixed = self.has_tag(stop)
        if limits.readable_by_key or (not stop.collection and limits.readable):
            answer = builder.answer("200", place, f"entity show {stop.type}")
            if fixed:
                answer = replace(answer, links=self.tag_links(stop))
            read = self.operation(
                stop, "read", "GET", path, (*keys, *self.options.of_entity(stop)), (answer,), Intent.READ
            )
            yield read
            yield from self.values(stop, path, keys)
        if limits.updatable:
            methods = {"update": "PATCH" if self.v4 else "MERGE", "replace": "PUT"}
            for does, method in methods.items():
                if self.v4 and method not in limits.methods:
                    continue
                purpose, intent = (
                    ("change", Intent.UPDATE) if does == "update" else ("replace", Intent.REPLACE)
                )
                body = Body(True, self.bodies(stop, "sent", f"{purpose} {stop.type}"), place)
                yield self.operation(
                    stop,
                    does,
                    method,
                    path,
                    (*keys, *self.tag_input(stop, fixed)),
                    self.changed(stop),
                    intent,
                    body=body,
                )
        if limits.deletable and stop.collection:
            answers = (builder.answer("204", place),)
            yield self.operation(
                stop, "delete", "DELETE", path, (*keys, *self.tag_input(stop, fixed)), answers, Intent.DELETE
            )

    def changed(self, stop: Waypoint) -> tuple[DeclaredAnswer, ...]:
        """4.0 part 1, 11.4.3 and 11.4.4 (upsert); V2 operations, 2.6."""
        builder, place = self.builder, stop.place
        nothing = builder.answer("204", place)
        if not self.v4:
            return (nothing,)
        made = builder.answer(
            "201", place, f"entity show {stop.type}", headers=(builder.location_header(place),)
        )
        return builder.answer("200", place, f"entity show {stop.type}"), nothing, made

    def has_tag(self, stop: Waypoint) -> bool:
        """Whether an entity is changed under its entity tag only (4.0 part 1, 11.4.1.1;
        V2, ConcurrencyMode).
        """
        return "Core.OptimisticConcurrency" in stop.limits.notes or any(
            prop.concurrency for prop in self.model.properties(stop.type)
        )

    def tag_input(self, stop: Waypoint, fixed: bool) -> tuple[Input, ...]:
        """The entity tag that a change needs."""
        if not fixed:
            return ()
        schema = self.builder.ref(stop.place, Direction.REQUEST, "option-text", self.builder.plain)
        return (
            Input(
                "If-Match",
                "header",
                True,
                schema,
                stop.place,
                "header",
                False,
                examples=("*",),
                description="the entity tag that was read; * for any",
            ),
        )

    def tag_links(self, stop: Waypoint) -> tuple[DeclaredLink, ...]:
        """Where changes take the entity tag from: what was read last."""
        pair = (("header.If-Match", "$response.header.ETag"),)
        return tuple(
            DeclaredLink(f"{stop.name}.{does}", pair, "", stop.place)
            for does in ("update", "replace", "delete")
        )

    def values(self, stop: Waypoint, path: str, keys: tuple[Input, ...]) -> Iterator[Operation]:
        """Single properties, and streams (4.0 part 1, 11.2.3 and 11.1.2)."""
        builder, place = self.builder, stop.place
        single = [
            prop
            for prop in self.model.properties(stop.type)
            if prop.type.name != "Edm.Stream" and prop.type.name
        ]
        raw = [
            one for one in single if not one.type.collection and self.model.structured(one.type.name) is None
        ]
        empty = (builder.answer("204", place),) if self.v4 else ()
        if single:
            one = self.property_input(stop, [each.name for each in single])
            answers = (builder.answer("200", place, "any"), *empty)
            yield self.operation(
                stop, "property", "GET", f"{path}/{{property}}", (*keys, one), answers, Intent.ACT, safe=True
            )
        if raw:
            one = self.property_input(
                stop, [each.name for each in raw if each.type.name != "Edm.Binary"] or [raw[0].name]
            )
            answers = (builder.answer("200", place, "bytes", text="*/*"), *empty)
            yield self.operation(
                stop,
                "value",
                "GET",
                f"{path}/{{property}}/$value",
                (*keys, one),
                answers,
                Intent.ACT,
                safe=True,
            )
        if self.model.is_media(stop.type):
            yield from self.stream(stop, "media", f"{path}/$value", keys)
        for each in self.model.properties(stop.type):
            if each.type.name == "Edm.Stream":
                yield from self.stream(stop, each.name, f"{path}/{each.name}", keys)

    def property_input(self, stop: Waypoint, names: list[str]) -> Input:
        """The name of a property, as a part of the path."""
        schema = self.builder.ref(
            stop.place, Direction.REQUEST, "option-word " + " ".join(names), self.builder.plain
        )
        return Input("property", "path", True, schema, stop.place, "name", False)

    def stream(self, stop: Waypoint, does: str, path: str, keys: tuple[Input, ...]) -> Iterator[Operation]:
        """A stream, read and replaced (4.0 part 1, 11.4.7 and 11.4.8)."""
        builder, place = self.builder, stop.place
        empty = (builder.answer("204", place),)
        answer = builder.answer("200", place, "bytes", text="*/*")
        yield self.operation(
            stop, does, "GET", path, keys, (replace(answer, headers=()), *empty), Intent.ACT, safe=True
        )
        if stop.limits.updatable:
            body = Body(True, (Media(BINARY, builder.ref(place, Direction.REQUEST, "bytes"), place),), place)
            answers = (builder.answer("200", place, f"entity show {stop.type}"), *empty) if self.v4 else empty
            yield self.operation(stop, f"{does}.replace", "PUT", path, keys, answers, Intent.ACT, body=body)

    # Navigation.

    def ways(self, stop: Waypoint, path: str, keys: tuple[Input, ...]) -> Iterator[Operation]:
        """The operations along each navigation property of an entity."""
        for way in self.model.navigation(stop.type):
            if way.target and stop.limits.navigable:
                there = self.builder.along(stop, path, keys, way)
                if there.limits.navigable:
                    yield from self.way(stop, there, way)

    def way(self, stop: Waypoint, there: Waypoint, way: Navigation) -> Iterator[Operation]:
        """The operations along one navigation property."""
        builder, place = self.builder, there.place
        known = self.model.structured(way.target) is not None
        role = "entities" if way.collection else "entity"
        options = (
            tuple(self.options.of_list(there) if way.collection else self.options.of_entity(there))
            if known
            else ()
        )
        answers: tuple[DeclaredAnswer, ...] = (builder.answer("200", place, f"{role} show {way.target}"),)
        if not way.collection:
            answers += (builder.answer("204", place, note="nothing is there"),)
        intent = Intent.LIST if way.contains and way.collection else Intent.ACT
        navigate = self.operation(
            there, "", "GET", there.path, (*there.keys, *options), answers, intent, safe=True
        )
        linked = self.linkable(stop, there, way)
        yield replace(navigate, after=(f"{there.name}.link",)) if linked and not way.collection else navigate
        if not known:
            return
        if way.contains and way.collection:
            if there.limits.insertable:
                yield self.create(there, "create", there.path)
            found = builder.item_path(there)
            if found is not None:
                yield from self.item(there, *found)
            return
        if way.contains:
            return
        if there.limits.insertable and way.collection and there.entity_set:
            yield replace(self.create(there, "create", there.path), resource=there.entity_set)
        yield from self.references(stop, there, way)

    def linkable(self, stop: Waypoint, there: Waypoint, way: Navigation) -> bool:
        """Whether something can be put where the way leads, which without it may be nothing."""
        target = self.model.sets.get(there.entity_set)
        makes = target is not None and Limits.of(self.model, target).insertable
        return (
            makes
            and not way.contains
            and not way.constraints
            and (way.nullable or way.collection)
            and stop.limits.updatable
        )

    def references(self, stop: Waypoint, there: Waypoint, way: Navigation) -> Iterator[Operation]:
        """References between entities (4.0 part 1, 11.2.7 and 11.4.6; V2 `$links`)."""
        builder, place = self.builder, there.place
        head, _, name = there.path.rpartition("/")
        path = f"{there.path}/$ref" if self.v4 else f"{head}/$links/{name}"
        role = "refs" if way.collection else "ref"
        empty = () if way.collection else (builder.answer("204", place),)
        before = (f"{there.name}.link",) if self.linkable(stop, there, way) else ()
        answers = (builder.answer("200", place, role), *empty)
        refs = self.operation(there, "refs", "GET", path, there.keys, answers, Intent.ACT, safe=True)
        yield refs if way.collection else replace(refs, after=before)
        if not stop.limits.updatable:
            return
        body = Body(True, (Media(JSON, builder.ref(place, Direction.REQUEST, "link"), place),), place)
        method = "POST" if way.collection else "PUT"
        yield self.operation(
            there, "link", method, path, there.keys, (builder.answer("204", place),), Intent.ACT, body=body
        )
        partner = next((one for one in self.model.navigation(way.target) if one.name == way.partner), None)
        if partner is not None and not partner.collection and not partner.nullable:
            return  # what must be there cannot be taken away
        if way.collection and self.v4:
            schema = builder.ref(place, Direction.REQUEST, "option-text", builder.plain)
            what = Input(
                "$id", "query", True, schema, place, "option", False, description="the reference to remove"
            )
            inputs = (*there.keys, what)
        elif not way.collection and way.nullable:
            inputs = there.keys
        else:
            return
        unlink = self.operation(
            there, "unlink", "DELETE", path, inputs, (builder.answer("204", place),), Intent.ACT
        )
        yield replace(unlink, after=before)

    def operation(
        self,
        stop: Waypoint,
        does: str,
        method: str,
        path: str,
        inputs: tuple[Input, ...],
        answers: tuple[DeclaredAnswer, ...],
        intent: Intent,
        *,
        body: Body | None = None,
        safe: bool | None = None,
    ) -> Operation:
        """One operation; whatever a client does wrong is answered in the protocol's form of errors."""
        found = [*inputs] if any(key in inputs for key in stop.keys) else [*stop.keys, *inputs]
        identity = f"{stop.name}.{does}" if does else stop.name
        reading = safe if safe is not None else intent in (Intent.READ, Intent.LIST)
        named: dict[str, Any] = {"summary": _summary(stop, does)}
        if does == "create":
            named["names"] = tuple(
                f"body/{part.path}"
                for part, one in self.model.key_types(stop.type)
                if one.annotations.get("Core.Computed") is not True
            )
        return Operation(
            identity,
            self.builder.contract,
            method,
            path,
            stop.place,
            stop.place.pointer,
            identity,
            inputs=tuple(found),
            body=body,
            answers=(*answers, self.builder.refusal(stop.place)),
            security=READING if reading else CHANGING,
            facts=self.builder.facts(does or "navigate", stop, changing=not reading),
            intent=intent,
            safe=reading,
            idempotent=reading or method in ("PUT", "DELETE"),
            resource=stop.resource,
            on_item=intent in ITEM_INTENTS or (intent is Intent.ACT and "(" in path),
            noun=stop.noun,
            group=stop.name.partition(".")[0],
            **named,
        )


_WORDS = {
    "list": "the entities of {1}",
    "read": "one entity of {1}",
    "create": "a new {0} in {1}",
    "update": "{2} {0} of {1} changed",
    "replace": "{2} {0} of {1} replaced",
    "delete": "{2} {0} of {1} deleted",
    "count": "how many entities are in {1}",
    "property": "one property of {2} {0}",
    "value": "the raw value of a property of {2} {0}",
    "": "the {0} that {1} leads to",
    "refs": "references to {0} by {1}",
    "link": "a reference to {2} {0} set by {1}",
    "unlink": "a reference to {2} {0} removed from {1}",
    "media": "the stream of {2} {0}",
    "media.replace": "the stream of {2} {0} replaced",
}


def _summary(stop: Waypoint, does: str) -> str:
    short = stop.type.rpartition(".")[2]
    article = "an" if short[:1] in "AEIOUaeiou" else "a"
    return _WORDS.get(does, f"the stream {does} of {{2}} {{0}}").format(short, stop.name, article)
