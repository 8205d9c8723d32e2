"""Reading: OpenAPI 2.0, 3.0 and 3.1 documents -> a Contract, with every fault of the definition listed."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import replace
from typing import Any

from juxtalogos.documents.collector import collector_paused
from juxtalogos.formats.http.meaning import with_meaning
from juxtalogos.formats.http.templates import variables
from juxtalogos.formats.openapi.definition.documents import Documents
from juxtalogos.formats.openapi.definition.lost_parts import without_lost
from juxtalogos.formats.openapi.definition.oauth_flows import oauth_flows, token_service
from juxtalogos.formats.openapi.definition.operation_parts import PartReader
from juxtalogos.formats.openapi.definition.operation_parts_v2 import OldPartReader
from juxtalogos.formats.openapi.definition.outgoing import outgoing
from juxtalogos.formats.openapi.definition.schema_faults import schema_faults, unsound_schemas
from juxtalogos.formats.openapi.definition.soundness import dangling, unsound
from juxtalogos.model.contract import Contract, Input, Operation, SecurityScheme
from juxtalogos.model.document import Document
from juxtalogos.model.errors import DocumentError, quoted
from juxtalogos.model.format import Fetch
from juxtalogos.model.location import Location
from juxtalogos.schema.json import JsonEngine
from juxtalogos.schema.json.tree.dialects import BY_URI

_VARIABLE = re.compile(r"\{[^{}]+\}")
_BRACE = re.compile(r"[{}]")
METHODS = ("get", "put", "post", "delete", "options", "head", "patch", "trace")


def claims(document: Document) -> bool:
    return isinstance(document.value, dict) and ("openapi" in document.value or "swagger" in document.value)


def read(name: str, root: str, fetch: Fetch, others: Iterable[str] = ()) -> Contract:
    """The contract of a definition; DocumentError only when nothing of it can be used. `others` are of no use
    here.
    """
    documents = Documents(root, fetch)
    with collector_paused():
        documents.load_all()
        return _OpenApiReader(name, documents).contract()


def engine(documents: Mapping[str, Document], dialect: str) -> JsonEngine:
    return JsonEngine(documents, dialect)


class _OpenApiReader:
    def __init__(self, name: str, documents: Documents) -> None:
        self.name = name
        self.documents = documents
        self.root = Location(documents.root)
        self.value: dict[str, Any] = documents.by_uri[documents.root].value
        self.version = self.read_version()
        self.dialect = self.read_dialect()
        old = self.version == "2.0"
        self.parts = (
            OldPartReader(documents, self.dialect, self.value) if old else PartReader(documents, self.dialect)
        )

    def read_version(self) -> str:
        key, known = (
            ("swagger", r"2\.0") if "swagger" in self.value else ("openapi", r"3\.[01](\.\d+)?(-.+)?")
        )
        version = self.value[key]
        # YAML reads a bare 2.0 or 3.0 as a number; what is meant is plain.
        version = str(version) if isinstance(version, float) else version
        if not isinstance(version, str) or not re.fullmatch(known, version):
            raise DocumentError(
                f"unknown OpenAPI version {quoted(self.value[key])}",
                where=f"{self.documents.root}#/{key}",
                mend="versions 2.0, 3.0 and 3.1 are read, written as `swagger: '2.0'` or `openapi: 3.0.3`",
            )
        return version

    def read_dialect(self) -> str:
        if self.version.startswith(("2", "3.0")):
            return f"openapi-{self.version[:3]}"
        named = self.value.get("jsonSchemaDialect")
        if isinstance(named, str):
            known = BY_URI.get(named.rstrip("#"))
            if known:
                return known
            self.documents.fault(
                f"unknown schema dialect {quoted(named)}",
                self.root.child("jsonSchemaDialect"),
                "the dialect of OpenAPI 3.1 is used",
                "warning",
            )
        return "openapi-3.1"

    def contract(self) -> Contract:
        made = engine(self.documents.by_uri, self.dialect)
        found = self.value.get("info")
        info: dict[str, Any] = found if isinstance(found, dict) else {}
        operations = with_meaning(self.named(list(self.operations())))
        draft = Contract(
            self.name,
            "openapi",
            self.version,
            str(info.get("title", "")),
            tuple(operations),
            self.documents.by_uri,
            self.documents.root,
            made,
            dialect=self.dialect,
        )
        surveys = self.documents.surveys.values()
        if any(survey.rebased for survey in surveys):
            lost = unsound_schemas(draft, made, self.documents)
        else:
            lost = unsound(draft, self.documents, self.parts.values, ref_alone=self.dialect != "openapi-3.1")
            dangling(self.documents)
        schema_faults(self.documents, self.dialect)
        sound = (
            tuple(without_lost(operation, lost) for operation in operations) if lost else tuple(operations)
        )
        sent = tuple(outgoing(self.documents, self.root, operations, METHODS))
        if not operations and not sent and not self.documents.faults:
            self.documents.fault(
                "the definition has no operations", self.root.child("paths"), "add operations under `paths`"
            )
        schemes = tuple(self.security_schemes())
        return replace(
            draft,
            operations=sound,
            faults=self.documents.faults,
            servers=self.servers(self.value.get("servers"), self.root) or tuple(self.old_servers()),
            security_schemes=schemes,
            secret_fields=tuple(
                sorted(
                    {scheme.key for scheme in schemes if scheme.key}
                    | {name for survey in surveys for name in survey.secrets}
                )
            ),
            description=str(info.get("description", "")),
            outgoing=sent,
            _index={},
        )

    def operations(self) -> Iterator[Operation]:
        paths = self.value.get("paths", {})
        if not isinstance(paths, dict):
            self.documents.fault(
                "`paths` is no mapping", self.root.child("paths"), "write a mapping from path to path item"
            )
            return
        for path, item in paths.items():
            if path.startswith("x-"):
                continue
            place = self.root.child("paths", path)
            if not path.startswith("/"):
                self.documents.fault(
                    f"the path {quoted(path)} does not begin with '/'",
                    place,
                    "begin it with '/'; it is read so",
                )
            found = self.documents.follow(item, place)
            if found is None or not isinstance(found[0], dict):
                if found is not None:
                    self.documents.fault(
                        f"the path item of {quoted(path)} is no mapping", place, "write operations below it"
                    )
                continue
            item, place = found
            for method in METHODS:
                if method in item:
                    yield self.operation(method, path, item, place)

    def operation(self, method: str, path: str, item: dict[str, Any], place: Location) -> Operation:
        value, location = item[method], place.child(method)
        if isinstance(value, dict):
            parts = self.parts.parts(value, location, item, place)
        else:
            self.documents.fault(
                f"{method.upper()} {path} is no mapping", location, "write an operation object"
            )
            parts = self.parts.parts({"responses": {"default": None}}, location, item, place)
            value = {}
        declared_id = value.get("operationId")
        operation = Operation(
            id=f"{method.upper()} {path}",
            contract=self.name,
            method=method.upper(),
            path=path if path.startswith("/") else f"/{path}",
            location=location,
            reference=self.root.child("paths", path, method).pointer,
            declared_id=declared_id if isinstance(declared_id, str) else "",
            summary=str(value.get("summary", "")),
            description=str(value.get("description", "")),
            tags=(
                tuple(map(str, value.get("tags", ())))
                if isinstance(value.get("tags", ()), list | tuple)
                else ()
            ),
            deprecated=value.get("deprecated") is True,
            inputs=parts.inputs,
            body=parts.body,
            answers=parts.answers,
            security=self.security(value, location),
            servers=self.servers(value.get("servers"), location) or self.servers(item.get("servers"), place),
        )
        return self.with_template(operation)

    def with_template(self, operation: Operation) -> Operation:
        """With an input for each variable of the path, also where the definition declares none."""
        wanted = variables(operation.path)
        if _BRACE.search(_VARIABLE.sub("", operation.path)):
            self.documents.fault(
                f"{operation.id}: a brace in the path has no partner",
                operation.location,
                "close or remove it; until then it is an ordinary character",
                "warning",
            )
        given = [declared_input.name for declared_input in operation.inputs if declared_input.place == "path"]
        for name in wanted:
            if name not in given:
                self.documents.fault(
                    f"{operation.id}: no parameter is declared for {{{name}}}",
                    operation.location,
                    f"declare a path parameter named {name}",
                )
        for parameter in operation.inputs:
            if parameter.place == "path" and parameter.name not in wanted:
                self.documents.fault(
                    f"{operation.id}: the path has no {{{parameter.name}}}",
                    parameter.location,
                    "correct the name or the path",
                    "warning",
                )
        missing = [
            Input(
                name,
                "path",
                True,
                None,
                operation.location,
                "simple",
                False,
                unreadable=f"no parameter is declared for {{{name}}}",
            )
            for name in dict.fromkeys(wanted)
            if name not in given
        ]
        return replace(operation, inputs=(*operation.inputs, *missing)) if missing else operation

    def named(self, operations: list[Operation]) -> list[Operation]:
        """Ids: the declared one where it is unique, else METHOD path."""
        counts = Counter(operation.declared_id for operation in operations if operation.declared_id)
        named = []
        told: set[str] = set()
        for operation in operations:
            if operation.declared_id and counts[operation.declared_id] == 1:
                operation = replace(operation, id=operation.declared_id)
            elif operation.declared_id and operation.declared_id not in told:
                told.add(operation.declared_id)
                self.documents.fault(
                    f"the operationId {quoted(operation.declared_id)} stands {counts[operation.declared_id]}"
                    " times",
                    operation.location.child("operationId"),
                    f"make it unique; until then the operation is called '{operation.id}'",
                    "warning",
                )
            named.append(operation)
        return named

    def servers(self, value: Any, location: Location) -> tuple[str, ...]:
        found = []
        for server in value if isinstance(value, list) else ():
            if isinstance(server, dict) and isinstance(server.get("url"), str):
                url = server["url"]
                variables = server.get("variables")
                for name, variable in variables.items() if isinstance(variables, dict) else ():
                    if isinstance(variable, dict):
                        url = url.replace(f"{{{name}}}", str(variable.get("default", "")))
                found.append(url)
        return tuple(found)

    def old_servers(self) -> Iterator[str]:
        """OpenAPI 2.0: schemes, host and basePath."""
        host, path, schemes = (self.value.get(key) for key in ("host", "basePath", "schemes"))
        path = path if isinstance(path, str) else ""
        if isinstance(host, str) and self.version == "2.0":
            for scheme in schemes if isinstance(schemes, list) and schemes else ["https"]:
                yield f"{scheme}://{host}{path}"
        elif path and self.version == "2.0":
            yield path

    def security(self, operation: dict[str, Any], location: Location) -> tuple[tuple[str, ...], ...]:
        value = operation.get("security", self.value.get("security"))
        alternatives = []
        for alternative in value if isinstance(value, list) else ():
            if isinstance(alternative, dict):
                alternatives.append(tuple(alternative))
        known = self.declared_schemes()[0]
        for name in dict.fromkeys(
            name for alternative in alternatives for name in alternative if name not in known
        ):
            self.documents.fault(
                f"the security scheme {quoted(name)} is not declared",
                location.child("security"),
                (
                    "declare it under securityDefinitions"
                    if self.version == "2.0"
                    else "declare it under components/securitySchemes"
                ),
                "warning",
            )
        return tuple(alternatives)

    def declared_schemes(self) -> tuple[dict[str, Any], Location]:
        if self.version == "2.0":
            found, place = self.value.get("securityDefinitions"), self.root.child("securityDefinitions")
        else:
            components = self.value.get("components")
            found = components.get("securitySchemes") if isinstance(components, dict) else None
            place = self.root.child("components", "securitySchemes")
        return (found if isinstance(found, dict) else {}), place

    def security_schemes(self) -> Iterator[SecurityScheme]:
        schemes, place = self.declared_schemes()
        for name, value in schemes.items():
            found = self.documents.follow(value, place.child(name))
            if found is None or not isinstance(found[0], dict):
                continue
            scheme, location = found
            kind = str(scheme.get("type", ""))
            if kind == "http":
                kind = str(scheme.get("scheme", "")).lower()
            for flow, where in oauth_flows(scheme, location):
                if not isinstance(flow.get("scopes"), dict):
                    what = "an OAuth flow without `scopes`, which it must have; none are asked for"
                    self.documents.fault(what, where, "write scopes: {}, or list them", "warning")
            yield SecurityScheme(
                name,
                kind,
                str(scheme.get("in", "")),
                str(scheme.get("name", "")),
                location,
                str(scheme.get("description", "")),
                **token_service(scheme),
            )
            key = scheme.get("name")
            if kind == "apiKey" and scheme.get("in") == "header" and isinstance(key, str) and ":" in key:
                field, _, before = key.partition(":")
                self.documents.fault(
                    f"{quoted(key)} is no name of a header field; the key is sent in {field.strip()},"
                    f" {f'after {before.strip()}' if before.strip() else 'as it is'}",
                    location.child("name"),
                    f"write name: {field.strip()}, or type: http, scheme: bearer",
                    "warning",
                )
