"""Makes big definitions of the harbour: so many operations, schemas of so many properties, with references
among them.
"""

from __future__ import annotations

import json
import random
from typing import Any

_WORDS = [
    "berth",
    "vessel",
    "tide",
    "gate",
    "line",
    "bay",
    "crane",
    "pilot",
    "tug",
    "mooring",
    "cargo",
    "draught",
    "quay",
    "lock",
    "buoy",
    "light",
    "signal",
    "notice",
    "visit",
    "owner",
]


def big_definition(operations: int, schemas: int, properties: int, seed: int = 0) -> dict[str, Any]:
    """An OpenAPI 3.0 definition; the same numbers give the same text."""
    rng = random.Random(seed)
    named = {
        f"{_WORDS[n % len(_WORDS)].title()}{n}": _schema(rng, n, schemas, properties) for n in range(schemas)
    }
    names = list(named)
    paths: dict[str, Any] = {}
    for n in range(operations // 2):
        name = names[n % len(names)]
        word = _WORDS[n % len(_WORDS)]
        one, many = (
            {"$ref": f"#/components/schemas/{name}"},
            {"type": "array", "items": {"$ref": f"#/components/schemas/{name}"}},
        )
        paths[f"/{word}s-{n}/{{id}}"] = {"get": _operation(rng, f"get{n}", one, ["id"])}
        paths[f"/{word}s-{n}"] = {
            "post": {
                **_operation(rng, f"make{n}", many, []),
                "requestBody": {"content": {"application/json": {"schema": one}}},
            }
        }
    return {
        "openapi": "3.0.3",
        "info": {"title": "The whole harbour", "version": "1"},
        "paths": paths,
        "components": {
            "schemas": named,
            "responses": {"Refused": _answer({"$ref": f"#/components/schemas/{names[0]}"})},
        },
    }


def _schema(rng: random.Random, number: int, schemas: int, properties: int) -> dict[str, Any]:
    found: dict[str, Any] = {}
    for n in range(properties):
        word = rng.choice(_WORDS)
        kind = rng.random()
        text = {
            "description": (
                f"The {word} of this entry, as the harbour office writes it down on the day of the visit"
                f" ({n})."
            )
        }
        if kind < 0.15 and number:
            other = rng.randrange(number)
            found[f"{word}{n}"] = {
                "allOf": [{"$ref": f"#/components/schemas/{_WORDS[other % len(_WORDS)].title()}{other}"}],
                **text,
            }
        elif kind < 0.3:
            found[f"{word}{n}"] = {
                "type": "array",
                "maxItems": 20,
                "items": {"type": "string", "maxLength": 40},
                **text,
            }
        elif kind < 0.5:
            found[f"{word}{n}"] = {"type": "string", "enum": rng.sample(_WORDS, 4), **text}
        elif kind < 0.7:
            found[f"{word}{n}"] = {
                "type": "integer",
                "minimum": 0,
                "maximum": rng.randrange(10, 10_000),
                **text,
            }
        else:
            found[f"{word}{n}"] = {
                "type": "string",
                "minLength": 1,
                "maxLength": 60,
                "example": f"{word} {n}",
                **text,
            }
    return {"type": "object", "required": list(found)[:3], "properties": found}


def _operation(rng: random.Random, name: str, schema: dict[str, Any], variables: list[str]) -> dict[str, Any]:
    parameters: list[dict[str, Any]] = [
        {"name": one, "in": "path", "required": True, "schema": {"type": "string"}} for one in variables
    ]
    parameters += [
        {
            "name": f"{word}{n}",
            "in": "query",
            "description": f"Only those of this {word}.",
            "schema": {"type": "integer", "minimum": 1, "maximum": 100},
        }
        for n, word in enumerate(rng.sample(_WORDS, 3))
    ]
    return {
        "operationId": name,
        "summary": f"What the office does with {name}",
        "tags": [rng.choice(_WORDS)],
        "parameters": parameters,
        "responses": {
            "200": _answer(schema),
            "404": {"$ref": "#/components/responses/Refused"},
            "default": _answer(schema),
        },
    }


def _answer(schema: dict[str, Any]) -> dict[str, Any]:
    return {"description": "What is found", "content": {"application/json": {"schema": schema}}}


def big_text(bytes_wanted: int, operations: int, properties: int = 20, syntax: str = "json") -> str:
    """Text of about so many bytes: schemas are added until it is long enough."""
    schemas = 40
    sample = len(json.dumps(big_definition(operations, schemas, properties), indent=1))
    each = len(json.dumps(_schema(random.Random(1), 5, schemas, properties), indent=1)) * 1.35
    schemas = max(schemas, schemas + int((bytes_wanted - sample) / each))
    value = big_definition(operations, schemas, properties)
    if syntax == "json":
        return json.dumps(value, indent=1)
    import yaml

    return str(yaml.dump(value, Dumper=yaml.CSafeDumper, sort_keys=False, width=200))


def big_wsdl(operations: int, files: int, size: int) -> dict[str, str]:
    """A WSDL by file name: its port types spread over WSDL files that the root imports, its types over XSD
    files that refer to each other.
    """
    wsdls = max(1, files // 10)
    schemas = files - wsdls - 1
    per_file, per_wsdl = -(-operations // schemas), -(-operations // wsdls)
    filler = max(4, size // operations // 210)
    found: dict[str, str] = {}
    for number in range(schemas):
        other = (number + 1) % schemas
        body = []
        for n in range(number * per_file, min(operations, (number + 1) * per_file)):
            fields = "".join(
                f'<xs:element name="{_WORDS[k % 20]}{k}"'
                f' type="{("xs:token", "xs:date", "xs:decimal", f"f:State{number}")[k % 4]}"'
                f' minOccurs="{k % 2}"><xs:annotation><xs:documentation>The {_WORDS[k % 20]} of job'
                f" {n}.</xs:documentation></xs:annotation></xs:element>"
                for k in range(filler)
            )
            body.append(
                f'<xs:complexType name="Order{n}"><xs:sequence>{fields}<xs:element name="next"'
                f' type="o:State{other}" minOccurs="0"/></xs:sequence></xs:complexType><xs:element'
                f' name="Do{n}"><xs:complexType><xs:sequence><xs:element name="order"'
                f' type="f:Order{n}"/></xs:sequence></xs:complexType></xs:element><xs:element'
                f' name="Do{n}Response"><xs:complexType><xs:sequence><xs:element name="id"'
                ' type="xs:token"/></xs:sequence></xs:complexType></xs:element>'
            )
        state = "".join(f'<xs:enumeration value="{word}"/>' for word in _WORDS[:6])
        found[f"types/f{number}.xsd"] = (
            f'<xs:schema xmlns:xs="http://www.w3.org/2001/XMLSchema" xmlns:f="urn:merrow:f{number}"'
            f' xmlns:o="urn:merrow:f{other}" targetNamespace="urn:merrow:f{number}"'
            f' elementFormDefault="qualified"><xs:import namespace="urn:merrow:f{other}"'
            f' schemaLocation="f{other}.xsd"/><xs:simpleType name="State{number}"><xs:restriction'
            f' base="xs:token">{state}</xs:restriction></xs:simpleType>{"".join(body)}</xs:schema>'
        )
    head = (
        'xmlns="http://schemas.xmlsoap.org/wsdl/" xmlns:soap="http://schemas.xmlsoap.org/wsdl/soap/"'
        ' xmlns:xs="http://www.w3.org/2001/XMLSchema"'
    )
    ports = []
    for part in range(wsdls):
        mine = range(part * per_wsdl, min(operations, (part + 1) * per_wsdl))
        spaces = "".join(f' xmlns:f{n}="urn:merrow:f{n}"' for n in range(schemas))
        links = "".join(
            f'<xs:import namespace="urn:merrow:f{n}" schemaLocation="types/f{n}.xsd"/>'
            for n in range(schemas)
        )
        messages = "".join(
            f'<message name="In{n}"><part name="p" element="f{n // per_file}:Do{n}"/></message><message'
            f' name="Out{n}"><part name="p" element="f{n // per_file}:Do{n}Response"/></message>'
            for n in mine
        )
        abstract = "".join(
            f'<operation name="do{n}"><input message="w:In{n}"/><output message="w:Out{n}"/></operation>'
            for n in mine
        )
        bound = "".join(
            f'<operation name="do{n}"><soap:operation soapAction="urn:do{n}"/><input><soap:body'
            ' use="literal"/></input><output><soap:body use="literal"/></output></operation>'
            for n in mine
        )
        found[f"part{part}.wsdl"] = (
            f'<definitions {head} xmlns:w="urn:merrow:w{part}"{spaces}'
            f' targetNamespace="urn:merrow:w{part}"><types><xs:schema'
            f' targetNamespace="urn:merrow:w{part}">{links}</xs:schema></types>{messages}<portType'
            f' name="T{part}">{abstract}</portType><binding name="B{part}" type="w:T{part}"><soap:binding'
            f' transport="http://schemas.xmlsoap.org/soap/http"/>{bound}</binding></definitions>'
        )
        ports.append(part)
    links = "".join(f'<import namespace="urn:merrow:w{part}" location="part{part}.wsdl"/>' for part in ports)
    spaces = "".join(f' xmlns:w{part}="urn:merrow:w{part}"' for part in ports)
    services = "".join(
        f'<port name="P{part}" binding="w{part}:B{part}"><soap:address'
        f' location="http://big.merrow.example/soap/p{part}"/></port>'
        for part in ports
    )
    found["big.wsdl"] = (
        f'<definitions name="Big" {head}{spaces} targetNamespace="urn:merrow:w">{links}<service'
        f' name="Big">{services}</service></definitions>'
    )
    return found
