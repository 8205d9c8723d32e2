"""Request skeletons in several forms, all filled with valid sample values and without secrets."""

from __future__ import annotations

import shlex

from juxtalogos.exchange.message import request_text
from juxtalogos.model.contract import Operation
from juxtalogos.model.errors import UsageError
from juxtalogos.model.exchange import Request
from juxtalogos.model.outcome import Outcome
from juxtalogos.model.schema import ABSENT
from juxtalogos.model.wire import Inputs, Wire
from juxtalogos.suite.document.writer import body_type, slug, step_document, to_yaml

FORMS = ("message", "curl", "body", "step")


def skeleton(
    wire: Wire, operation: Operation, inputs: Inputs, base_url: str, shape: str, *, loose: bool = False
) -> str:
    """The text of a skeleton in one of `FORMS`."""
    if shape == "step":
        return to_yaml(
            [
                step_document(
                    operation,
                    slug(operation.id),
                    inputs,
                    body_type(operation, inputs),
                    criteria=[{"condition": wire.condition(operation, Outcome.SUCCEEDED)}],
                )
            ]
        )
    request = wire.encode(operation, inputs, base_url, loose=loose)
    if shape == "body":
        if inputs.body is ABSENT:
            raise UsageError(f"{operation.id} takes no body", mend="use --form message")
        return _text(request.body or b"")
    if shape == "curl":
        return curl_line(request)
    text = request_text(request).decode("utf-8", "replace")
    return text.replace("\r\n", "\n") if not request.body or _is_text(request.body) else text


def curl_line(request: Request) -> str:
    """A shell line; every value is quoted for the shell."""
    parts = ["curl", "--request", request.method, shlex.quote(request.url)]
    for name, value in request.headers:
        parts += ["\\\n  --header", shlex.quote(f"{name}: {value}")]
    if request.body:
        parts += ["\\\n  --data-binary", shlex.quote(_text(request.body))]
    return " ".join(parts) + "\n"


def _is_text(body: bytes) -> bool:
    try:
        body.decode("utf-8")
    except UnicodeDecodeError:
        return False
    return True


def _text(body: bytes) -> str:
    text = body.decode("utf-8", "replace")
    return text if text.endswith("\n") else text + "\n"
