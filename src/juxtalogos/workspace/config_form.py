"""The form of the configuration, and of what is learned beside it: judged by the published schema."""

from __future__ import annotations

import re
from importlib import resources
from pathlib import Path
from typing import Any

from juxtalogos.documents.jsontext import parse_json
from juxtalogos.model.errors import ConfigError, nearest, quoted
from juxtalogos.model.findings import Deviation
from juxtalogos.workspace.usercache import note_sound, was_sound

_SCHEMA = "config.schema.json"


def check_form(value: Any, text: str, path: Path, *, table: str = "") -> None:
    """ConfigError unless a configuration is as its schema says; with `table`, the part of it that is named so
    under `$defs`. What was sound once is not judged again.
    """
    judged_by = f"{table}\0{_text()}\0{text}"
    if was_sound("configurations", judged_by):
        return
    from juxtalogos.schema.json import compile_schema

    schema = parse_json(_text())
    if table:
        schema = {"$schema": schema["$schema"], **schema["$defs"][table], "$defs": schema["$defs"]}
    deviations = compile_schema(schema, uri="urn:juxtalogos:config:1").check(value)
    if deviations:
        raise _refusal(deviations[0], schema, text, path)
    note_sound("configurations", judged_by)


def _refusal(first: Deviation, schema: Any, text: str, path: Path) -> ConfigError:
    keys = first.path.strip("/").replace("~1", "/").split("/")
    where = f"{path}:{line_of(text, keys)}"
    if first.kind == "body.extra":
        return ConfigError(
            f"unknown key {quoted('.'.join(keys))}",
            where=where,
            mend=nearest(keys[-1], _known(first, schema)),
        )
    return ConfigError(
        f"{quoted('.'.join(keys))}: {first.declared} expected, {quoted(first.observed)} found",
        where=where,
        mend="see docs/configuration.md",
    )


def config_schema() -> Any:
    """The JSON Schema of `juxtalogos.toml`."""
    return parse_json(_text())


def _text() -> str:
    return resources.files("juxtalogos.workspace").joinpath(_SCHEMA).read_text("utf-8")


def _known(deviation: Deviation, schema: Any) -> list[str]:
    from juxtalogos.model.location import follow_pointer

    holder = follow_pointer(schema, deviation.location.pointer.rpartition("/")[0])
    properties = holder.get("properties", {}) if isinstance(holder, dict) else {}
    return list(properties)


def line_of(text: str, keys: list[str]) -> int:
    """The line of a key in TOML text: the last of its names that can be found, after those before it."""
    lines, at = text.split("\n"), 0
    for key in keys:
        pattern = re.compile(rf"(^|[\s\[{{.,\"']){re.escape(key)}([\s\]=.\"']|$)")
        for number in range(at, len(lines)):
            if pattern.search(lines[number].partition("#")[0]):
                at = number
                break
    return at + 1
