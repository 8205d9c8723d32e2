"""The commands with their options, as data: made of the parsers once for each version, and kept."""

from __future__ import annotations

import argparse
import contextlib
import json
from pathlib import Path
from typing import Any

from juxtalogos._version import VERSION
from juxtalogos.workspace.usercache import cache_folder, private

FORM = 1


def grammar() -> dict[str, Any]:
    """Of the installed version: as it was kept, else made of the parsers now."""
    path = cache_folder("completion") / "grammar.json"
    try:
        found: dict[str, Any] = json.loads(path.read_text("utf-8"))
        if found["made_of"] == _made_of():
            return found
    except (OSError, ValueError, KeyError, TypeError):
        pass
    from juxtalogos.workspace.files import write_whole  # once for a version; at a key it is not loaded

    made = {"made_of": _made_of(), "commands": _commands()}
    with contextlib.suppress(OSError):  # it is made again the next time
        private(path.parent)
        write_whole(path, json.dumps(made, separators=(",", ":")).encode(), private=True)
    return made


def _made_of() -> list[Any]:
    """What it depends on: the version, and in a work tree when the commands were changed."""
    folder = Path(__file__).parents[1]
    latest = max((one.stat().st_mtime_ns for one in folder.rglob("*.py")), default=0)
    return [FORM, VERSION, latest]


def _commands() -> dict[str, Any]:
    from juxtalogos.cli.parsing import COMMANDS, build_parser, parsers_below

    found = {}
    for name in COMMANDS:
        parser = parsers_below(build_parser(name))[name]
        verbs = {verb: _parser(one) for verb, one in parsers_below(parser).items()}
        found[name] = {**_parser(parser), **({"verbs": verbs} if verbs else {})}
    return found


def _parser(parser: argparse.ArgumentParser) -> dict[str, Any]:
    options, positionals = [], []
    for action in parser._actions:
        if isinstance(action.choices, dict):
            continue  # its verbs
        told = {
            "dest": action.dest,
            "choices": [str(one) for one in action.choices or ()],
            "form": str(action.metavar or ""),
        }
        if action.option_strings:
            takes = action.nargs != 0
            long = [name for name in action.option_strings if name.startswith("--")]
            options.append({**told, "names": long or list(action.option_strings), "takes": takes})
        else:
            positionals.append(told)
    return {"options": options, "positionals": positionals}
