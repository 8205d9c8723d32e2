"""The JSON schema engine beside its peers: interleaved rounds in one process, CPU time, ratios as medians of
per-round ratios.

Run by hand: python benchmarks/json_schema.py [ROUNDS]   (needs fastjsonschema, jsonschema, jsonschema-rs)
"""

from __future__ import annotations

import copy
import statistics
import sys
import time
from collections.abc import Callable
from typing import Any

import fastjsonschema
import jsonschema
import jsonschema_rs

from juxtalogos.schema.json import compile_schema
from juxtalogos.schema.json.compile.compiler import Compiler

CALL: Any = {
    "type": "object",
    "required": ["callId", "vessel", "kind", "arrives", "length", "cargo"],
    "properties": {
        "callId": {"type": "string", "pattern": "^PC-[0-9]{4}$"},
        "vessel": {"type": "string", "minLength": 2, "maxLength": 60},
        "kind": {"type": "string", "enum": ["bulk", "container", "tanker", "ro-ro", "general"]},
        "state": {"type": "string", "enum": ["announced", "allotted", "moored", "closed"]},
        "arrives": {"type": "string", "format": "date-time"},
        "length": {"type": "number", "minimum": 5, "maximum": 420},
        "pilot": {"type": "boolean"},
        "cargo": {
            "type": "array",
            "maxItems": 20,
            "items": {
                "type": "object",
                "required": ["goods", "tonnes", "bay"],
                "properties": {
                    "goods": {"type": "string", "minLength": 1},
                    "tonnes": {"type": "integer", "minimum": 1},
                    "bay": {"type": "string", "pattern": "^[A-Z][0-9]{2}$"},
                },
            },
        },
    },
}
VALUE = {
    "callId": "PC-1004",
    "vessel": "Grey Tern",
    "kind": "bulk",
    "state": "moored",
    "arrives": "2026-03-14T06:30:00Z",
    "length": 118.5,
    "pilot": True,
    "cargo": [{"goods": "grain", "tonnes": 3200 + n, "bay": f"B0{n}"} for n in range(5)],
}
TREE: Any = {
    "$ref": "#/$defs/node",
    "$defs": {
        "node": {"oneOf": [{"$ref": "#/$defs/quay"}, {"$ref": "#/$defs/berth"}, {"$ref": "#/$defs/mark"}]},
        "quay": {
            "type": "object",
            "required": ["kind", "parts"],
            "properties": {
                "kind": {"const": "quay"},
                "parts": {"type": "array", "items": {"$ref": "#/$defs/node"}},
            },
        },
        "berth": {
            "type": "object",
            "required": ["kind", "depth"],
            "properties": {
                "kind": {"const": "berth"},
                "depth": {"type": "number", "minimum": 0},
                "next": {"$ref": "#/$defs/node"},
            },
        },
        "mark": {
            "type": "object",
            "required": ["kind", "name"],
            "properties": {"kind": {"const": "mark"}, "name": {"type": "string"}},
        },
    },
}


def plain(schema: Any) -> Any:
    """Without patterns and formats."""
    if isinstance(schema, dict):
        return {key: plain(item) for key, item in schema.items() if key not in ("pattern", "format")}
    return [plain(item) for item in schema] if isinstance(schema, list) else schema


def tree(depth: int = 4) -> Any:
    if depth == 0:
        return {"kind": "mark", "name": "buoy"}
    return {
        "kind": "quay",
        "parts": [
            tree(depth - 1),
            {"kind": "berth", "depth": 4.5, "next": {"kind": "mark", "name": "m"}},
            tree(depth - 1),
            tree(depth - 1),
        ],
    }


def broken(items: list[Any]) -> list[Any]:
    out = [copy.deepcopy(item) for item in items]
    for index in range(0, len(out), 20):
        out[index]["kind"] = "ferry"
    return out


def work() -> list[tuple[str, Any, Any]]:
    many = [VALUE] * 500
    return [
        ("a   one object", CALL, VALUE),
        ("a'  without pattern, format", plain(CALL), VALUE),
        ("b   500 objects", {"type": "array", "items": CALL}, many),
        ("b'  without pattern, format", {"type": "array", "items": plain(CALL)}, many),
        ("c   recursive oneOf", TREE, tree()),
        ("d   25 of 500 broken", {"type": "array", "items": CALL}, broken(many)),
    ]


def peers(schema: Any) -> dict[str, Callable[[Any], Any]]:
    ours = compile_schema(schema)
    ours.compile()
    uncounted = _without_hits(ours)
    fast = fastjsonschema.compile(schema, fast_fail=False)

    def fast_all(value: Any) -> Any:
        try:
            return fast(value)
        except fastjsonschema.JsonSchemaException as error:
            return error

    rust = jsonschema_rs.validator_for(schema, validate_formats=True)
    slow = jsonschema.Draft202012Validator(schema, format_checker=jsonschema.FormatChecker())
    return {
        "ours": lambda value: ours.examine(value).hits,
        "ours, no hits": uncounted,
        "fastjsonschema": fast_all,
        "jsonschema-rs": lambda value: list(rust.iter_errors(value)),
        "jsonschema": lambda value: list(slow.iter_errors(value)),
    }


def _without_hits(ours: Any) -> Callable[[Any], Any]:
    """The same engine with the lines that set flags left out."""
    compiler = Compiler(ours.context())
    compiler.counting = False
    function = compiler.function(ours.node)
    return lambda value: function(value, [])


def seconds(function: Callable[[Any], Any], value: Any, repeats: int) -> float:
    started = time.process_time()
    for _ in range(repeats):
        function(value)
    return (time.process_time() - started) / repeats


def main() -> None:
    rounds = int(sys.argv[1]) if len(sys.argv) > 1 else 7
    print(
        f"{'work':30}{'ours us':>10}{'no hits':>9}{'fastjsonschema':>16}{'jsonschema-rs':>15}{'jsonschema':>12}"  # noqa: E501
    )
    for name, schema, value in work():
        runners = peers(schema)
        for function in runners.values():
            function(value)
        repeats = {
            key: max(1, min(4000, int(0.06 / max(seconds(function, value, 1), 1e-6))))
            for key, function in runners.items()
        }
        measured = [
            {key: seconds(function, value, repeats[key]) for key, function in runners.items()}
            for _ in range(rounds)
        ]
        ours = statistics.median(one["ours"] for one in measured)
        ratios = {key: statistics.median(one[key] / one["ours"] for one in measured) for key in runners}
        print(
            f"{name:30}{ours * 1e6:10.1f}{ratios['ours, no hits']:9.2f}{ratios['fastjsonschema']:15.1f}x{ratios['jsonschema-rs']:14.2f}x{ratios['jsonschema']:11.0f}x",  # noqa: E501
            flush=True,
        )
    started = time.process_time()
    schema = compile_schema(CALL)
    schema.compile()
    schema.examine(VALUE)
    print(
        f"compiling (a), 11 properties: {(time.process_time() - started) * 1000:.1f} ms; the interpreter"
        " serves the first two uses"
    )


if __name__ == "__main__":
    main()
