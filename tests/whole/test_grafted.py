"""Whole definitions of which parts are grafted elsewhere: each stays a document of its kind, and says what nobody
would have written. Every command ends in its own words, within its budget, and a right service is left as it was.

A few run with the tests; `pytest -m slow tests/whole/test_grafted.py` runs many.
"""

from __future__ import annotations

import copy
import random
import resource
import threading
from collections.abc import Callable, Iterator
from importlib import resources
from pathlib import Path
from typing import Any

import pytest
import yaml
from lxml import etree

from conftest import KEY_ENV, Result, trusting
from juxtalogos.demo.server import base_url, make_server

Jux = Callable[..., Result]
DEMO = resources.files("juxtalogos.demo")
SECONDS = 60.0
"""Of processor time that one command may take."""
FAULT = "fault of juxtalogos itself"


def places(value: Any, owner: Any = None, key: Any = None) -> Iterator[tuple[Any, Any]]:
    """(owner, key) of every value inside a document."""
    if owner is not None:
        yield owner, key
    for name, one in (
        value.items() if isinstance(value, dict) else enumerate(value) if isinstance(value, list) else ()
    ):
        yield from places(one, value, name)


def grafted_yaml(text: str, rng: random.Random) -> str:
    """Some parts of a document swapped, copied elsewhere, renamed, referred to or left out."""
    document = yaml.safe_load(text)
    for _ in range(rng.choice((1, 2, 4, 12))):
        spots = list(places(document))
        (owner, key), (other, there) = rng.choice(spots), rng.choice(spots)
        parts = document.get("components")
        schemas = parts.get("schemas") if isinstance(parts, dict) else None
        pointers = [f"#/components/schemas/{name}" for name in schemas or () if isinstance(schemas, dict)]
        match rng.randrange(7):
            case 0:
                owner[key], other[there] = copy.deepcopy(other[there]), copy.deepcopy(owner[key])
            case 1:
                owner[key] = copy.deepcopy(other[there])
            case 2:
                del owner[key]
            case 3 if isinstance(owner, dict):
                names = [name for spot, name in spots if isinstance(spot, dict)]
                owner[rng.choice(names)] = owner.pop(key)
            case 4 if pointers:
                owner[key] = {"$ref": rng.choice(pointers)}
            case 5 if isinstance(owner, list):
                owner.extend(copy.deepcopy(owner[:40]))
            case _:
                owner[key] = rng.choice(
                    (None, [], {}, "", -1, 1e300, True, "a/../b", "{x}", "\u202e", ["a", {}])
                )
    return yaml.safe_dump(document, sort_keys=False, allow_unicode=True)


def grafted_xml(text: str, rng: random.Random) -> str:
    """The same for elements and attributes."""
    root = etree.fromstring(text.encode())
    for _ in range(rng.choice((1, 2, 4, 12))):
        parents = [
            (parent, child)
            for parent in root.iter(etree.Element)
            for child in parent.iterchildren(etree.Element)
        ]
        if not parents:
            break
        (parent, child), (other, model) = rng.choice(parents), rng.choice(parents)
        values = [value for one in root.iter(etree.Element) for value in one.attrib.values()]
        match rng.randrange(6):
            case 0:
                parent.remove(child)
            case 1 if child is not other:
                other.append(copy.deepcopy(child))
            case 2:
                parent.replace(child, copy.deepcopy(model))
            case 3 if child.attrib:
                child.set(rng.choice(list(child.attrib)), rng.choice(values))
            case 4 if child.attrib:
                del child.attrib[rng.choice(list(child.attrib))]
            case _:
                child.tag, model.tag = model.tag, child.tag
    return etree.tostring(root, encoding="unicode")


KINDS: dict[str, tuple[str, Callable[[str, random.Random], str]]] = {
    "berths.yaml": ("berths.yaml", grafted_yaml),
    "pilotage.wsdl": ("pilotage.wsdl", grafted_xml),
    "registry.edmx": ("registry.edmx", grafted_xml),
}


def every_command(kind: str, number: int, home: Path, jux: Jux, url: str) -> bool:
    """Whether a mutant could be imported, and then no command failed for a fault of ours."""
    source, graft = KINDS[kind]
    folder = home / "in"
    folder.mkdir(parents=True)
    text = graft((DEMO / source).read_text("utf-8"), random.Random(f"{kind} {number}"))
    (folder / source).write_text(text, "utf-8")
    (folder / "pilotage-types.xsd").write_text((DEMO / "pilotage-types.xsd").read_text("utf-8"), "utf-8")

    def go(*words: object, env: dict[str, str] | None = None) -> Result:
        before = resource.getrusage(resource.RUSAGE_CHILDREN)
        done = jux(*words, "-C", home / "w", status=None, env={**KEY_ENV, **(env or {})})
        after = resource.getrusage(resource.RUSAGE_CHILDREN)
        assert done.status in range(4), (kind, number, words, done.err[-600:])
        assert FAULT not in done.out + done.err, (kind, number, words, done.out[-600:], done.err[-600:])
        assert after.ru_utime - before.ru_utime < SECONDS, (kind, number, words)
        return done

    jux("init", home / "w")
    go("import", folder / source, "--name", "quay")
    if go("targets", "set", "local", url).status or not (home / "w" / "definitions" / "quay").exists():
        return False
    trusting(home / "w")
    go("show", "quay")
    go("show", "quay", "--json")
    if go("compose", "quay").status == 0:
        go("run", "--jobs", "4")
        go("coverage")
    go("explore", "quay", "--requests", "60")
    return True


def some(kind: str, numbers: range, tmp_path: Path, jux: Jux) -> None:
    server = make_server(0, frozenset())
    thread = threading.Thread(target=server.serve_forever, kwargs={"poll_interval": 0.02}, daemon=True)
    thread.start()
    try:
        url = base_url(server, kind.partition(".")[0])
        used = sum(every_command(kind, number, tmp_path / str(number), jux, url) for number in numbers)
        assert used >= len(numbers) // 4, "most of them could not even be imported"
    finally:
        server.shutdown()
        server.server_close()
        thread.join()


@pytest.mark.parametrize("kind", KINDS)
def test_a_few(kind: str, tmp_path: Path, jux: Jux) -> None:
    some(kind, range(2), tmp_path, jux)


@pytest.mark.slow
@pytest.mark.parametrize("start", range(0, 100, 25))
@pytest.mark.parametrize("kind", KINDS)
def test_many(kind: str, start: int, tmp_path: Path, jux: Jux) -> None:
    some(kind, range(start, start + 25), tmp_path, jux)
