"""The parts that all operations of a service are made of: keys, schemas by role, answers by the protocol."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

from juxtalogos.conventions.naming import singular
from juxtalogos.formats.odata.csdl import EntitySet, Model, Navigation
from juxtalogos.formats.odata.definition.limits import Limits
from juxtalogos.model.contract import DeclaredAnswer, DeclaredHeader, Input, Media
from juxtalogos.model.location import Location
from juxtalogos.model.schema import Direction, SchemaRef

JSON, ATOM, TEXT, BINARY = (
    "application/json",
    "application/atom+xml",
    "text/plain",
    "application/octet-stream",
)
LOGIN, TOKEN, FORGERY = "login", "bearerToken", "forgeryToken"
READING: tuple[tuple[str, ...], ...] = ((LOGIN,), (TOKEN,), ())
CHANGING: tuple[tuple[str, ...], ...] = ((LOGIN, FORGERY), (TOKEN, FORGERY), (FORGERY,), *READING)

SIGNED = (("sign-in", f"{LOGIN} or {TOKEN} or none, each with {FORGERY} where that is given"),)
"""The alternatives of what changes something, in words."""


@dataclass(frozen=True, slots=True)
class Waypoint:
    """A place on the way to what an operation works on: a set, singleton or navigation, with its entities'
    type.
    """

    name: str
    """What operations on it are called: `Vessels`, `Vessels.Certificates`."""
    path: str
    type: str
    place: Location
    collection: bool
    keys: tuple[Input, ...]
    """Inputs of the path so far."""
    limits: Limits
    entity_set: str
    """The set that its entities are in; empty where that is not known."""
    contained: bool = False

    @property
    def resource(self) -> str:
        return (
            self.path.partition("(")[0].lstrip("/")
            if self.path.count("(") == 0
            else self.name.replace(".", "/")
        )

    @property
    def noun(self) -> str:
        return singular(self.type.rpartition(".")[2])


class Builder:
    """What is the same for all operations of one contract."""

    def __init__(self, contract: str, model: Model) -> None:
        self.contract = contract
        self.model = model
        self.v4 = model.is_v4

    @cached_property
    def form(self) -> str:
        return "json4" if self.v4 else "json2"

    @cached_property
    def plain(self) -> str:
        return "json4" if self.v4 else "plain2"

    def ref(self, place: Location, direction: Direction, role: str, form: str = "") -> SchemaRef:
        return SchemaRef(form or self.form, place.document, place.pointer, direction, role=role)

    # The way to entities.

    def item_path(self, stop: Waypoint) -> tuple[str, tuple[Input, ...]] | None:
        """(path of one entity, inputs with its key); None where the key cannot be read."""
        parts = self.model.key_types(stop.type)
        if not parts:
            return None
        given, texts = [], []
        for part, one in parts:
            name = part.name
            if any(earlier.name == name for earlier in stop.keys):
                name = f"{stop.name.rpartition('.')[2]}.{part.name}"
            schema = self.ref(one.place, Direction.REQUEST, "given", self.plain)
            style = self.model.underlying(one.type)
            given.append(Input(name, "path", True, schema, one.place, style, False, identifies=stop.resource))
            texts.append(f"{{{name}}}" if len(parts) == 1 else f"{part.name}={{{name}}}")
        return f"{stop.path}({','.join(texts)})", (*stop.keys, *given)

    def stop_of(self, one: EntitySet) -> Waypoint:
        """Where the operations of a set or singleton begin."""
        limits = Limits.of(self.model, one)
        return Waypoint(
            one.name, f"/{one.name}", one.type, one.place, not one.singleton, (), limits, one.name
        )

    def along(self, stop: Waypoint, path: str, keys: tuple[Input, ...], way: Navigation) -> Waypoint:
        """What a navigation property of an entity leads to, with the limits that hold there."""
        target = self.target_of(stop, way)
        limits = stop.limits.along(way)
        if target and not way.contains:
            own = Limits.of(self.model, self.model.sets[target])
            limits = Limits({**own.notes, **limits.notes}, own.container)
        return Waypoint(
            f"{stop.name}.{way.name}",
            f"{path}/{way.name}",
            way.target,
            way.place,
            way.collection,
            keys,
            limits,
            target,
            way.contains,
        )

    def target_of(self, stop: Waypoint, way: Navigation) -> str:
        """The set that the entities at the other end are in (CSDL 4.0, section 13.4; V2:
        association sets).
        """
        own = self.model.sets.get(stop.entity_set)
        for path, target in own.bindings if own else ():
            if target in self.model.sets and path in (way.name, way.association or way.name):
                return target
            if target in self.model.sets and path.rpartition("/")[2] == way.name and "/" in path and self.v4:
                return target
        fitting = self.model.sets_of(way.target)
        return fitting[0] if len(fitting) == 1 and not way.contains else ""

    # Answers.

    def answer(
        self,
        status: str,
        place: Location,
        role: str = "",
        *,
        headers: tuple[DeclaredHeader, ...] = (),
        text: str = "",
        note: str = "",
    ) -> DeclaredAnswer:
        """An answer with a body by its role; `text` is a media type other than the protocol's own."""
        if not role:
            return DeclaredAnswer(status, (), headers, place, note)
        ref = self.ref(place, Direction.RESPONSE, role)
        if text:
            return DeclaredAnswer(
                status, (Media(text, ref, place),), (*headers, *self.version_header(place)), place, note
            )
        medias = [Media(JSON, ref, place)]
        if not self.v4:
            other = self.ref(place, Direction.RESPONSE, role, "plain2")
            medias.append(
                Media("application/xml" if role.startswith(("value", "ref", "error")) else ATOM, other, place)
            )
            if role.startswith("return"):
                medias.append(Media("application/xml", other, place))
        return DeclaredAnswer(status, tuple(medias), (*headers, *self.version_header(place)), place, note)

    def version_header(self, place: Location) -> tuple[DeclaredHeader, ...]:
        """V4 part 1, 8.1.5: an answer tells the version; V2 services should."""
        name = "OData-Version" if self.v4 else "DataServiceVersion"
        words = "4.0" if self.model.version == "4.0" else "4.0 4.01"
        role = f"option-word {words}" if self.v4 else "option-text"
        schema = self.ref(place, Direction.RESPONSE, role)
        return (
            DeclaredHeader(name, self.v4, schema, place, description="the protocol version of this response"),
        )

    def location_header(self, place: Location) -> DeclaredHeader:
        return DeclaredHeader(
            "Location",
            True,
            self.ref(place, Direction.RESPONSE, "option-text"),
            place,
            description="where what was created is found",
        )

    def refusal(self, place: Location) -> DeclaredAnswer:
        """Any status of a client's error, with the protocol's form of errors (V4 part 1, 9; JSON 4.0, 19).

        What stands before a service may answer in a form of its own: that is doubtful, and not forbidden.
        """
        ref = self.ref(place, Direction.RESPONSE, "error")
        medias = [Media(JSON, ref, place)]
        if not self.v4:
            medias.append(
                Media("application/xml", self.ref(place, Direction.RESPONSE, "error", "plain2"), place)
            )
        medias.append(Media("*/*", None, place))
        return DeclaredAnswer("4XX", tuple(medias), (), place, "a refusal")

    def facts(
        self, does: str, stop: Waypoint | None, type_name: str = "", *, changing: bool = False
    ) -> tuple[tuple[str, str], ...]:
        """What an operation does, on which set, and of which type."""
        found = [("does", does), *(SIGNED if changing else ())]
        if stop is not None:
            found += [("set", stop.entity_set), ("type", type_name or stop.type)]
        return tuple(found)
