"""Managing suites: copy, rename, move and remove cases and steps, tags; also into another workspace with all
that a case needs.
"""

from __future__ import annotations

import copy
import re
import shutil
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from juxtalogos.model.errors import SuiteError, UsageError, quoted
from juxtalogos.suite.body_files import files_named
from juxtalogos.suite.document.editor import editing, reading, step_of, workflow
from juxtalogos.suite.document.reader import find_suite, suite_paths
from juxtalogos.suite.document.writer import to_yaml
from juxtalogos.suite.kept_answers import kept_path
from juxtalogos.suite.tables import table_path
from juxtalogos.workspace.files import write_whole
from juxtalogos.workspace.workspace import Workspace

_NAME = re.compile(r"[A-Za-z0-9_\-]+")


@dataclass(frozen=True, slots=True)
class SuitePlace:
    """`SUITE#CASE#STEP`, the later parts empty where the whole is meant."""

    suite: str
    case: str = ""
    step: str = ""

    def __str__(self) -> str:
        return "#".join(filter(None, (self.suite, self.case, self.step)))


def place_of(text: str) -> SuitePlace:
    """The place that `SUITE[#CASE[#STEP]]` names."""
    suite, _, rest = text.partition("#")
    case, _, step = rest.partition("#")
    if not re.fullmatch(r"[A-Za-z0-9_\-]+(/[A-Za-z0-9_\-]+)*", suite) or not all(
        not part or _NAME.fullmatch(part) for part in (case, step)
    ):
        raise UsageError(
            f"{quoted(text)} is no SUITE#CASE#STEP", mend="write one such as berths#flow-vessels"
        )
    return SuitePlace(suite, case, step)


def users(home: Workspace, place: SuitePlace) -> list[str]:
    """What refers to a step, a case or a suite, and could not be run without it."""
    path = find_suite(home, place.suite)
    with reading(path) as document:
        if place.step:
            case = workflow(document, place.case, path)
            step_of(case, place.step, path)
            return [
                f"{place.suite}#{place.case}#{one['stepId']}"
                for one in case["steps"]
                if one["stepId"] != place.step and f"$steps.{place.step}." in _text(one)
            ]
        cases = document["workflows"]
        names = [place.case] if place.case else [str(one.get("workflowId")) for one in cases]
        if place.case:
            workflow(document, place.case, path)
        found = [
            f"{place.suite}#{one['workflowId']}"
            for one in cases
            if place.case and one.get("workflowId") != place.case and _mentions(one, place.case)
        ]
    return found + _users_elsewhere(home, path, place, names)


def _users_elsewhere(home: Workspace, path: Path, place: SuitePlace, names: list[str]) -> list[str]:
    """The cases of other suites that call cases of one."""
    found = []
    for other in suite_paths(home):
        if other == path:
            continue
        with reading(other) as document:
            for source in document.get("sourceDescriptions", ()):
                if (other.parent / str(source.get("url", ""))).resolve() != path.resolve():
                    continue
                suite = other.relative_to(home.suites).as_posix().rpartition(".arazzo.")[0]
                source_name, wanted = re.escape(str(source.get("name"))), "|".join(map(re.escape, names))
                own = rf"\$sourceDescriptions\.{source_name}\.(?:{wanted})\b"
                found += [
                    f"{suite}#{one['workflowId']}"
                    for one in document["workflows"]
                    if re.search(own, _text(one))
                ]
    return found


def remove(home: Workspace, place: SuitePlace, *, last_too: bool = False) -> None:
    """Removes a step, a case or a suite. With its last case a suite goes if that is meant."""
    path = find_suite(home, place.suite)
    if not place.case or (last_too and not place.step and _is_only_case(path, place.case)):
        path.unlink()
        return
    with editing(path) as document:
        case = workflow(document, place.case, path)
        if place.step:
            step = step_of(case, place.step, path)
            case["steps"].remove(step)
            if not case["steps"]:
                raise SuiteError(
                    "a case keeps at least one step",
                    where=str(path),
                    mend=f"remove the case: juxtalogos suite remove {place.suite}#{place.case}",
                )
            for one in case["steps"]:
                if (one.get("x-juxtalogos-always") or None) == {"unless": place.step}:
                    one["x-juxtalogos-always"] = True
            return
        document["workflows"].remove(case)
        if not document["workflows"]:
            raise SuiteError(
                "a suite keeps at least one case",
                where=str(path),
                mend=f"remove the suite: juxtalogos suite remove {place.suite}",
            )


def _is_only_case(path: Path, case_id: str) -> bool:
    with editing(path) as document:
        return [workflow.get("workflowId") for workflow in document["workflows"]] == [case_id]


def _text(value: Any) -> str:
    return to_yaml(_plain(value))


def _plain(value: Any) -> Any:
    """A value of the editor as plain dictionaries and lists."""
    if isinstance(value, dict):
        return {str(key): _plain(item) for key, item in value.items()}
    if isinstance(value, list):
        return [_plain(item) for item in value]
    # The editor keeps how a number was written in classes of its own.
    return next((kind(value) for kind in (bool, int, float, str) if isinstance(value, kind)), value)


def _mentions(case: Any, case_id: str) -> bool:
    return case_id in case.get("dependsOn", ()) or bool(
        re.search(rf"(workflowId: |\$workflows\.){re.escape(case_id)}\b", _text(case))
    )


def rename(home: Workspace, place: SuitePlace, name: str) -> Path:
    """Gives a suite, case or step another name; what refers to it follows."""
    path = find_suite(home, place.suite)
    if not place.case:
        target = home.suites / f"{place_of(name).suite}.arazzo{path.suffix}"
        _free(target)
        target.parent.mkdir(parents=True, exist_ok=True)
        if target.parent != path.parent:
            raise UsageError(
                "a suite is renamed within its folder",
                mend=f"move it: juxtalogos suite move {place.suite} {name}",
            )
        path.rename(target)
        return target
    if not _NAME.fullmatch(name):
        raise UsageError(f"{quoted(name)} is no name", mend="use letters, digits, _ and -")
    with editing(path) as document:
        case = workflow(document, place.case, path)
        if place.step:
            if any(earlier.get("stepId") == name for earlier in case["steps"]):
                raise SuiteError(
                    f"there is a step {quoted(name)} already", where=str(path), mend="choose another name"
                )
            step_of(case, place.step, path)["stepId"] = name
            _replace(
                case,
                {"stepId": place.step, "unless": place.step},
                {"stepId": name, "unless": name},
                rf"\$steps\.{re.escape(place.step)}\.",
                f"$steps.{name}.",
            )
            case["x-juxtalogos-setup"] = (
                [name if one == place.step else one for one in case["x-juxtalogos-setup"]]
                if "x-juxtalogos-setup" in case
                else None
            )
            if case["x-juxtalogos-setup"] is None:
                del case["x-juxtalogos-setup"]
        else:
            if any(one.get("workflowId") == name for one in document["workflows"]):
                raise SuiteError(
                    f"there is a case {quoted(name)} already", where=str(path), mend="choose another name"
                )
            case["workflowId"] = name
            _replace(
                document,
                {"workflowId": place.case},
                {"workflowId": name},
                rf"\$workflows\.{re.escape(place.case)}\.",
                f"$workflows.{name}.",
            )
            for one in document["workflows"]:
                if place.case in one.get("dependsOn", ()):
                    one["dependsOn"][one["dependsOn"].index(place.case)] = name
    return path


def _replace(value: Any, old: dict[str, str], new: dict[str, str], pattern: str, text: str) -> None:
    """References by key (`stepId`, `workflowId`) and within expressions, in place."""
    members = (
        value.items() if isinstance(value, dict) else enumerate(value) if isinstance(value, list) else ()
    )
    for key, item in list(members):
        if isinstance(item, dict | list):
            _replace(item, old, new, pattern, text)
        elif isinstance(item, str):
            if old.get(str(key)) == item:
                value[key] = new[str(key)]
            elif "$" in item:
                changed = re.sub(pattern, lambda _: text, item)
                if changed != item:
                    value[key] = changed


def copy_place(
    home: Workspace, source: SuitePlace, target: SuitePlace, *, into: Workspace | None = None
) -> Path:
    """Copies a case, step or suite; in another workspace with the definitions, tables and kept answers that
    it needs.
    """
    there = into or home
    path = find_suite(home, source.suite)
    other = next(
        (
            one
            for one in suite_paths(there)
            if one.relative_to(there.suites).as_posix().rpartition(".arazzo.")[0] == target.suite
        ),
        None,
    )
    fresh = other or there.suites / f"{target.suite}.arazzo.yaml"
    if into is not None:
        _bring(home, into, path, source.case)
    with reading(path) as document:
        if not source.case:
            _free(fresh)
            write_whole(fresh, to_yaml(_rebased(_plain(document), path, fresh, home, there)).encode())
            return fresh
        case = workflow(document, source.case, path)
        whole = _plain(document)
    if source.step:
        _copy_step(fresh, target, _plain(step_of(case, source.step, path)), there)
        return fresh
    cases = _needed(whole, source.case)
    cases[0]["workflowId"] = target.case or source.case
    if other is None:
        whole["workflows"] = cases
        write_whole(fresh, to_yaml(_rebased(whole, path, fresh, home, there)).encode())
        return fresh
    with editing(fresh) as document:
        have = {one.get("workflowId") for one in document["workflows"]}
        if cases[0]["workflowId"] in have:
            raise SuiteError(
                f"there is a case {quoted(cases[0]['workflowId'])} already",
                where=str(fresh),
                mend="give another name: SUITE#NAME",
            )
        document["workflows"].extend(
            other_case for other_case in cases if other_case["workflowId"] not in have
        )
        names = {one.get("name") for one in document["sourceDescriptions"]}
        rebased = _rebased(whole, path, fresh, home, there)
        document["sourceDescriptions"].extend(
            one for one in rebased["sourceDescriptions"] if one["name"] not in names
        )
        for kind, holder in rebased.get("components", {}).items():
            mine = document.setdefault("components", {}).setdefault(kind, {})
            for name, item in holder.items():
                mine.setdefault(name, item)
    return fresh


def _copy_step(path: Path, target: SuitePlace, step: Any, home: Workspace) -> None:
    if not path.exists():
        raise SuiteError(
            f"there is no suite {quoted(target.suite)}", where=str(path), mend="copy the case first"
        )
    with editing(path) as document:
        case = workflow(document, target.case, path)
        taken = {earlier.get("stepId") for earlier in case["steps"]}
        base, number = target.step or str(step["stepId"]), 2
        step["stepId"] = base
        while step["stepId"] in taken:
            step["stepId"], number = f"{base}-{number}", number + 1
        case["steps"].append(step)


def _needed(document: Any, case_id: str) -> list[Any]:
    """A case and those of its document that it needs or calls."""
    by_id = {workflow["workflowId"]: workflow for workflow in document["workflows"]}
    found: dict[str, Any] = {}
    waiting = [case_id]
    while waiting:
        name = waiting.pop(0)
        if name in found or name not in by_id:
            continue
        found[name] = copy.deepcopy(by_id[name])
        waiting += [other for other in by_id if other not in found and _mentions(by_id[name], other)]
    return list(found.values())


def _rebased(document: Any, source: Path, target: Path, home: Workspace, there: Workspace) -> Any:
    """Source descriptions that lead to the same contracts from another file."""
    depth = len(target.resolve().parent.relative_to(there.root.resolve()).parts)
    for one in document["sourceDescriptions"]:
        place = (source.parent / str(one["url"])).resolve()
        if place.is_relative_to(home.root.resolve()):
            one["url"] = "../" * depth + place.relative_to(home.root.resolve()).as_posix()
    return document


def _bring(home: Workspace, into: Workspace, path: Path, case_id: str) -> None:
    """Definitions, tables and kept answers into another workspace, where they are not there already."""
    with reading(path) as document:
        whole = _plain(document)
    cases = _needed(whole, case_id) if case_id else whole["workflows"]
    for one in whole["sourceDescriptions"]:
        place = (path.parent / str(one["url"])).resolve()
        if place.is_relative_to(home.definitions.resolve()):
            name = place.relative_to(home.definitions.resolve()).parts[0]
            _copy_tree(home.definitions / name, into.definitions / name, home, into)
    names = [
        str(check["kept"])
        for case in cases
        for step in case["steps"]
        for check in step.get("x-juxtalogos-checks", ())
        if "kept" in check
    ]
    for name in dict.fromkeys(names):
        if kept_path(home.root, name).exists():
            _copy_file(kept_path(home.root, name), kept_path(into.root, name), home, into)
    if names and (home.root / "kept" / "rules").is_dir():
        _copy_tree(home.root / "kept" / "rules", into.root / "kept" / "rules", home, into)
    payloads = [step.get("requestBody", {}).get("payload") for case in cases for step in case["steps"]]
    for name in dict.fromkeys(item for payload in payloads for item in files_named(payload)):
        if (home.root / name).is_file():
            _copy_file(home.root / name, into.root / name, home, into)
    for case in cases:
        file = (case.get("x-juxtalogos-table") or {}).get("file")
        table = table_path(home, path, str(file)) if file is not None else None
        if table is not None:
            relative = table.resolve().relative_to(home.root.resolve())
            beside = table.parent.resolve() == path.parent.resolve()
            _copy_file(table, into.root / ("tables" if beside else relative.parent) / table.name, home, into)


def _copy_file(source: Path, target: Path, home: Workspace, into: Workspace) -> None:
    """Copies within the two workspaces only; a link that leads out of one is not followed."""
    for path, workspace in ((source, home), (target, into)):
        if not path.resolve().is_relative_to(workspace.root.resolve()):
            raise SuiteError("this file lies outside the workspace", where=str(path), mend="keep it inside")
    if not target.exists():
        target.parent.mkdir(parents=True, exist_ok=True)
        shutil.copyfile(source, target)


def _copy_tree(source: Path, target: Path, home: Workspace, into: Workspace) -> None:
    for file in source.rglob("*"):
        if file.is_file() and not file.is_symlink():
            _copy_file(file, target / file.relative_to(source), home, into)


def tag(home: Workspace, place: SuitePlace, tags: list[str], description: str) -> None:
    """Sets labels and the description of a case."""
    path = find_suite(home, place.suite)
    with editing(path) as document:
        case = workflow(document, place.case, path)
        if tags:
            case["x-juxtalogos-tags"] = list(dict.fromkeys(tags))
        if description:
            case["description"] = description


def _free(path: Path) -> None:
    if path.exists():
        raise SuiteError(
            "there is such a suite already", where=str(path), mend="give another name, or remove it first"
        )
