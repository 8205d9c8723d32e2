"""Requests as people fill them: what goes along with a value is made up, what is not declared or excludes
another is refused.
"""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest

from conftest import TESTS, Result, answers, definition, read_contract
from juxtalogos.compose.filling import filled, misfits, settings_given
from juxtalogos.formats import FORMATS, wire_of
from juxtalogos.model.contract import Contract
from juxtalogos.model.errors import UsageError
from juxtalogos.workspace.files import folder_fetch

DATA = TESTS / "data"

_KIND = {"type": "object", "required": ["kind"]}
_TUG = {
    **_KIND,
    "properties": {"kind": {"enum": ["tug"]}, "pull": {"type": "integer"}},
    "additionalProperties": False,
}
_BARGE = {
    **_KIND,
    "required": ["kind", "deck"],
    "properties": {"kind": {"enum": ["barge"]}, "deck": {"type": "integer"}, "load": {"type": "string"}},
    "additionalProperties": False,
}
_HIRE = {
    "type": "object",
    "properties": {
        "craft": {"oneOf": [_TUG, _BARGE]},
        "contact": {
            "type": "object",
            "required": ["mail", "phone"],
            "properties": {
                "mail": {"type": "string", "format": "email"},
                "phone": {"type": "integer"},
                "note": {"type": "string"},
            },
        },
        "stops": {
            "type": "array",
            "maxItems": 3,
            "items": {
                "type": "object",
                "required": ["at"],
                "properties": {"at": {"type": "string"}, "hours": {"type": "integer"}},
            },
        },
        "marks": {"type": "object", "additionalProperties": {"type": "integer"}},
        "free": {},
        "day": {"type": "string", "maxLength": 10},
    },
}


def hire() -> Contract:
    body = {"content": {"application/json": {"schema": _HIRE}}, "required": True}
    window = {
        "name": "window",
        "in": "query",
        "style": "deepObject",
        "schema": {
            "type": "object",
            "required": ["to"],
            "properties": {"from": {"type": "string"}, "to": {"type": "string"}},
        },
    }
    return read_contract(
        definition(
            {
                "/hires": {
                    "post": {
                        "operationId": "hire",
                        "parameters": [window],
                        "requestBody": body,
                        "responses": answers(),
                    }
                }
            }
        )
    )


def tugs() -> Contract:
    return FORMATS["soap"].read("tugs", "tugs.wsdl", folder_fetch(DATA))


def fill(contract: Contract, *settings: str, unchecked: bool = False) -> tuple[Any, list[str]]:
    """(inputs, what is told of them) of an operation called `hire`."""
    operation = contract.operation("hire")
    assert operation
    inputs = filled(
        contract, operation, settings_given(wire_of(contract), operation, settings), unchecked=unchecked
    )
    told = list(misfits(contract, operation, inputs))
    assert wire_of(contract).encode(operation, inputs, "http://quay.test", loose=unchecked).body
    return inputs, told


JSON: list[tuple[tuple[str, ...], dict[str, Any]]] = [
    # settings, what the body has; nothing is told, for all of it is valid
    (
        ("body/contact/note=x",),
        {"contact": {"mail": "watch@port-of-merrow.example", "phone": 1, "note": "x"}},
    ),
    (("body/craft/deck=4",), {"craft": {"kind": "barge", "deck": 4}}),
    (("body/craft/kind=barge",), {"craft": {"kind": "barge", "deck": 1}}),
    (("body/craft/pull=4",), {"craft": {"kind": "tug", "pull": 4}}),
    (("body/stops/1/hours=4",), {"stops": [{"at": "quay"}, {"at": "quay", "hours": 4}]}),
    (("body/marks/north=4",), {"marks": {"north": 4}}),
    (("body/free/any/thing=x",), {"free": {"any": {"thing": "x"}}}),
    (("body/free/0/thing=x",), {"free": [{"thing": "x"}]}),
    (
        ('body/contact={"mail": "a@quay.example", "phone": 2}', "body/contact/phone=3"),
        {"contact": {"mail": "a@quay.example", "phone": 3}},
    ),
]


@pytest.mark.parametrize(("settings", "body"), JSON, ids=[" ".join(row[0]) for row in JSON])
def test_what_goes_along_with_a_value_in_json(settings: tuple[str, ...], body: dict[str, Any]) -> None:
    inputs, told = fill(hire(), *settings)
    assert inputs.body == body and not told


XML: list[tuple[tuple[str, ...], dict[str, Any]]] = [
    (("body/load/@xsi:type=Steel",), {"load": {"@xsi:type": "Steel", "mark": "quay", "coils": 3}}),
    (
        ("body/load/@xsi:type=t:Steel", "body/load/coils=9"),
        {"load": {"@xsi:type": "t:Steel", "mark": "quay", "coils": 9}},
    ),
    (("body/load/grade=a",), {"load": {"@xsi:type": "Grain", "mark": "quay", "tonnes": 4.5, "grade": "a"}}),
    (("body/load/coils=4",), {"load": {"@xsi:type": "Steel", "mark": "quay", "coils": 4}}),
    (("body/contact/note=x",), {"contact": {"email": "quay", "phone": 3, "note": "x"}}),
    (("body/byNumber=4",), {"byNumber": 4}),
    (("body/byName/flag=x",), {"byName": {"name": "quay", "flag": "x"}}),
    (("body/barge/0/deck=4",), {"barge": [{"deck": 4}]}),
    (
        ("body/barge/1/deck=4", "body/tug/0/pull=2"),
        {"tug": [{"pull": 2}], "barge": [{"deck": 3}, {"deck": 4}]},
    ),
    (("body/code=any",), {"code": "any"}),
]


@pytest.mark.parametrize(("settings", "part"), XML, ids=[" ".join(row[0]) for row in XML])
def test_what_goes_along_with_a_value_in_xml(settings: tuple[str, ...], part: dict[str, Any]) -> None:
    inputs, told = fill(tugs(), *settings)
    assert {key: inputs.body[key] for key in part} == part and not told
    assert ("byName" in inputs.body) != ("byNumber" in inputs.body) and ("tug" in inputs.body) >= (
        "barge" not in part
    )


def test_blocks_of_the_header_and_objects_in_the_query_are_filled_by_address() -> None:
    inputs, told = fill(tugs(), "header.Credential/desk=east", "Credential/token=abc")
    assert inputs.values == {"header.Credential": {"token": "abc", "desk": "east"}} and not told
    assert fill(hire(), "query.window/from=a")[0].values == {"query.window": {"from": "a", "to": "quay"}}
    assert fill(tugs(), "header.X-Desk=a")[0].values["header.X-Desk"] == "a"


REFUSED = (
    (hire, ("body/nope=3",), "there is no body/nope", ""),
    (hire, ("body/craft/dek=3",), "there is no body/craft/dek", "body/craft/deck"),
    (hire, ("body/phone=3",), "there is no body/phone", "did you mean body/contact/phone?"),
    (
        hire,
        ("body/craft/pull=1", "body/craft/deck=2"),
        "body/craft/pull and body/craft/deck exclude each other",
        "--unchecked",
    ),
    (hire, ("body/stops/7/at=x",), "so '7' is no place in it", "use an index from 0"),
    (hire, ("query.widow/from=a",), "has no input query.widow/from", "query.window"),
    (hire, ("contact/phone=3",), "has no input contact/phone", "write body/contact/phone"),
    (
        hire,
        ("body/stops/999999999999999999999/at=x",),
        "there is no body/stops/",
        "did you mean body/stops/0/at?",
    ),
    (hire, ("body/stops/\u00b2/at=x",), "there is no body/stops/", "did you mean body/stops/0/at?"),
    (hire, ("body" + "/a" * 2000 + "=x",), "an address of more than 100 steps", "as JSON or XML"),
    (tugs, ("body/tug/999999999/pull=1",), "is no place in it", "use an index from 0"),
    (tugs, ("body/nope=3",), "there is no body/nope", ""),
    (
        tugs,
        ("body/load/coils=4", "body/load/tonnes=4"),
        "body/load/coils and body/load/tonnes exclude each other",
        "--unchecked",
    ),
    (
        tugs,
        ("body/byNumber=4", "body/byName/name=a"),
        "body/byNumber and body/byName/name exclude each other",
        "set one of them",
    ),
    (tugs, ("body/load/@xsi:type=Stel",), "Stel is no type of it", "did you mean Steel?"),
    (tugs, ("header.Credential/tokn=a",), "there is no header.Credential/tokn", "header.Credential/token"),
    (tugs, ("header.Credental/token=a",), "has no input header.Credental/token", "header.Credential"),
)


@pytest.mark.parametrize(
    ("made", "settings", "what", "mend"), REFUSED, ids=[" ".join(row[1]) for row in REFUSED]
)
def test_what_is_refused_before_anything_is_sent(
    made: Callable[[], Contract], settings: tuple[str, ...], what: str, mend: str
) -> None:
    with pytest.raises(UsageError) as caught:
        fill(made(), *settings)
    assert what.replace("'", "") in str(caught.value).replace("'", "") and mend in str(caught.value)
    if "exclude" in what or "there is no body" in what:
        inputs, _ = fill(made(), *settings, unchecked=True)
        assert settings[-1].rpartition("=")[0].rpartition("/")[2] in str(inputs.body)


FORBIDDEN = (
    (hire, "body/contact/phone=x", ['body/contact/phone: integer; here string "x"']),
    (
        hire,
        "body/day=2026-01-01T10:00:00Z",
        ['body/day: at most 10 characters; here 20 characters: "2026-01-01T10:00:00Z"'],
    ),
    (tugs, "body/code=xyz", ["body/code: int or string; here xyz"]),
    (
        tugs,
        "body/moment=2040-01-01T00:00:00Z",
        ["body/moment: less than 2031-01-02T00:00:00Z; here 2040-01-01T00:00:00Z"],
    ),
    (tugs, "body/tug/3/pull=1", ["body/tug[4]: contact; here tug, out of its order"]),
)


@pytest.mark.parametrize(("made", "setting", "lines"), FORBIDDEN, ids=[row[1] for row in FORBIDDEN])
def test_what_a_type_forbids_is_taken_and_told(
    made: Callable[[], Contract], setting: str, lines: list[str]
) -> None:
    inputs, told = fill(made(), setting)
    assert told == lines and str(inputs.body)


def test_the_user_is_told(tmp_path: Path, jux: Callable[..., Result]) -> None:
    """`show` has what can be set, `skeleton` writes it in the schema's order, a part with an abstract element
    too.
    """
    home = tmp_path / "w"
    jux("init", home)
    jux("import", DATA / "tugs.wsdl", "-C", home)
    shown = jux("show", "hire", "-C", home).out
    for line in (
        r"header.Credential/token  string",
        "body/barge/0/deck",
        "any mix with barge",
        "int or string",
        "any, none",
    ):
        assert line in shown, shown
    wrong = jux("skeleton", "hire", "--set", "body/code=xyz", "-C", home)
    assert "not as declared, sent as given: body/code: int or string; here xyz" in wrong.err
    shown = jux("show", "inspect", "-C", home).out
    assert "body/tug/pull" in shown and "instead of tug" in shown
    barge = jux("skeleton", "inspect", "--set", "body/barge/deck=7", "--form", "body", "-C", home).out
    assert "<t:deck>7</t:deck>" in barge and "t:tug" not in barge
    assert (
        "sign-in: not declared" in shown
        and "sign-in, if required: digest" in jux("show", "tugs", "-C", home).out
    )
