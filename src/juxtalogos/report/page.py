"""The HTML report: one file that fetches nothing, under a policy that lets nothing but its own style and
script run.
"""

from __future__ import annotations

import base64
import contextlib
import hashlib
from datetime import datetime
from importlib import resources
from typing import Any
from urllib.parse import urlsplit

from juxtalogos._version import VERSION
from juxtalogos.documents.jsontext import NotJson, dump_json, parse_json
from juxtalogos.documents.positions import describe
from juxtalogos.exchange.media import media_type_in
from juxtalogos.model.exchange import Headers
from juxtalogos.model.findings import ResultClass
from juxtalogos.report.groups import CLASS_WORDS, CLASSES, by_class, found_groups
from juxtalogos.report.state import state_lines
from juxtalogos.report.view import RunView

BODY_LIMIT = 64 * 1024
"""Characters of a body in the report; the ledger has the whole."""
GAP_LIMIT = 500


def page(data: RunView) -> bytes:
    """The run as one HTML page."""
    from jinja2 import Environment

    style, script = _asset("page.css"), _asset("page.js")
    environment = Environment(autoescape=True, trim_blocks=True, lstrip_blocks=True)
    environment.globals.update(body=_body, path=_path, clean=_visible)
    template = environment.from_string(_asset("page.html"))
    text = template.render(
        data=data,
        version=VERSION,
        style=style,
        script=script,
        policy=(
            f"default-src 'none'; style-src 'sha256-{_digest(style)}'; script-src 'sha256-{_digest(script)}';"
            " base-uri 'none'; form-action 'none'"
        ),
        started=datetime.fromtimestamp(data.run.started).astimezone().strftime("%Y-%m-%d %H:%M:%S %Z"),
        seconds=max(0.0, data.run.ended - data.run.started) if data.run.ended else 0.0,
        classes=[
            (
                CLASSES[kind],
                CLASS_WORDS[kind],
                (
                    "remark"
                    if kind in (ResultClass.REMARK, ResultClass.REFUSAL, ResultClass.DOUBT)
                    else "deviation"
                ),
                found_groups(found),
            )
            for kind, found in by_class(data.findings).items()
        ],
        methods=data.methods,
        gaps=_gaps(data),
        state=list(state_lines(data.state)) if data.state is not None else [],
    )
    return text.encode("utf-8", "replace")


def _asset(name: str) -> str:
    return resources.files("juxtalogos.report").joinpath(name).read_text("utf-8")


def _digest(text: str) -> str:
    return base64.b64encode(hashlib.sha256(text.encode()).digest()).decode()


def _path(url: str) -> str:
    parts = urlsplit(url)
    return (parts.path or "/") + (f"?{parts.query}" if parts.query else "")


def _visible(text: object) -> str:
    """Bidirectional overrides and control characters shown as escapes; Jinja escapes the rest."""
    from unicodedata import category

    out = str(text)
    if out.isascii() and out.isprintable():
        return out
    return "".join(
        (
            char
            if char in "\n\t" or category(char) not in ("Cc", "Cf", "Cs", "Zl", "Zp")
            else f"\\u{ord(char):04x}"
        )
        for char in out
    )


def _body(content: bytes | None, headers: Headers) -> str:
    if not content:
        return ""
    parsed = media_type_in(headers)
    try:
        text = content.decode("utf-8")
    except UnicodeDecodeError:
        return f"{len(content)} bytes that are not UTF-8 text, starting with {content[:48].hex(' ')}"
    if parsed and parsed.is_json:
        with contextlib.suppress(NotJson):
            text = dump_json(parse_json(text), indent=2)
    elif parsed and parsed.is_xml:
        from juxtalogos.schema.xml import laid_out

        text = laid_out(content) or text
    text = _visible(text)
    return (
        text
        if len(text) <= BODY_LIMIT
        else text[:BODY_LIMIT] + f"\n… {len(text) - BODY_LIMIT} more characters"
    )


def _gaps(data: RunView) -> list[dict[str, Any]]:
    rows = []
    for contract, coverage in data.coverages:
        for row in coverage.gaps()[:GAP_LIMIT]:
            rows.append(
                {
                    "kind": coverage.heading(row.element.kind),
                    "label": row.element.label,
                    "where": describe(contract.documents, row.element.location),
                }
            )
    return rows
