"""Reading the parts of an operation: parameters, bodies, answers, headers, links."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from typing import Any, NamedTuple

from juxtalogos.exchange.media import parse_media_type
from juxtalogos.formats.openapi.definition.documents import Documents
from juxtalogos.model.contract import Body, DeclaredAnswer, DeclaredHeader, DeclaredLink, Input, Media
from juxtalogos.model.errors import nearest, quoted
from juxtalogos.model.location import Location
from juxtalogos.model.schema import Direction, SchemaRef

PLACES = ("path", "query", "header", "cookie")
DEFAULT_STYLE = {"path": "simple", "query": "form", "header": "simple", "cookie": "form"}
STYLES = {
    "path": ("simple", "label", "matrix"),
    "query": ("form", "spaceDelimited", "pipeDelimited", "deepObject"),
    "header": ("simple",),
    "cookie": ("form",),
}
IGNORED_HEADERS = ("accept", "content-type", "authorization")
_STATUS = re.compile(r"[1-5](?:\d\d|XX)|default")


class Parts(NamedTuple):
    inputs: tuple[Input, ...]
    body: Body | None
    answers: tuple[DeclaredAnswer, ...]


def cannot_be_read(what: str) -> str:
    """Why a part is not checkable; where, the faults of the definition say."""
    return f"the definition's {what} cannot be read"


class PartReader:
    """What cannot be read in a part is told, and kept as not checkable."""

    def __init__(self, documents: Documents, dialect: str) -> None:
        self.documents = documents
        self.dialect = dialect
        self.values: dict[tuple[str, str], Any] = {}
        """Schemas met, by document and pointer."""

    def parts(
        self, value: dict[str, Any], location: Location, item: dict[str, Any], place: Location
    ) -> Parts:
        """All parts of an operation; `item` is its path item."""
        inputs = self.inputs([(item.get("parameters"), place), (value.get("parameters"), location)])
        body = self.body(value.get("requestBody"), location.child("requestBody"))
        answers = self.answers(value.get("responses"), location, [])
        return Parts(inputs, body, answers)

    def schema(self, holder: dict[str, Any], location: Location, direction: Direction) -> SchemaRef | None:
        """The schema that an object holds; None when it holds none."""
        if "schema" not in holder:
            return None
        pointer = f"{location.pointer}/schema"
        self.values[location.document, pointer] = holder["schema"]
        return SchemaRef(self.dialect, location.document, pointer, direction)

    def inputs(self, lists: list[tuple[Any, Location]]) -> tuple[Input, ...]:
        """The operation's own parameters override those of its path item (same name and place)."""
        found: dict[tuple[str, str], Input] = {}
        for value, place in lists:
            own: set[tuple[str, str]] = set()
            for index, item in enumerate(value if isinstance(value, list) else ()):
                followed = self.documents.follow(item, place.child("parameters", index))
                one = self.input(*followed) if followed else None
                if one:
                    self.once(one.place, one.name, own, place.child("parameters", index))
                    found[(one.place, one.name)] = one
        return tuple(found.values())

    def once(self, place: str, name: str, seen: set[tuple[str, str]], location: Location) -> None:
        """Tells a parameter that stands twice in one list (OpenAPI, operation object: "MUST NOT include
        duplicated").
        """
        if (place, name) in seen:
            what = f"the {place} parameter {quoted(name)} occurs twice; the last is used"
            self.documents.fault(what, location, "leave one of them out", "warning")
        seen.add((place, name))

    def input(self, value: Any, location: Location) -> Input | None:
        """A parameter as an input; None when it is none."""
        if (
            not isinstance(value, dict)
            or not isinstance(value.get("name"), str)
            or value.get("in") not in PLACES
        ):
            self.documents.fault(
                "a parameter needs `name`, and `in` with path, query, header or cookie", location, "add them"
            )
            return None
        place, name = value["in"], value["name"]
        if place == "header" and name.lower() in IGNORED_HEADERS:
            return None  # parameter object: "the parameter definition SHALL be ignored"
        style = value.get("style", DEFAULT_STYLE[place])
        if style not in STYLES[place]:
            self.documents.fault(
                f"the style {quoted(style)} is not for {place} parameters",
                location.child("style"),
                f"use {' or '.join(STYLES[place])}",
                "warning",
            )
            style = DEFAULT_STYLE[place]
        content = ""
        holder, at = value, location
        if isinstance(value.get("content"), dict) and value["content"]:
            content = next(iter(value["content"]))
            inner = value["content"][content]
            holder, at = inner if isinstance(inner, dict) else {}, location.child("content", content)
        if place == "path" and value.get("required") is not True:
            self.documents.fault(
                f"the path parameter {quoted(name)} is not marked `required: true`",
                location,
                "a path parameter is always required",
                "warning",
            )
        return Input(
            name=name,
            place=place,
            required=place == "path" or value.get("required") is True,
            schema=self.schema(holder, at, Direction.REQUEST),
            location=location,
            style=style,
            explode=value["explode"] if isinstance(value.get("explode"), bool) else style == "form",
            allow_reserved=value.get("allowReserved") is True,
            content=content,
            description=str(value.get("description", "")),
            deprecated=value.get("deprecated") is True,
            examples=self.examples(holder, at) or self.examples(value, location),
        )

    def examples(self, holder: dict[str, Any], location: Location) -> tuple[Any, ...]:
        """The examples that an object gives, in their order."""
        found = [holder["example"]] if "example" in holder else []
        named = holder.get("examples")
        for key, item in named.items() if isinstance(named, dict) else ():
            followed = self.documents.follow(item, location.child("examples", key))
            if followed and isinstance(followed[0], dict) and "value" in followed[0]:
                found.append(followed[0]["value"])
        return tuple(found)

    def media(self, content: Any, location: Location, direction: Direction) -> tuple[Media, ...]:
        """The media types of a `content`."""
        found = []
        for name, item in content.items() if isinstance(content, dict) else ():
            place = location.child("content", name)
            if parse_media_type(name) is None:
                self.documents.fault(
                    f"{quoted(name)} is no media type", place, "write one such as application/json"
                )
                continue
            holder = item if isinstance(item, dict) else {}
            encoding = holder.get("encoding")
            encodings = tuple(
                (key, str(value["contentType"]))
                for key, value in (encoding.items() if isinstance(encoding, dict) else ())
                if isinstance(value, dict) and "contentType" in value
            )
            found.append(
                Media(
                    name,
                    self.schema(holder, place, direction),
                    place,
                    self.examples(holder, place),
                    encodings,
                    self.styles(encoding),
                )
            )
        return tuple(found)

    @staticmethod
    def styles(encoding: Any) -> tuple[tuple[str, str, bool], ...]:
        """(property, style, explode) where a form's encoding says so (OpenAPI 3.0.3, encoding object)."""
        return tuple(
            (
                key,
                str(value.get("style", "form")),
                value.get("explode", value.get("style", "form") == "form") is True,
            )
            for key, value in (encoding.items() if isinstance(encoding, dict) else ())
            if isinstance(value, dict) and ("style" in value or "explode" in value)
        )

    def body(self, value: Any, location: Location) -> Body | None:
        """The request body; None without one."""
        if value is None:
            return None
        followed = self.documents.follow(value, location)
        lost = Body(
            False, (Media("*/*", None, location, unreadable=cannot_be_read("request body")),), location
        )
        if followed is None:
            return lost
        value, location = followed
        if not isinstance(value, dict) or not isinstance(value.get("content"), dict):
            self.documents.fault("a request body needs `content`", location, "add a media type with a schema")
            return lost
        return Body(
            value.get("required") is True,
            self.media(value["content"], location, Direction.REQUEST),
            location,
            str(value.get("description", "")),
        )

    def answers(self, value: Any, operation: Location, produces: list[str]) -> tuple[DeclaredAnswer, ...]:
        """The declared answers."""
        location = operation.child("responses")
        if not isinstance(value, dict) or not value:
            self.documents.fault(
                "the operation declares no responses",
                operation,
                "add `responses` with at least one status",
                "warning",
            )
            return ()
        found = []
        for key, item in value.items():
            if key.startswith("x-"):
                continue
            status = key.upper() if key != "default" else key
            place = location.child(key)
            if not _STATUS.fullmatch(status):
                self.documents.fault(
                    f"{quoted(key)} is no status code",
                    place,
                    "write a code such as 200, a range such as 2XX, or default",
                )
                continue
            followed = self.documents.follow(item, place)
            if followed is not None and self.is_answer(*followed, key):
                found.append(self.answer_of(status, *followed, produces))
                continue
            lost = cannot_be_read("answer")
            found.append(DeclaredAnswer(status, (), (), place, open_body=True, unreadable=lost))
        return tuple(found)

    fields: Mapping[str, type] = {"description": str, "content": dict, "headers": dict, "links": dict}
    """What a response object may have, and of which kind."""

    def is_answer(self, value: Any, location: Location, key: str) -> bool:
        """Whether a response object can be read; what it lacks or has too much is told."""
        if not isinstance(value, dict):
            self.documents.fault(f"the response {key} is no mapping", location, "write a response object")
            return False
        if "description" not in value:
            what = f"the response {key} has no description, which the standard requires"
            self.documents.fault(what, location, "describe it in a sentence", "warning")
        for name in value:
            if name not in self.fields and not name.startswith("x-"):
                what = f"a response object has no {quoted(name)}; it goes unread"
                self.documents.fault(what, location.child(name), nearest(name, self.fields), "warning")
        wrong = [
            name for name, kind in self.fields.items() if name in value and not isinstance(value[name], kind)
        ]
        for name in wrong:
            kind = "a text" if self.fields[name] is str else "a mapping"
            self.documents.fault(
                f"`{name}` of the response {key} is not {kind}", location.child(name), f"write {kind}"
            )
        return "content" not in wrong and "schema" not in wrong

    def answer_of(
        self, status: str, value: dict[str, Any], location: Location, produces: list[str]
    ) -> DeclaredAnswer:
        """`produces` is what OpenAPI 2.0 says elsewhere of all answers."""
        return DeclaredAnswer(
            status,
            self.media(value.get("content"), location, Direction.RESPONSE),
            tuple(self.headers(value.get("headers"), location)),
            location,
            str(value.get("description", "")),
            tuple(self.links(value.get("links"), location)),
            open_body=isinstance(value.get("content"), dict),
            unsaid_body=True,
        )

    def headers(self, value: Any, location: Location) -> Iterator[DeclaredHeader]:
        """The declared headers of an answer."""
        for name, item in value.items() if isinstance(value, dict) else ():
            followed = self.documents.follow(item, location.child("headers", name))
            if name.lower() == "content-type":
                continue
            if followed is None or not isinstance(followed[0], dict):
                at = location.child("headers", name)
                if followed is not None:
                    self.documents.fault(
                        f"the header {quoted(name)} is no mapping", at, "write a header object"
                    )
                yield DeclaredHeader(name, False, None, at, unreadable=cannot_be_read("header"))
                continue
            holder, place = followed
            required, explode, content = holder.get("required") is True, holder.get("explode") is True, ""
            description = str(holder.get("description", ""))
            schema_at = place
            if isinstance(holder.get("content"), dict) and holder["content"]:
                content = next(iter(holder["content"]))
                holder, schema_at = holder["content"][content], place.child("content", content)
            schema = self.schema(holder, schema_at, Direction.RESPONSE) if isinstance(holder, dict) else None
            yield DeclaredHeader(name, required, schema, place, explode, content, description)

    def links(self, value: Any, location: Location) -> Iterator[DeclaredLink]:
        """The declared links of an answer."""
        for name, item in value.items() if isinstance(value, dict) else ():
            followed = self.documents.follow(item, location.child("links", name))
            if followed is None or not isinstance(followed[0], dict):
                continue
            link, place = followed
            parameters = link.get("parameters")
            pairs = (
                tuple(
                    (key, expression) for key, expression in parameters.items() if isinstance(expression, str)
                )
                if isinstance(parameters, dict)
                else ()
            )
            target = link.get("operationId") or link.get("operationRef")
            body = link.get("requestBody")
            if isinstance(target, str):
                yield DeclaredLink(target, pairs, body if isinstance(body, str) else "", place)
