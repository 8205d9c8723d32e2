"""Every `--json` output is as its published schema in docs/json says."""

from __future__ import annotations

import importlib.util
import json
import re
from collections.abc import Callable
from pathlib import Path

from conftest import ROOT, Result, serving
from juxtalogos.cli.parsing import COMMANDS, build_parser, parsers_below
from juxtalogos.demo.server import KEY
from juxtalogos.schema.json import compile_schema

DOCS = ROOT / "docs"


def _script() -> object:
    spec = importlib.util.spec_from_file_location("make_json_schemas", DOCS / "make_json_schemas.py")
    assert spec and spec.loader
    module = importlib.util.module_from_spec(spec)
    import sys

    sys.modules[spec.name] = module  # dataclasses look their module up
    spec.loader.exec_module(module)
    return module


def test_outputs_are_as_their_schemas_say(tmp_path: Path, jux: Callable[..., Result]) -> None:
    def run(words: list[str]) -> tuple[int, str, str]:
        done = jux(*words, status=None, env={"MERROW_KEY": KEY})
        return done.status, done.out, done.err

    script = _script()
    schemas = {
        path.name.removesuffix(".schema.json"): compile_schema(json.loads(path.read_text("utf-8")))
        for path in (DOCS / "json").glob("*.schema.json")
    }
    seen = set()
    with serving("all") as url:
        for name, command, value in script.outputs(tmp_path, url, run):  # type: ignore[attr-defined]
            seen.add(name)
            wrong = [f"{one.path}: {one.declared}, {one.observed}" for one in schemas[name].check(value)]
            assert not wrong, (command, wrong[:5])
            assert schemas[name].check([]), name  # no schema takes everything
    assert seen == set(schemas)


def test_every_command_with_json_has_a_schema() -> None:
    listed = re.findall(r"`juxtalogos (\S+)", (DOCS / "json" / "README.md").read_text("utf-8"))
    for name in COMMANDS:
        parser = parsers_below(build_parser(name))[name]
        parsers = [parser, *parsers_below(parser).values()]
        options = {text for one in parsers for action in one._actions for text in action.option_strings}
        assert ("--json" in options) == (name in listed), name
