"""Reading the parts of an operation in OpenAPI 2.0: parameters that are schemas themselves, forms, produces
and consumes.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Any

from juxtalogos.exchange.media import parse_media_type
from juxtalogos.formats.openapi.definition.documents import Documents
from juxtalogos.formats.openapi.definition.operation_parts import (
    IGNORED_HEADERS,
    PartReader,
    Parts,
    cannot_be_read,
)
from juxtalogos.model.contract import Body, DeclaredAnswer, DeclaredHeader, Input, Media
from juxtalogos.model.errors import quoted
from juxtalogos.model.location import Location
from juxtalogos.model.schema import Direction, SchemaRef

_STYLES = {
    "csv": "form",
    "ssv": "spaceDelimited",
    "tsv": "tabDelimited",
    "pipes": "pipeDelimited",
    "multi": "form",
}
FORM, MULTIPART = "application/x-www-form-urlencoded", "multipart/form-data"


class OldPartReader(PartReader):
    def __init__(self, documents: Documents, dialect: str, root: dict[str, Any]) -> None:
        super().__init__(documents, dialect)
        self.root = root

    def parts(
        self, value: dict[str, Any], location: Location, item: dict[str, Any], place: Location
    ) -> Parts:
        """The parts of an operation."""
        given = self.parameters([(item.get("parameters"), place), (value.get("parameters"), location)])
        answers = self.answers(
            value.get("responses"), location, self.media_types(value, "produces") or ["*/*"]
        )
        inputs = [self.plain(one, at) for one, at in given if one["in"] in ("path", "query", "header")]
        consumes = self.media_types(value, "consumes")
        body = next((self.whole(one, at, consumes) for one, at in given if one["in"] == "body"), None)
        form = [(one, at) for one, at in given if one["in"] == "formData"]
        self.several_bodies([at for one, at in given if one["in"] == "body"], [at for _, at in form])
        if form and body is None:
            body = self.form(form, location, consumes)
        return Parts(tuple(declared_input for declared_input in inputs if declared_input), body, answers)

    def several_bodies(self, bodies: list[Location], form: list[Location]) -> None:
        """OpenAPI 2.0, parameter object: one body parameter at most, and none beside form data."""
        if bodies and form:
            what = "form data and a body parameter exclude each other; the body parameter is used"
            self.documents.fault(what, form[0], "declare either a body or form data", "warning")
        for extra in bodies[1:]:
            what = "there can be one body parameter only; the first is used"
            self.documents.fault(what, extra, "put all into one schema", "warning")

    def media_types(self, operation: dict[str, Any], key: str) -> list[str]:
        """The operation's own list overrides the definition's, also where it is empty."""
        found = operation.get(key, self.root.get(key))
        types = [name for name in found if isinstance(name, str)] if isinstance(found, list) else []
        return [name for name in types if parse_media_type(name)]

    def parameters(self, lists: list[tuple[Any, Location]]) -> list[tuple[dict[str, Any], Location]]:
        """(parameter object, its place); the operation's own override those of its path item."""
        found: dict[tuple[str, str], tuple[dict[str, Any], Location]] = {}
        for value, place in lists:
            own: set[tuple[str, str]] = set()
            for index, item in enumerate(value if isinstance(value, list) else ()):
                followed = self.documents.follow(item, place.child("parameters", index))
                if followed is None:
                    continue
                one, at = followed
                wanted = ("path", "query", "header", "formData", "body")
                if (
                    not isinstance(one, dict)
                    or not isinstance(one.get("name"), str)
                    or one.get("in") not in wanted
                ):
                    what = "a parameter needs `name`, and `in` with path, query, header, formData or body"
                    self.documents.fault(what, at, "add them")
                    continue
                self.once(one["in"], one["name"], own, place.child("parameters", index))
                found[(one["in"], one["name"])] = one, at
        return list(found.values())

    def plain(self, value: dict[str, Any], location: Location) -> Input | None:
        """A parameter of path, query or header as an input."""
        place, name = value["in"], value["name"]
        if place == "header" and name.lower() in IGNORED_HEADERS:
            return None
        style, explode = self.style(value, location)
        return Input(
            name=name,
            place=place,
            required=place == "path" or value.get("required") is True,
            schema=SchemaRef(self.dialect, location.document, location.pointer, Direction.REQUEST),
            location=location,
            style="simple" if place != "query" and style == "form" else style,
            explode=explode if place == "query" else False,
            description=str(value.get("description", "")),
            examples=(value["x-example"],) if "x-example" in value else (),
        )

    def style(self, value: dict[str, Any], location: Location) -> tuple[str, bool]:
        """(style, explode) of a collectionFormat."""
        named = value.get("collectionFormat", "csv")
        if named not in _STYLES or (named == "multi" and value["in"] not in ("query", "formData")):
            self.documents.fault(
                f"the collectionFormat {quoted(named)} is not for {value['in']} parameters",
                location.child("collectionFormat"),
                "csv is used; write csv, ssv, tsv or pipes, or multi for query and formData",
                "warning",
            )
            named = "csv"
        return _STYLES[named], named == "multi"

    def whole(self, value: dict[str, Any], location: Location, consumes: list[str]) -> Body:
        """The body that a parameter in `body` declares."""
        schema = self.schema(value, location, Direction.REQUEST)
        media = tuple(Media(name, schema, location) for name in consumes or ["application/json"])
        return Body(value.get("required") is True, media, location, str(value.get("description", "")))

    def form(
        self, given: list[tuple[dict[str, Any], Location]], operation: Location, consumes: list[str]
    ) -> Body:
        """The object that all formData parameters make together."""
        files = [one["name"] for one, _ in given if one.get("type") == "file"]
        named = [name for name in consumes if name.partition(";")[0].strip().lower() in (FORM, MULTIPART)]
        if files:
            named = [name for name in named if MULTIPART in name.lower()] or [MULTIPART]
        members = tuple(
            (
                one["name"],
                SchemaRef(self.dialect, at.document, at.pointer, Direction.REQUEST),
                one.get("required") is True,
            )
            for one, at in given
        )
        place = operation.child("parameters")
        schema = SchemaRef(self.dialect, place.document, place.pointer, Direction.REQUEST, members)
        encoding = tuple((name, "application/octet-stream") for name in files)
        styles = tuple((one["name"], *self.style(one, at)) for one, at in given if one.get("type") == "array")
        media = tuple(Media(name, schema, place, (), encoding, styles) for name in named or [FORM])
        return Body(any(required for _, _, required in members), media, place)

    fields: Mapping[str, type] = {"description": str, "schema": dict, "headers": dict, "examples": dict}

    def answer_of(
        self, status: str, value: dict[str, Any], location: Location, produces: list[str]
    ) -> DeclaredAnswer:
        """One declared answer."""
        examples = value.get("examples")
        examples = examples if isinstance(examples, dict) else {}
        media: tuple[Media, ...] = ()
        if isinstance(value.get("schema"), dict):
            # A file is whatever bytes come.
            schema = (
                None
                if value["schema"].get("type") == "file"
                else self.schema(value, location, Direction.RESPONSE)
            )
            media = tuple(
                Media(name, schema, location, (examples[name],) if name in examples else ())
                for name in produces
            )
        headers = tuple(self.old_headers(value.get("headers"), location))
        return DeclaredAnswer(status, media, headers, location, str(value.get("description", "")))

    def old_headers(self, value: Any, location: Location) -> Iterator[DeclaredHeader]:
        """The declared headers of an answer, which are schemas themselves."""
        for name, item in value.items() if isinstance(value, dict) else ():
            place = location.child("headers", name)
            if name.lower() == "content-type":
                continue
            if not isinstance(item, dict):
                self.documents.fault(
                    f"the header {quoted(name)} is no mapping", place, "write a header object"
                )
                yield DeclaredHeader(name, False, None, place, unreadable=cannot_be_read("header"))
            else:
                schema = SchemaRef(self.dialect, place.document, place.pointer, Direction.RESPONSE)
                yield DeclaredHeader(name, False, schema, place, description=str(item.get("description", "")))
