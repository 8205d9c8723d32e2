"""What one team hands to another: where a service is, how to sign in, and each operation with its structures
and a sample.

One list of blocks is made of a contract; Markdown and HTML are two ways to write it.
"""

from __future__ import annotations

import html
import re
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from juxtalogos.compose.requests import sample_body, sample_inputs
from juxtalogos.documents.jsontext import dump_json
from juxtalogos.exchange.media import parse_media_type
from juxtalogos.exchange.message import request_text
from juxtalogos.exchange.sign_in import scheme_of
from juxtalogos.formats import FORMATS, wire_of
from juxtalogos.model.contract import Contract, DeclaredAnswer, Media, Operation, SecurityScheme
from juxtalogos.model.errors import JuxtalogosError
from juxtalogos.model.format import SignInScheme
from juxtalogos.model.schema import SchemaRef

MAX_ROWS = 120
"""Rows of one structure."""


@dataclass(frozen=True, slots=True)
class Heading:
    level: int
    text: str
    anchor: str = ""


@dataclass(frozen=True, slots=True)
class Text:
    text: str


@dataclass(frozen=True, slots=True)
class TableBlock:
    headings: tuple[str, ...]
    rows: tuple[tuple[str, ...], ...]
    code: tuple[int, ...] = (0,)
    """Columns that are names or values, not prose."""


@dataclass(frozen=True, slots=True)
class Code:
    text: str
    caption: str = ""


Block = Heading | Text | TableBlock | Code


def blocks(contract: Contract, operations: Sequence[Operation], base_url: str) -> Iterator[Block]:
    """`base_url` is empty where no target says it: then the definition's own servers are named."""
    yield Heading(1, contract.title or contract.name)
    if contract.description:
        yield Text(contract.description)
    facts = [("contract", f"{contract.name} ({contract.format} {contract.version})")]
    facts += (
        [("base URL", base_url)]
        if base_url
        else [("base URL named by the definition", server) for server in contract.servers]
    )
    yield TableBlock(("", ""), tuple(facts), code=(1,))
    if contract.security_schemes:
        yield Heading(2, "Sign-in")
        own = FORMATS[contract.format].sign_in
        rows = tuple(
            (scheme.name, _sign_in(scheme, own), scheme.description) for scheme in contract.security_schemes
        )
        yield TableBlock(("name", "how", "meaning"), rows)
    yield Heading(2, "Operations")
    yield TableBlock(
        ("operation", "method", "path", "sign-in", "what it does"),
        tuple(
            (
                candidate.id,
                candidate.method,
                candidate.path,
                _needs(candidate),
                _line(candidate.summary or candidate.description),
            )
            for candidate in operations
        ),
        code=(0, 1, 2),
    )
    for operation in operations:
        yield from _operation(
            contract, operation, base_url or next(iter(contract.servers), "http://merrow.example")
        )


def _sign_in(scheme: SecurityScheme, own: Mapping[str, SignInScheme]) -> str:
    """How to sign in, in words."""
    way = scheme_of(scheme.kind, own)
    return way.words.format(place=scheme.place, key=scheme.key) if way and way.words else scheme.kind


def _needs(operation: Operation) -> str:
    return operation.fact("sign-in") or "none"


def _line(text: str) -> str:
    return " ".join(text.split())


def _operation(contract: Contract, operation: Operation, base_url: str) -> Iterator[Block]:
    yield Heading(2, operation.id, operation.id)
    if operation.deprecated:
        yield Text("Deprecated.")
    for text in dict.fromkeys(filter(None, (operation.summary, operation.description))):
        yield Text(text)
    yield TableBlock(
        ("method", "URL", "sign-in"),
        ((operation.method, base_url.rstrip("/") + operation.path, _needs(operation)),),
        code=(0, 1),
    )
    if operation.facts:
        yield TableBlock(
            tuple(word for word, _ in operation.facts), (tuple(text for _, text in operation.facts),)
        )
    if operation.inputs:
        yield Heading(3, "Inputs")
        rows = tuple(
            _input_row(
                contract,
                declared_input.address,
                declared_input.schema,
                declared_input.required,
                declared_input.description,
            )
            for declared_input in operation.inputs
        )
        yield TableBlock(("input", "type", "need", "allowed values and limits", "meaning"), rows, code=(0,))
    for media in operation.body.media if operation.body else ():
        yield Heading(3, f"Body: {media.media_type}")
        yield from _structure(contract, media)
    sample = _sample_request(contract, operation, base_url)
    if sample:
        yield Code(sample, "A sample request")
    for answer in operation.answers:
        yield from _answer(contract, answer)


def _input_row(
    contract: Contract, name: str, ref: SchemaRef | None, required: bool, meaning: str
) -> tuple[str, ...]:
    row = next(iter(contract.schema(ref).outline()), None) if ref else None
    need = "required" if required else ""
    return (
        name,
        row.type if row else "any",
        need,
        row.allowed if row else "",
        _line(meaning or (row.description if row else "")),
    )


def _structure(contract: Contract, media: Media) -> Iterator[Block]:
    rows = list(contract.schema(media.schema).outline()) if media.schema else []
    if len(rows) < 2:
        yield Text(
            f"{rows[0].type}{'; ' + rows[0].allowed if rows[0].allowed else ''}" if rows else "any content"
        )
        return
    shown = tuple(
        (
            "    " * (row.depth - 1) + row.name,
            row.type,
            "required" if row.required else "",
            row.allowed,
            _line(row.description),
        )
        for row in rows[1 : MAX_ROWS + 1]
    )
    yield TableBlock(("property", "type", "need", "allowed values and limits", "meaning"), shown)
    if len(rows) > MAX_ROWS + 1:
        yield Text(f"{len(rows) - MAX_ROWS - 1} more rows are left out.")


def _answer(contract: Contract, answer: DeclaredAnswer) -> Iterator[Block]:
    title = f"Response {answer.status}" + (f", fault {answer.fault}" if answer.fault else "")
    yield Heading(3, f"{title}: {_line(answer.description)}" if answer.description else title)
    if answer.headers:
        rows = tuple(
            _input_row(contract, head.name, head.schema, head.required, head.description)
            for head in answer.headers
        )
        yield TableBlock(("header", "type", "need", "allowed values and limits", "meaning"), rows)
    for media in answer.media:
        yield Text(f"Body: {media.media_type}")
        yield from _structure(contract, media)
    for media in answer.media[:1]:
        parsed = parse_media_type(media.media_type)
        sample = _sample_answer(contract, media) if parsed and (parsed.is_json or parsed.type == "*") else ""
        if sample:
            yield Code(sample, "A sample response")


def _sample_request(contract: Contract, operation: Operation, base_url: str) -> str:
    try:
        request = wire_of(contract).encode(operation, sample_inputs(contract, operation, full=True), base_url)
    except JuxtalogosError:
        return ""  # no valid sample is found: the structure alone tells
    return request_text(request).decode("utf-8", "replace").replace("\r\n", "\n").rstrip("\n")


def _sample_answer(contract: Contract, media: Media) -> str:
    try:
        value: Any = sample_body(contract, media, full=True)
    except JuxtalogosError:
        return ""
    return dump_json(value, indent=2)


def to_markdown(found: Iterator[Block]) -> str:
    return "\n\n".join(_markdown(block) for block in found) + "\n"


def _markdown(block: Block) -> str:
    match block:
        case Heading(level, text):
            return f"{'#' * level} {_escaped(text)}"
        case Text(text):
            return "\n".join(_escaped(line) for line in text.strip().splitlines())
        case Code(raw, caption):
            text = _printable(raw)
            fence = "`" * max(3, 1 + max((len(run) for run in re.findall("`+", text)), default=0))
            return (f"{_escaped(caption)}:\n\n" if caption else "") + f"{fence}\n{text}\n{fence}"
        case TableBlock(headings, rows, code):
            lines = [f"| {' | '.join(map(_cell, headings))} |", "|" + "---|" * len(headings)]
            for row in rows:
                cells = [_code_cell(cell) if index in code else _cell(cell) for index, cell in enumerate(row)]
                lines.append(f"| {' | '.join(cells)} |")
            return "\n".join(lines)
    return ""


def _escaped(text: str) -> str:
    """Text that Markdown takes as text (CommonMark, section 2.4)."""
    return re.sub(r"([\\`*_{}\[\]<>#|~&!])", r"\\\1", _printable(text))


def _cell(text: str) -> str:
    return _escaped(_line(text))


def _code_cell(text: str) -> str:
    inner = _printable(text).strip("\n").replace("\n", " ").replace("|", "\\|")
    indent = "&nbsp;" * (len(inner) - len(inner.lstrip(" ")))
    inner = inner.strip()
    if not inner:
        return ""
    fence = "`" * (1 + max((len(run) for run in re.findall("`+", inner)), default=0))
    return f"{indent}{fence}{inner}{fence}" if "`" not in inner else f"{indent}{fence} {inner} {fence}"


def _printable(text: str) -> str:
    return "".join(char if char in "\n\t" or char.isprintable() else f"\\u{ord(char):04x}" for char in text)


_STYLE = """
body{font:15px/1.5 system-ui,sans-serif;max-width:72rem;margin:2rem auto;
padding:0 1.5rem;color:#1c2733;background:#fff}
h1{font-size:1.7rem;margin:0 0 .5rem}
h2{font-size:1.25rem;margin:2.2rem 0 .5rem;border-top:1px solid #d8e0e6;padding-top:1rem}
h3{font-size:1rem;margin:1.3rem 0 .4rem;color:#31546b}
table{border-collapse:collapse;width:100%;font-size:.88rem}
th,td{text-align:left;vertical-align:top;padding:.28rem .7rem .28rem 0;border-bottom:1px solid #e7edf1}
th{color:#5a6d7a;font-weight:600}code,pre{font:.85rem/1.45 ui-monospace,monospace}
td code{white-space:pre-wrap;overflow-wrap:anywhere}
pre{background:#f2f6f8;padding:.8rem 1rem;overflow:auto;border-radius:4px}
figcaption{color:#5a6d7a;font-size:.88rem;margin:.8rem 0 .2rem}figure{margin:0}a{color:#0b6087}
@media print{h2{break-before:auto}pre,table{break-inside:avoid}}
"""


def to_html(found: Iterator[Block], title: str) -> str:
    """One page that fetches nothing."""
    body = "\n".join(_html(block) for block in found)
    policy = "default-src 'none'; style-src 'unsafe-inline'; base-uri 'none'; form-action 'none'"
    return (
        '<!doctype html>\n<html lang="en"><head><meta charset="utf-8"><meta'
        f' http-equiv="Content-Security-Policy" content="{policy}">'
        '<meta name="viewport" content="width=device-width">'
        f"<title>{_safe(title)}</title><style>{_STYLE}</style></head>\n<body>\n{body}\n</body></html>\n"
    )


def _safe(text: str) -> str:
    return html.escape(_printable(text))


def _html(block: Block) -> str:
    match block:
        case Heading(level, text, anchor):
            mark = f' id="{_safe(anchor)}"' if anchor else ""
            return f"<h{level}{mark}>{_safe(text)}</h{level}>"
        case Text(text):
            return "".join(f"<p>{_safe(part)}</p>" for part in re.split(r"\n\s*\n", text.strip()))
        case Code(text, caption):
            return f"<figure><figcaption>{_safe(caption)}</figcaption><pre>{_safe(text)}</pre></figure>"
        case TableBlock(headings, rows, code):
            head = (
                f"<tr>{''.join(f'<th>{_safe(heading)}</th>' for heading in headings)}</tr>"
                if any(headings)
                else ""
            )
            links = headings[:1] == ("operation",)
            lines = []
            for row in rows:
                cells = (_html_cell(cell, i in code, links and i == 0) for i, cell in enumerate(row))
                lines.append(f"<tr>{''.join(cells)}</tr>")
            return f"<table>{head}{''.join(lines)}</table>"
    return ""


def _html_cell(text: str, code: bool, link: bool) -> str:
    inner = f"<code>{_safe(text)}</code>" if code and text else _safe(text)
    return f'<td><a href="#{_safe(text)}">{inner}</a></td>' if link else f"<td>{inner}</td>"
