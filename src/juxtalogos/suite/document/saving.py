"""Saving a call as a step of a case: a new suite, or one that people have edited, whose comments and order
stay.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping, Sequence
from dataclasses import replace
from pathlib import Path
from types import MappingProxyType
from typing import Any

from juxtalogos.documents.jsontext import NotJson, parse_json
from juxtalogos.exchange.media import parse_media_type
from juxtalogos.model.contract import Contract, Operation
from juxtalogos.model.errors import UsageError, quoted
from juxtalogos.model.wire import Inputs
from juxtalogos.suite.body_files import put_beside
from juxtalogos.suite.comparing import leaves
from juxtalogos.suite.document.editor import editing
from juxtalogos.suite.document.links import StepLink, give_output
from juxtalogos.suite.document.writer import body_type, document_of, slug, step_document, to_yaml
from juxtalogos.suite.inputs import declared_row, json_type, with_values
from juxtalogos.workspace.files import write_whole


def place_of(where: str) -> tuple[str, str]:
    """(suite, case) of `SUITE#CASE`; UsageError when it is none."""
    name, _, case_id = where.partition("#")
    if not re.fullmatch(r"[A-Za-z0-9_\-]+(/[A-Za-z0-9_\-]+)*", name) or not re.fullmatch(
        r"[A-Za-z0-9_\-]+", case_id
    ):
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
    hidden: Mapping[str, str] = MappingProxyType({}),
    parameters: Mapping[str, str] = MappingProxyType({}),
) -> tuple[Path, str]:
    """Appends to `SUITE#CASE`, made when it is not there; gives the file and the step's id.

    `hidden`: addresses of secrets -> the inputs of the case that take their places. `parameters`: addresses
    -> names of parameters that gave their values.
    """
    name, case_id = place_of(where)
    inputs = replace(inputs, body=_readable(inputs.body, inputs.content_type))
    path = suites / f"{name}.arazzo.yaml"
    if isinstance(inputs.body, bytes):
        kept = put_beside(inputs.body, inputs.content_type, path, f"{case_id}-{operation.id}", suites.parent)
        inputs = replace(inputs, body=kept)
    url = source_url(suites.parent, path, contract)

    def step(linked: Sequence[StepLink]) -> dict[str, Any]:
        given = {address: f"$inputs.{name}" for address, name in {**parameters, **hidden}.items()}
        filled = with_values(inputs, {link.address: link.reference for link in linked} | given)
        made = step_document(
            operation, slug(operation.id), filled, body_type(operation, filled), criteria=criteria
        )
        return {**made, "x-juxtalogos-role": role} if role else made

    if not path.exists():
        made = step(())
        case = {"workflowId": case_id, "steps": [made]}
        _declare(case, contract, operation, hidden)
        document = document_of(contract, url, [case])
        document["info"]["title"] = name
        write_whole(path, to_yaml(document).encode())
        return path, str(made["stepId"])
    source = document_of(contract, url, [])["sourceDescriptions"][0]
    return path, _append(
        path, case_id, step, source, links, lambda case: _declare(case, contract, operation, hidden)
    )


def secret_inputs(
    contract: Contract, operation: Operation, inputs: Inputs, is_secret: Callable[[Any], bool]
) -> dict[str, str]:
    """Addresses whose values are never written down -> names of inputs: fields declared as passwords, and
    values that are known secrets.
    """
    names = {name.lower() for name in contract.secret_fields}
    body = _readable(inputs.body, inputs.content_type)
    found = {}
    for address, value in (*inputs.values.items(), *((f"body{path}", one) for path, one in leaves(body))):
        name = address.rpartition("/")[2].rpartition(".")[2]
        if isinstance(value, str | int | float) and (name.lower() in names or is_secret(value)):
            found[address] = slug(name) or "secret"
    return found


def _declare(case: Any, contract: Contract, operation: Operation, hidden: Mapping[str, str]) -> None:
    """The inputs of a case that stand for secrets."""
    for address, name in hidden.items():
        properties = case.setdefault("inputs", {"type": "object"}).setdefault("properties", {})
        kind = json_type(declared_row(contract, operation, address))
        properties.setdefault(name, {"type": kind, "format": "password"})


def _readable(body: Any, content_type: str) -> Any:
    """A body that came from a file as people read it: the value of JSON, the text of XML and text; other
    bytes as they are.
    """
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


def _append(
    path: Path,
    case_id: str,
    step: Callable[[Sequence[StepLink]], dict[str, Any]],
    source: dict[str, str],
    links: Sequence[StepLink],
    declare: Callable[[Any], None],
) -> str:
    """Adds a step to a case, made when it is not there, and what it takes to the outputs of earlier steps;
    gives its id.
    """
    with editing(path) as document:
        workflows, sources = document["workflows"], document["sourceDescriptions"]
        case = next((workflow for workflow in workflows if workflow.get("workflowId") == case_id), None)
        if case is None:
            workflows.append(case := {"workflowId": case_id, "steps": []})
        declare(case)
        made = step([give_output(case["steps"], link) for link in links])
        taken = {earlier.get("stepId") for earlier in case["steps"]}
        base, number = made["stepId"], 2
        while made["stepId"] in taken:
            made["stepId"], number = f"{base}-{number}", number + 1
        case["steps"].append(made)
        if not any(one.get("name") == source["name"] for one in sources):
            sources.append(source)
    return str(made["stepId"])
