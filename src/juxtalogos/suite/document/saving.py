"""Saving a call as a step of a case: a new suite, or one that people have edited, whose comments and order stay."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

from juxtalogos.documents.jsontext import NotJson, parse_json
from juxtalogos.exchange.media import parse_media_type
from juxtalogos.model.contract import Contract, Operation
from juxtalogos.model.errors import UsageError, quoted
from juxtalogos.model.wire import Inputs
from juxtalogos.suite.body_files import put_beside
from juxtalogos.suite.document.editor import editing
from juxtalogos.suite.document.writer import body_type, document_of, slug, step_document, to_yaml
from juxtalogos.suite.inputs import with_values
from juxtalogos.workspace.files import write_whole


@dataclass(frozen=True, slots=True)
class StepLink:
    """An input that takes a value from an earlier step's answer, not a literal."""

    address: str
    step: str
    output: str
    expression: str

    @property
    def reference(self) -> str:
        return f"$steps.{self.step}.outputs.{self.output}"


def place_of(where: str) -> tuple[str, str]:
    """(suite, case) of `SUITE#CASE`; UsageError when it is none."""
    name, _, case_id = where.partition("#")
    if not re.fullmatch(r"[A-Za-z0-9_\-]+(/[A-Za-z0-9_\-]+)*", name) or not re.fullmatch(r"[A-Za-z0-9_\-]+", case_id):
        raise UsageError(f"{quoted(where)} is no SUITE#CASE", mend="write one such as first#announce")
    return name, case_id


def save_call(
    suites: Path,
    where: str,
    contract: Contract,
    operation: Operation,
    inputs: Inputs,
    links: Sequence[StepLink] = (),
    role: str = "",
    criteria: Sequence[Mapping[str, Any]] = (),
) -> tuple[Path, str]:
    """Appends to `SUITE#CASE`, made when it is not there; gives the file and the step's id."""
    name, case_id = place_of(where)
    inputs = replace(inputs, body=_readable(inputs.body, inputs.content_type))
    inputs = with_values(inputs, {link.address: link.reference for link in links})
    path = suites / f"{name}.arazzo.yaml"
    if isinstance(inputs.body, bytes):
        kept = put_beside(inputs.body, inputs.content_type, path, f"{case_id}-{operation.id}", suites.parent)
        inputs = replace(inputs, body=kept)
    url = source_url(suites.parent, path, contract)
    step = step_document(operation, slug(operation.id), inputs, body_type(operation, inputs), criteria=criteria)
    if role:
        step["x-juxtalogos-role"] = role
    if not path.exists():
        case = {"workflowId": case_id, "steps": [step]}
        document = document_of(contract, url, [case])
        document["info"]["title"] = name
        write_whole(path, to_yaml(document).encode())
    else:
        _append(path, case_id, step, document_of(contract, url, [])["sourceDescriptions"][0], links)
    return path, str(step["stepId"])


def _readable(body: Any, content_type: str) -> Any:
    """A body that came from a file as people read it: the value of JSON, the text of XML and text; other bytes as they are."""
    media = parse_media_type(content_type)
    if not isinstance(body, bytes) or media is None:
        return body
    try:
        if media.is_json:
            return parse_json(body)
        return body.decode("utf-8") if media.is_xml or str(media).startswith("text/") else body
    except (NotJson, UnicodeDecodeError):
        return body


def source_url(workspace: Path, suite: Path, contract: Contract) -> str:
    """The definition's URL relative to the suite file."""
    depth = len(suite.parent.relative_to(workspace).parts)
    return "../" * depth + f"definitions/{contract.name}/{contract.root}"


def _append(path: Path, case_id: str, step: dict[str, Any], source: dict[str, str], links: Sequence[StepLink]) -> None:
    with editing(path) as document:
        workflows, sources = document["workflows"], document["sourceDescriptions"]
        case = next((one for one in workflows if one.get("workflowId") == case_id), None)
        if case is None:
            workflows.append({"workflowId": case_id, "steps": [step]})
        else:
            taken = {one.get("stepId") for one in case["steps"]}
            base, number = step["stepId"], 2
            while step["stepId"] in taken:
                step["stepId"], number = f"{base}-{number}", number + 1
            for link in links:
                give_output(case["steps"], link)
            case["steps"].append(step)
        if not any(one.get("name") == source["name"] for one in sources):
            sources.append(source)


def give_output(steps: Any, link: StepLink) -> None:
    """Lets an earlier step put out what a link takes; KeyError when the step is gone."""
    step = next((one for one in steps if one.get("stepId") == link.step), None)
    if step is None:
        raise KeyError(f"the step {link.step} is no longer there")
    outputs = step.setdefault("outputs", {})
    if outputs.get(link.output, link.expression) != link.expression:
        raise KeyError(f"the step {link.step} has another output named {link.output}")
    outputs[link.output] = link.expression
