"""Writing suites: Arazzo documents as plain values, and as YAML that the readers of both YAML versions read
alike.
"""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from typing import Any

import yaml

from juxtalogos.documents.charsets import encodable
from juxtalogos.documents.yamltext import CoreLoader
from juxtalogos.formats import FORMATS
from juxtalogos.model.contract import Contract, Operation
from juxtalogos.model.schema import ABSENT
from juxtalogos.model.wire import Inputs

_Base: Any = getattr(yaml, "CSafeDumper", yaml.SafeDumper)


class _Dumper(_Base):  # type: ignore[misc]
    """Quotes what YAML 1.1 or 1.2 would take for something else than text; shares nothing by anchors."""

    def ignore_aliases(self, data: Any) -> bool:
        return True


for _first, _resolvers in CoreLoader.yaml_implicit_resolvers.items():
    for _tag, _pattern in _resolvers:
        _Dumper.add_implicit_resolver(_tag, _pattern, [_first])
_Dumper.add_representer(str, lambda dumper, text: dumper.represent_str(encodable(text)))


def to_yaml(value: Any) -> str:
    return yaml.dump(value, Dumper=_Dumper, sort_keys=False, allow_unicode=True, width=110)


def document_of(contract: Contract, source_url: str, cases: list[dict[str, Any]]) -> dict[str, Any]:
    """An Arazzo document of some cases."""
    source: dict[str, Any] = {"name": contract.name, "url": source_url}
    if FORMATS[contract.format].source_type:
        source["type"] = FORMATS[contract.format].source_type
    if contract.namespaces:
        source["x-juxtalogos-namespaces"] = dict(contract.namespaces)
    return {
        "arazzo": "1.0.1",
        "info": {"title": f"{contract.title or contract.name}: every operation", "version": "1.0.0"},
        "sourceDescriptions": [source],
        "workflows": cases,
    }


def step_document(
    operation: Operation,
    step_id: str,
    inputs: Inputs,
    content_type: str,
    *,
    always: bool = False,
    criteria: Sequence[Mapping[str, Any]] = (),
) -> dict[str, Any]:
    """A step that calls an operation with values or expressions by address."""
    step: dict[str, Any] = {"stepId": step_id, **operation_reference(operation)}
    parameters = []
    for address, value in inputs.values.items():
        place, _, name = address.partition(".")
        parameters.append({"name": name, "in": place, "value": value})
    if parameters:
        step["parameters"] = parameters
    if inputs.body is not ABSENT:
        step["requestBody"] = {"contentType": content_type or "application/json", "payload": inputs.body}
    if criteria:
        step["successCriteria"] = [dict(criterion) for criterion in criteria]
    if always:
        step["x-juxtalogos-always"] = True
    return step


def operation_reference(operation: Operation) -> dict[str, str]:
    """`operationId` with its source; `operationPath` where no unique id is declared or it would not be an
    expression's name.
    """
    if operation.declared_id == operation.id and re.fullmatch(r"[^\s{}]+", operation.id):
        return {"operationId": f"$sourceDescriptions.{operation.contract}.{operation.id}"}
    return {"operationPath": f"{{$sourceDescriptions.{operation.contract}.url}}#{operation.reference}"}


def body_type(operation: Operation, inputs: Inputs) -> str:
    """The media type of a body that is sent; empty when none is."""
    return inputs.content_type if inputs.body is not ABSENT and operation.body else ""


def slug(text: str) -> str:
    """Letters, digits, _ and - only, as Arazzo's ids want it."""
    return re.sub(r"[^A-Za-z0-9_]+", "-", text).strip("-")
