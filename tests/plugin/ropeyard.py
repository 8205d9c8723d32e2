"""A format of a package: each call is a POST to one address, its body names the operation, and it may be a batch."""

from __future__ import annotations

import json
from collections.abc import Mapping
from dataclasses import replace
from typing import Any

from juxtalogos import plugin as api

JSON = "application/json"


def claims(document: api.Document) -> bool:
    return isinstance(document.value, dict) and "ropeyard" in document.value


def read(name: str, root: str, fetch: api.Fetch, others: Any = ()) -> api.Contract:
    document = fetch(root)
    place = api.Location(root).child("does")
    entries = document.value.get("does", {}).items()
    faults = tuple(
        api.DefinitionFault(f"{key} is no mapping", place.child(key), "say what it takes and gives")
        for key, value in entries
        if not isinstance(value, dict)
    )
    sound = [(key, value) for key, value in entries if isinstance(value, dict)]
    operations = tuple(_operation(name, key, value, place.child(key)) for key, value in sound)
    schemes = (api.SecurityScheme("word", "knock", "header", "X-Knock", api.Location(root).child("word")),)
    documents = {root: document}
    return api.Contract(
        name, "ropeyard", "1", document.value.get("ropeyard", ""), operations, documents, root, api.JsonEngine(documents, "2020-12"),
        faults=faults, security_schemes=schemes, dialect="2020-12", columns=("intent", "sign-in"),
    )  # fmt: skip


def _operation(contract: str, key: str, value: Mapping[str, Any], place: api.Location) -> api.Operation:
    def media(part: str, direction: api.Direction) -> api.Media:
        at = place.child(part)
        return api.Media(JSON, api.SchemaRef("2020-12", at.document, at.pointer, direction), at)

    def answer(part: str, fault: str = "") -> api.DeclaredAnswer:
        at = place.child("faults") if fault else place.child(part)
        return api.DeclaredAnswer("200", (media(part, api.Direction.RESPONSE),), (), at, fault=fault)

    intent, on = api.Intent(value.get("intent", "act")), value.get("on", "")
    item = media("item", api.Direction.REQUEST).schema
    at, names = place.child("item"), value.get("of", ())
    given = tuple(api.Input(key, "query", True, item, at, "", False, identifies=on) for key in names)
    return api.Operation(
        key, contract, "POST", "", place, place.pointer, key, inputs=given,
        body=api.Body(True, (media("takes", api.Direction.REQUEST),), place.child("takes")) if "takes" in value else None,
        answers=(answer("gives"), *(answer("refusal", one) for one in value.get("faults", ()))),
        security=(("word",),), facts=(("intent", intent),), intent=intent, safe=intent in (api.Intent.READ, api.Intent.LIST),
        resource=on, on_item=bool(given), noun=on.removesuffix("s"), group=on or "yard",
    )  # fmt: skip


class RopeWire(api.BaseWire):
    def encode(
        self, operation: api.Operation, inputs: api.Inputs, base_url: str, *, loose: bool = False
    ) -> api.Request:
        strange = inputs.values.keys() - {declared.address for declared in operation.inputs}
        if strange and not loose:
            raise api.UsageError(f"{operation.id} has no input {min(strange)}")
        args = {address.partition(".")[2]: value for address, value in inputs.values.items()}
        more = {} if inputs.body is api.ABSENT else {"with": inputs.body}
        body = api.dump_json({"do": operation.id, "args": args, **more}).encode()
        return api.Request("POST", base_url, (("Content-Type", JSON),), body)

    def inputs_of(self, operation: api.Operation, request: api.Request, base_url: str) -> api.Inputs:
        message = api.parse_json(request.body or b"{}")
        values = {f"query.{name}": value for name, value in message["args"].items()}
        return api.Inputs(values, message.get("with", api.ABSENT), JSON)

    def match(self, request: api.Request, base_url: str) -> tuple[api.Operation, ...]:
        try:
            found = self.contract.operation(str(api.parse_json(request.body or b"").get("do")))
        except (api.NotJson, AttributeError):
            return ()
        return (found,) if found and request.url == base_url and request.method == "POST" else ()

    def decode(self, operation: api.Operation, exchange: api.Exchange) -> api.Answer:
        declared, *faults = operation.answers
        assert exchange.response is not None
        code = str(exchange.response.status)
        try:
            value = api.parse_json(exchange.response.body)
        except api.NotJson as error:
            problem = api.Problem("media.untrue", "body", "JSON", str(error))
            return api.Answer(declared, None, problems=(problem,), code=code)
        if isinstance(value, dict) and "refused" in value:
            return self._refused(value, faults, api.Outcome.UNAUTHENTICATED if code == "401" else None, code)
        media = declared.media[0]
        schema = self.contract.schema(media.schema) if media.schema else None
        return api.Answer(declared, media, value, schema, outcome=api.Outcome.SUCCEEDED, code=code)

    def _refused(
        self, value: Any, faults: list[api.DeclaredAnswer], outcome: api.Outcome | None, code: str
    ) -> api.Answer:
        word, names = str(value["refused"]), tuple(one.fault for one in faults)
        named = next((one for one in faults if one.fault == word), None)
        told = api.ObservedFault(named.fault if named else "", word, "", names)
        outcome, media = outcome or api.fault_outcome(word), named.media[0] if named else None
        problems = () if named else (api.Problem("rope.knot", "body", " or ".join(names), word),)
        return api.Answer(named, media, value, problems=problems, fault=told, outcome=outcome, code=code)

    def parts(self, exchange: api.Exchange) -> tuple[api.Exchange, ...]:
        message, response = api.parse_json(exchange.request.body or b"{}"), exchange.response
        if response is None or message.get("do") != "all":
            return ()
        pairs = zip(message["with"]["calls"], api.parse_json(response.body)["answers"])
        bodies = [(api.dump_json(call).encode(), api.dump_json(answer).encode()) for call, answer in pairs]
        return tuple(
            replace(
                exchange, request=replace(exchange.request, body=sent), response=replace(response, body=got)
            )
            for sent, got in bodies
        )

    def variants(self, operation: api.Operation, inputs: api.Inputs) -> tuple[api.Variant, ...]:
        silent = api.Variant(
            "body", "word: nothing is asked", None, lambda sent: replace(sent, body=b'{"do": ""}')
        )
        return (silent,)


def knock(
    request: api.Request, scheme: api.SecurityScheme, credential: Any, memory: dict[str, Any]
) -> api.SignInFlow:
    """A word is asked for first, and the secret goes into it."""
    if "word" not in memory:
        exchange = yield api.Request("POST", request.url, (("Content-Type", JSON),), b'{"do": "knock"}')
        word = json.loads(exchange.response.body if exchange.response else b"")["word"]
        memory["word"] = word + credential.secret[::-1]
    return replace(request, headers=(*request.headers, (scheme.key, memory["word"])))


ROPEYARD = api.Format(
    "ropeyard", claims, read, api.JsonEngine, RopeWire, finding_kinds={"rope.knot": "a refusal that nobody declared"},
    endings=(".rope",), open_places=(), hint="a rope yard has `ropeyard: TITLE`", version="1",
)  # fmt: skip
KNOCK = api.SignInScheme(
    knock,
    "a word fetched first, as {place} {key}",
    void=lambda exchange, memory: bool(memory.pop("word", None)),
)
TALLY = api.Reporter(
    "txt", lambda view: "".join(f"{case.case} {case.verdict}\n" for case in view.cases).encode()
)
