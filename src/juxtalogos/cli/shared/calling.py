"""How an exchange and its judgement are shown: by `call` and by `exchanges`."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import Any
from urllib.parse import urlsplit

from juxtalogos.cli.shared.terminal import Terminal
from juxtalogos.documents.jsontext import NotJson, dump_json, parse_json
from juxtalogos.documents.positions import describe
from juxtalogos.exchange.media import media_type_in
from juxtalogos.model.document import Document
from juxtalogos.model.exchange import Exchange, Headers
from juxtalogos.model.findings import CheckResult

BODY_LINES = 60


MISFITS = 8


def tell_misfits(out: Terminal, lines: Iterable[str]) -> None:
    """Warns of what is sent as it was set although the definition forbids it."""
    found = list(lines)
    for line in found[:MISFITS]:
        out.note(("not as declared, sent as given: ", "remark"), line)
    if len(found) > MISFITS:
        out.note((f"and {len(found) - MISFITS} more", "remark"))


def show_exchange(out: Terminal, exchange: Exchange, *, raw: bool, limit: int = BODY_LINES) -> None:
    """The request as really sent, and the answer."""
    request, response = exchange.request, exchange.response
    parts = urlsplit(request.url)
    target = (parts.path or "/") + (f"?{parts.query}" if parts.query else "")
    out.line(
        ("sent  ", "note"), (f"{request.method} {target}", "head"), f"   to {parts.scheme}://{parts.netloc}"
    )
    for name, value in request.headers:
        out.line("      ", (name, "name"), f": {value}")
    if request.body:
        show_body(out, request.body, request.headers, raw=raw, limit=limit)
    if response is None:
        out.line(("no response: ", "error"), exchange.error)
        return
    out.line()
    out.line(
        ("received  ", "note"),
        (f"{response.status} {response.reason}".rstrip(), "head"),
        (f"   {exchange.timings.total * 1000:.0f} ms, {len(response.body)} bytes", "note"),
    )
    for name, value in response.headers:
        out.line("      ", (name, "name"), f": {value}")
    if response.body:
        show_body(out, response.body, response.headers, raw=raw, limit=limit)


def show_body(out: Terminal, body: bytes, headers: Headers, *, raw: bool, limit: int) -> None:
    """A body for the eye, at most `limit` lines of it."""
    out.line()
    out.block(body_text(body, headers, raw=raw), indent=6, limit=0 if raw else limit)


def body_text(body: bytes, headers: Headers, *, raw: bool) -> str:
    """A body for the eye: JSON and XML laid out, text as it is, the rest named by its size."""
    parsed = media_type_in(headers)
    try:
        text = body.decode("utf-8")
    except UnicodeDecodeError:
        return f"{len(body)} bytes that are not UTF-8 text, starting with {body[:24].hex(' ')}"
    if raw or parsed is None or not (parsed.is_json or parsed.is_xml):
        return text
    if parsed.is_xml:
        from juxtalogos.schema.xml import laid_out

        return laid_out(body) or text
    try:
        return dump_json(parse_json(text), indent=2)
    except NotJson:
        return text


def show_results(out: Terminal, results: tuple[CheckResult, ...], documents: Mapping[str, Document]) -> None:
    """What the exchange says against the definition: every check, declared beside observed."""
    rows = []
    for result in results:
        mark = ("passed", "held") if result.held else (str(result.severity), str(result.severity))
        where = describe(documents, result.location) if result.location else ""
        rows.append(
            (
                mark,
                result.kind.partition(".")[0] if result.held else result.kind,
                result.at,
                result.declared,
                result.observed,
                ("; ".join(filter(None, (where, result.detail))), "note"),
            )
        )
    if rows:
        noted = any(result.detail for result in results)
        out.table(
            ("check", "kind", "at", "declared", "observed", "definition, note" if noted else "definition"),
            rows,
        )


def result_data(result: CheckResult, documents: Mapping[str, Document]) -> dict[str, Any]:
    """A check result for `--json`."""
    from juxtalogos.documents.positions import position

    place: dict[str, Any] = {}
    if result.location:
        document = documents.get(result.location.document)
        place_at = position(document, result.location.pointer) if document else None
        place = {
            "document": result.location.document,
            "pointer": result.location.pointer,
            "line": place_at.line if place_at else None,
            "column": place_at.column if place_at else None,
        }
    return {
        "kind": result.kind,
        "held": result.held,
        "severity": str(result.severity),
        "at": result.at,
        "declared": result.declared,
        "observed": result.observed,
        **({"note": result.detail} if result.detail else {}),
        **place,
    }


def exchange_data(exchange: Exchange) -> dict[str, Any]:
    """An exchange for `--json`; bodies as text where they are, else in Base64."""
    request, response = exchange.request, exchange.response
    data: dict[str, Any] = {
        "request": {
            "method": request.method,
            "url": request.url,
            "headers": [list(pair) for pair in request.headers],
            **_body_data(request.body),
        },
        "seconds": round(exchange.timings.total, 6),
    }
    if response is None:
        return {**data, "error": exchange.error}
    head = {
        "status": response.status,
        "reason": response.reason,
        "headers": [list(pair) for pair in response.headers],
    }
    return {**data, "response": {**head, **_body_data(response.body)}}


def _body_data(body: bytes | None) -> dict[str, str]:
    if not body:
        return {}
    try:
        return {"body": body.decode("utf-8")}
    except UnicodeDecodeError:
        import base64

        return {"bodyBase64": base64.b64encode(body).decode()}
