"""A format of its own: every call is a POST to one address; the body says what is to be done. Several calls
may go in one.
"""

from __future__ import annotations

import json
from collections.abc import Iterator, Mapping
from dataclasses import replace
from typing import Any

from juxtalogos.documents.jsontext import NotJson, dump_json, parse_json
from juxtalogos.model.contract import (
    Body,
    Contract,
    DeclaredAnswer,
    DefinitionFault,
    Input,
    Intent,
    Media,
    Operation,
    SecurityScheme,
)
from juxtalogos.model.document import Document
from juxtalogos.model.elements import Element
from juxtalogos.model.errors import UsageError
from juxtalogos.model.exchange import Exchange, Request, Response
from juxtalogos.model.findings import CheckResult
from juxtalogos.model.format import Fetch, Format, SignInFlow, SignInScheme
from juxtalogos.model.location import Location
from juxtalogos.model.schema import ABSENT, Direction, SchemaRef
from juxtalogos.model.wire import Answer, Inputs, ObservedFault, Problem, WireCheck
from juxtalogos.report import Reporter
from juxtalogos.schema.json import JsonEngine

JSON = "application/json"


def claims(document: Document) -> bool:
    return isinstance(document.value, dict) and "ropeyard" in document.value


def read(name: str, root: str, fetch: Fetch, others: Any = ()) -> Contract:
    document = fetch(root)
    found, faults = [], []
    for key, value in document.value.get("does", {}).items():
        place = Location(root).child("does", key)
        if not isinstance(value, dict):
            faults.append(DefinitionFault(f"{key} is no mapping", place, "say what it takes and gives"))
            continue
        found.append(_operation(name, key, value, place))
    schemes = (SecurityScheme("word", "knock", "header", "X-Knock", Location(root).child("word")),)
    documents = {root: document}
    return Contract(
        name,
        "ropeyard",
        "1",
        document.value.get("ropeyard", ""),
        tuple(found),
        documents,
        root,
        engine(documents, "2020-12"),
        faults=tuple(faults),
        security_schemes=schemes,
        dialect="2020-12",
        columns=("intent", "sign-in"),
    )


def _operation(contract: str, key: str, value: Mapping[str, Any], place: Location) -> Operation:
    def media(part: str, direction: Direction) -> Media:
        at = place.child(part)
        return Media(JSON, SchemaRef("2020-12", at.document, at.pointer, direction), at)

    intent = Intent(value.get("intent", "act"))
    on = value.get("on", "")
    given = tuple(
        Input(
            one,
            "query",
            True,
            media("item", Direction.REQUEST).schema,
            place.child("item"),
            "",
            False,
            identifies=on,
        )
        for one in value.get("of", ())
    )
    body = (
        Body(True, (media("takes", Direction.REQUEST),), place.child("takes")) if "takes" in value else None
    )
    faults = tuple(
        DeclaredAnswer("200", (media("refusal", Direction.RESPONSE),), (), place.child("faults"), fault=one)
        for one in value.get("faults", ())
    )
    return Operation(
        key,
        contract,
        "POST",
        "",
        place,
        place.pointer,
        key,
        inputs=given,
        body=body,
        answers=(
            DeclaredAnswer("200", (media("gives", Direction.RESPONSE),), (), place.child("gives")),
            *faults,
        ),
        security=(("word",),),
        facts=(("intent", intent),),
        intent=intent,
        safe=intent in (Intent.READ, Intent.LIST),
        resource=on,
        on_item=bool(given),
        noun=on.removesuffix("s"),
        group=on or "yard",
    )


def engine(documents: Mapping[str, Document], dialect: str) -> JsonEngine:
    return JsonEngine(documents, dialect)


class RopeWire:
    method_tells = False
    checks: tuple[WireCheck, ...] = ()

    def __init__(self, contract: Contract) -> None:
        self.contract = contract

    def encode(self, operation: Operation, inputs: Inputs, base_url: str, *, loose: bool = False) -> Request:
        known = {one.address for one in operation.inputs}
        for address in inputs.values:
            if address not in known and not loose:
                raise UsageError(f"{operation.id} has no input {address}")
        message = {
            "do": operation.id,
            "args": {address.partition(".")[2]: value for address, value in inputs.values.items()},
        }
        if inputs.body is not ABSENT:
            message["with"] = inputs.body
        return Request("POST", base_url, (("Content-Type", JSON),), dump_json(message).encode())

    def taken(self, operation: Operation, request: Request, base_url: str) -> Inputs:
        message = parse_json(request.body or b"{}")
        return Inputs(
            {f"query.{name}": one for name, one in message["args"].items()}, message.get("with", ABSENT), JSON
        )

    def match(self, request: Request, base_url: str) -> tuple[Operation, ...]:
        if request.url != base_url or request.method != "POST":
            return ()
        try:
            found = self.contract.operation(str(parse_json(request.body or b"").get("do")))
        except (NotJson, AttributeError):
            return ()
        return (found,) if found else ()

    def unmatched(self, request: Request, base_url: str) -> CheckResult | str:
        return "outside the base URL" if request.url != base_url else "it says nothing that is known"

    def decode(self, operation: Operation, exchange: Exchange) -> Answer:
        declared, *faults = operation.answers
        assert exchange.response is not None
        try:
            value = parse_json(exchange.response.body)
        except NotJson as error:
            return Answer(declared, None, problems=(Problem("media.untrue", "body", "JSON", str(error)),))
        if isinstance(value, dict) and "refused" in value:
            names = tuple(one.fault for one in faults)
            named = next((one for one in faults if one.fault == value["refused"]), None)
            told = ObservedFault(named.fault if named else "", str(value["refused"]), "", names)
            if named is None:
                return Answer(
                    None,
                    None,
                    fault=told,
                    problems=(
                        Problem(
                            "rope.knot", "body", " or ".join(names) or "no refusal", str(value["refused"])
                        ),
                    ),
                )
            return Answer(named, named.media[0], value, fault=told)
        media = declared.media[0]
        return Answer(declared, media, value, self.contract.schema(media.schema) if media.schema else None)

    def elements(self, operation: Operation) -> Iterator[Element]:
        yield Element("operation", operation.location, label=operation.id)
        for answer in operation.answers:
            yield Element(
                "knot" if answer.fault else "status",
                answer.location,
                answer.fault,
                label=f"{operation.id} {answer.fault or 'gives'}",
            )
        for ref in self.contract.schema_refs(operation):
            yield from self.contract.schema(ref).elements()

    def hits(self, operation: Operation, exchange: Exchange, answer: Answer, base_url: str) -> list[str]:
        found = [Element("operation", operation.location).id]
        if answer.declared:
            found.append(
                Element(
                    "knot" if answer.declared.fault else "status",
                    answer.declared.location,
                    answer.declared.fault,
                ).id
            )
        if answer.examined is not None:
            found += answer.examined.hits
        return list(dict.fromkeys(found))

    def parts(self, exchange: Exchange) -> tuple[Exchange, ...]:
        message, response = parse_json(exchange.request.body or b"{}"), exchange.response
        if response is None or message.get("do") != "all":
            return ()
        pairs = zip(message["with"]["calls"], parse_json(response.body)["answers"])
        return tuple(
            replace(
                exchange,
                request=replace(exchange.request, body=dump_json(call).encode()),
                response=replace(response, body=dump_json(answer).encode()),
            )
            for call, answer in pairs
        )

    def conversation(self, base_url: str) -> None:
        return None

    def misread(self, request: Request) -> tuple[tuple[str, str, Request], ...]:
        return (("body", "word: nothing is asked", replace(request, body=b'{"do": ""}')),)

    def parse_text(self, schema: SchemaRef | None, pointer: str, text: str) -> Any:
        try:
            return parse_json(text)
        except NotJson:
            return text

    def selector(self, operation: Operation, schema: SchemaRef, pointer: str) -> None:
        return None


def knock(request: Request, scheme: SecurityScheme, credential: Any, memory: dict[str, Any]) -> SignInFlow:
    """A word is asked for first, and the secret goes into it."""
    if "word" not in memory:
        exchange = yield Request("POST", request.url, (("Content-Type", JSON),), b'{"do": "knock"}')
        assert isinstance(exchange.response, Response)
        memory["word"] = json.loads(exchange.response.body)["word"] + credential.secret[::-1]
    return replace(request, headers=(*request.headers, (scheme.key, memory["word"])))


ROPEYARD = Format(
    "ropeyard",
    claims,
    read,
    engine,
    RopeWire,
    finding_kinds={"rope.knot": "a refusal that nobody declared"},
    element_kinds={"knot": "refusals"},
    endings=(".rope",),
    open_places=(),
    hint="a rope yard has `ropeyard: TITLE`",
    version="1",
)
KNOCK = SignInScheme(
    knock,
    "a word that is asked for first, as {place} {key}",
    void=lambda exchange, memory: bool(memory.pop("word", None)),
)
TALLY = Reporter("txt", lambda view: "".join(f"{case.case} {case.verdict}\n" for case in view.cases).encode())
