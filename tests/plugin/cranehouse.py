"""A format of a package: remote calls by name to one endpoint, with numeric result codes, whatever the HTTP status."""

from __future__ import annotations

from typing import Any

from juxtalogos import plugin as api

JSON = "application/json"
OUTCOMES = {
    0: api.Outcome.SUCCEEDED,
    1: api.Outcome.BEGUN,
    2: api.Outcome.INVALID,
    4: api.Outcome.ABSENT,
    7: api.Outcome.CONFLICT,
    9: api.Outcome.FAILED,
}
WRONG = {
    2: (api.Wrong.VALUE, api.Wrong.SYNTAX),
    4: (api.Wrong.GONE, api.Wrong.UNKNOWN, api.Wrong.REFERENCE),
    7: (api.Wrong.CONFLICT,),
}


def read(name: str, root: str, fetch: api.Fetch, others: Any = ()) -> api.Contract:
    document = fetch(root)
    place = api.Location(root).child("calls")
    calls = document.value["calls"].items()
    documents = {root: document}
    return api.Contract(
        name=name,
        format="cranehouse",
        version="1",
        title=str(document.value["cranehouse"]),
        operations=tuple(_operation(name, call, value, place.child(call)) for call, value in calls),
        documents=documents,
        root=root,
        engine=api.JsonEngine(documents, "2020-12"),
        dialect="2020-12",
        columns=("results",),
    )


def _operation(contract: str, call: str, value: Any, place: api.Location) -> api.Operation:
    def media(part: str, direction: api.Direction) -> api.Media:
        at = place.child(part)
        return api.Media(JSON, api.SchemaRef("2020-12", at.document, at.pointer, direction), at)

    def answer(code: str, meaning: str) -> api.DeclaredAnswer:
        at = place.child("results", code)
        gives = (media("returns", api.Direction.RESPONSE),) if code == "0" else ()
        return api.DeclaredAnswer(code, gives, (), at, meaning, outcome=OUTCOMES[int(code)], open_body=True)

    takes = media("takes", api.Direction.REQUEST)
    return api.Operation(
        id=call,
        contract=contract,
        method="CALL",
        path="",
        location=place,
        reference=place.pointer,
        declared_id=call,
        summary=str(value.get("summary", "")),
        body=api.Body(True, (takes,), takes.location) if "takes" in value else None,
        answers=tuple(answer(code, meaning) for code, meaning in value["results"].items()),
        facts=(("results", " ".join(value["results"])),),
        intent=api.intent_of(call),
        safe=api.only_reads(call),
        noun=api.noun_of(call),
        group="cranes",
    )


class CraneWire(api.BaseWire):
    def encode(
        self, operation: api.Operation, inputs: api.Inputs, base_url: str, *, loose: bool = False
    ) -> api.Request:
        if inputs.values and not loose:
            raise api.UsageError(f"{operation.id} takes its arguments in the body")
        body = {} if inputs.body is api.ABSENT else inputs.body
        message = {"call": operation.id, "arguments": body}
        return api.Request("POST", base_url, (("Content-Type", JSON),), api.dump_json(message).encode())

    def inputs_of(self, operation: api.Operation, request: api.Request, base_url: str) -> api.Inputs:
        message = api.parse_json(request.body or b"{}")
        return api.Inputs({}, message["arguments"] if operation.body else api.ABSENT, JSON)

    def match(self, request: api.Request, base_url: str) -> tuple[api.Operation, ...]:
        try:
            found = self.contract.operation(str(api.parse_json(request.body or b"").get("call")))
        except (api.NotJson, AttributeError):
            return ()
        return (found,) if found and request.url.rstrip("/") == base_url.rstrip("/") else ()

    def decode(self, operation: api.Operation, exchange: api.Exchange) -> api.Answer:
        assert exchange.response is not None
        try:
            value = api.parse_json(exchange.response.body)
            code = int(value["result"])
        except (api.NotJson, TypeError, KeyError, ValueError):
            problem = api.Problem("media.untrue", "body", "a result", "something else")
            return api.Answer(None, None, problems=(problem,), outcome=api.Outcome.FAILED, code="no result")
        declared = next((one for one in operation.answers if one.status == str(code)), None)
        outcome = OUTCOMES.get(code, api.Outcome.UNKNOWN)
        if declared is None:
            problem = api.Problem("result.undeclared", "body/result", "a declared result", str(code))
            return api.Answer(None, None, value, problems=(problem,), outcome=outcome, code=str(code))
        media = declared.media[0] if declared.media else None
        schema = self.contract.schema(media.schema) if media and media.schema else None
        return api.Answer(declared, media, value, schema, outcome=outcome, code=str(code))

    def due(self, answer: api.DeclaredAnswer, wrong: api.Wrong) -> bool:
        return wrong in WRONG.get(int(answer.status), ())

    def may_refuse(self, wrong: api.Wrong, exchange: api.Exchange) -> bool:
        code = api.parse_json(exchange.response.body)["result"] if exchange.response else None
        return wrong in WRONG.get(code, ()) or code == 9

    def condition(self, operation: api.Operation, *outcomes: api.Outcome, left_open: bool = False) -> str:
        codes = [code for code, outcome in OUTCOMES.items() if outcome in outcomes]
        return " || ".join(f"$response.body#/result == {code}" for code in codes)


CRANEHOUSE = api.Format(
    name="cranehouse",
    claims=lambda document: isinstance(document.value, dict) and "cranehouse" in document.value,
    read=read,
    engine=api.JsonEngine,
    bind=CraneWire,
    finding_kinds={"result.undeclared": "a result that the definition does not list"},
    endings=(".crane",),
    open_places=(),
    hint="a crane house has `cranehouse: TITLE`",
)
