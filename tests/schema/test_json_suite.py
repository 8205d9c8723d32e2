"""The official JSON Schema test suite, taken from the source distribution of `jsonschema` by pip when the
tests run.
"""

from __future__ import annotations

import fcntl
import json
import os
import subprocess
import sys
import tarfile
import tempfile
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import jsonschema
import pytest
import referencing.jsonschema
from jsonschema_specifications import REGISTRY

from juxtalogos.model.errors import Unsampleable
from juxtalogos.schema.json import compile_schema

DRAFTS = {
    "draft4": "draft4",
    "draft6": "draft6",
    "draft7": "draft7",
    "draft2019-09": "2019-09",
    "draft2020-12": "2020-12",
}
VALIDATORS: dict[str, Any] = {
    "draft7": jsonschema.Draft7Validator,
    "draft2020-12": jsonschema.Draft202012Validator,
}
_VERSION = "4.23.0"
_PATIENCE = 300 if os.environ.get("CI") else 120
"""Seconds that the registry may take: on a loaded machine it is slow, which is no fault of what is tested."""


def suite_folder() -> Path:
    """Fetched once for all workers and kept in the temporary folder."""
    kept = Path(tempfile.gettempdir()) / f"juxtalogos-json-suite-{_VERSION}"
    kept.mkdir(exist_ok=True)
    with (kept / "lock").open("w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        folder = kept / f"jsonschema-{_VERSION}" / "json"
        if not folder.is_dir():
            # Building metadata of the package is not needed, only its files.
            command = [
                sys.executable,
                "-m",
                "pip",
                "download",
                "-q",
                "--no-deps",
                "--no-binary",
                ":all:",
            ]
            missing = pytest.fail if os.environ.get("CI") else pytest.skip
            words = [*command, f"jsonschema=={_VERSION}", "-d", str(kept)]
            try:
                done = subprocess.run(words, capture_output=True, timeout=_PATIENCE)
            except subprocess.TimeoutExpired:
                missing(f"the registry gave no source distribution of jsonschema within {_PATIENCE} s")
            archives = list(kept.glob("jsonschema-*.tar.gz"))
            if not archives:
                missing(f"pip gave no source distribution of jsonschema: {done.stderr.decode()[-200:]}")
            with tarfile.open(archives[0]) as archive:
                safely: Any = (
                    {"filter": "data"} if hasattr(tarfile, "data_filter") else {}
                )  # not before 3.11.4
                archive.extractall(kept, **safely)
        return folder


def resources(folder: Path) -> dict[str, Any]:
    found = {uri.rstrip("#"): REGISTRY.contents(uri) for uri in REGISTRY}
    for path in (folder / "remotes").rglob("*.json"):
        found[f"http://localhost:1234/{path.relative_to(folder / 'remotes').as_posix()}"] = json.loads(
            path.read_text("utf-8")
        )
    return found


def groups(folder: Path, draft: str, part: str = "") -> Iterator[tuple[str, dict[str, Any]]]:
    for path in sorted((folder / "tests" / draft / part).glob("*.json")):
        for group in json.loads(path.read_text("utf-8")):
            yield path.name, group


@pytest.mark.parametrize("draft", DRAFTS)
def test_every_required_case(draft: str) -> None:
    folder = suite_folder()
    known = resources(folder)
    wrong = []
    count = 0
    for name, group in groups(folder, draft):
        schema = compile_schema(group["schema"], DRAFTS[draft], known, formats="annotate")
        for case in group["tests"]:
            count += 1
            if schema.accepts(case["data"]) != case["valid"]:
                wrong.append(f"{name}: {group['description']}: {case['description']}")
    assert wrong == []
    assert count > 500


_FORMATS_LEFT_OUT = {
    "ecmascript-regex.json": "\\a is read as the letter, as ECMA-262's Annex B has it",
}


@pytest.mark.parametrize("draft", ["draft4", "draft6", "draft7", "draft2019-09", "draft2020-12"])
def test_formats(draft: str) -> None:
    folder = suite_folder()
    wrong = []
    for name, group in groups(folder, draft, "optional/format"):
        if name in _FORMATS_LEFT_OUT:
            continue
        schema = compile_schema(group["schema"], DRAFTS[draft], formats="assert")
        wrong += [
            f"{name}: {case['description']}"
            for case in group["tests"]
            if schema.accepts(case["data"]) != case["valid"]
        ]
    assert wrong == []


@pytest.mark.parametrize("draft", VALIDATORS)
def test_samples_are_accepted_by_an_independent_oracle(draft: str) -> None:
    folder = suite_folder()
    known = resources(folder)
    remote = [(uri, value) for uri, value in known.items() if uri.startswith("http://localhost")]
    specification = referencing.jsonschema.DRAFT7 if draft == "draft7" else referencing.jsonschema.DRAFT202012
    registry = REGISTRY.with_contents(remote, default_specification=specification)
    made, without = 0, []
    for name, group in groups(folder, draft):
        if not any(case["valid"] for case in group["tests"]):
            continue
        schema = compile_schema(group["schema"], DRAFTS[draft], known, formats="annotate")
        for full in (False, True):
            try:
                sample = schema.sample(full=full)
            except Unsampleable as error:
                without.append(f"{name}: {group['description']}: {error.what}")
                continue
            made += 1
            assert VALIDATORS[draft](group["schema"], registry=registry).is_valid(sample), (
                name,
                group["description"],
                sample,
            )
    assert made / (made + len(without)) >= 0.98, without
