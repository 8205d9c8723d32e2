"""Editing suites that people wrote: comments and order stay."""

from __future__ import annotations

import io
import re
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from pathlib import Path
from types import MappingProxyType
from typing import Any

from juxtalogos.model.errors import SuiteError, nearest, quoted
from juxtalogos.workspace.files import write_whole


@contextmanager
def editing(path: Path) -> Iterator[Any]:
    """The document of a suite, written back whole when all went well; SuiteError when it cannot be edited."""
    with _opened(path) as (editor, document):
        yield document
        out = io.StringIO()
        editor.dump(document, out)
    write_whole(path, out.getvalue().encode())


@contextmanager
def reading(path: Path) -> Iterator[Any]:
    """The document of a suite as it would be edited; nothing is written."""
    with _opened(path) as (_, document):
        yield document


@contextmanager
def _opened(path: Path) -> Iterator[tuple[Any, Any]]:
    from ruamel.yaml import YAML
    from ruamel.yaml.error import YAMLError

    editor = YAML()
    editor.width = 110
    editor.preserve_quotes = True
    try:
        document = editor.load(path.read_text("utf-8"))
        if not isinstance(document, dict) or not isinstance(document.get("workflows"), list):
            raise TypeError("it has no workflows")
        yield editor, document
    except (YAMLError, KeyError, TypeError, AttributeError, UnicodeDecodeError) as error:
        text = error.args[0] if isinstance(error, KeyError) and error.args else error
        what = f"the suite cannot be changed: {' '.join(str(text).split())[:160]}"
        raise SuiteError(what, where=str(path), mend="correct the file first") from None


def workflow(document: Any, case_id: str, path: Path) -> Any:
    return _named(document["workflows"], "workflowId", case_id, "case", path)


def step_of(case: Any, step_id: str, path: Path) -> Any:
    return _named(case["steps"], "stepId", step_id, "step", path)


def _named(listed: Any, key: str, name: str, what: str, path: Path) -> Any:
    for entry in listed:
        if entry.get(key) == name:
            return entry
    known = [str(item.get(key)) for item in listed]
    raise SuiteError(f"there is no {what} {quoted(name)}", where=str(path), mend=nearest(name, known))


def add_checks(
    path: Path,
    case_id: str,
    step_id: str,
    checks: list[dict[str, Any]],
    prefixes: Mapping[str, str] = MappingProxyType({}),
) -> None:
    """Appends checks to a step; one of the same place and test takes the older one's. `prefixes` (prefix ->
    namespace): those that XPaths of the checks use are written beside the step's source.
    """
    with editing(path) as document:
        step = step_of(workflow(document, case_id, path), step_id, path)
        _give_prefixes(document, step, checks, prefixes)
        listed = step.setdefault("x-juxtalogos-checks", [])
        for check in checks:
            same = next((item for item in listed if _subject(item) == _subject(check)), None)
            if same is not None:
                same.update(check)
            else:
                listed.append(check)


def _give_prefixes(
    document: Any, step: Any, checks: list[dict[str, Any]], prefixes: Mapping[str, str]
) -> None:
    used = {
        prefix: uri
        for prefix, uri in prefixes.items()
        if any(
            re.search(rf"(?<![\w.-]){re.escape(prefix)}:", str(check.get("xpath", ""))) for check in checks
        )
    }
    sources = document.get("sourceDescriptions") or []
    called = str(step.get("operationId") or step.get("operationPath") or "")
    own = [one for one in sources if f"$sourceDescriptions.{one.get('name')}." in called] or sources[:1]
    for source in own[:1] if used else ():
        held = source.setdefault("x-juxtalogos-namespaces", {})
        for prefix, uri in used.items():
            held.setdefault(prefix, uri)


def add_reported(
    path: Path,
    case_id: str,
    step_id: str,
    values: dict[str, Any],
    prefixes: Mapping[str, str] = MappingProxyType({}),
) -> None:
    """Lets a step put values into the report: name -> address, or a selector; `prefixes` as for checks."""
    with editing(path) as document:
        step = step_of(workflow(document, case_id, path), step_id, path)
        _give_prefixes(document, step, [one for one in values.values() if isinstance(one, dict)], prefixes)
        step.setdefault("x-juxtalogos-reported", {}).update(values)


def _subject(check: Any) -> tuple[str, ...]:
    """What a check is about: its place and its test."""
    return tuple(
        f"{key}={check[key]}" if key in ("at", "jsonpath", "xpath") else str(key)
        for key in check
        if key not in ("note", "frozen", "by")
    )
