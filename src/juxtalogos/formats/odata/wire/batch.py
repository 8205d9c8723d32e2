"""Batches: several requests in one, as multipart (4.0 part 1, 11.7; V2 batch processing) or as JSON (JSON
4.01, 19).
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import replace
from typing import Any
from urllib.parse import urljoin

from juxtalogos.documents.jsontext import NotJson, dump_json, parse_json
from juxtalogos.exchange.media import parse_media_type
from juxtalogos.exchange.multipart import enclosed
from juxtalogos.model.errors import UsageError
from juxtalogos.model.exchange import Exchange, Headers, Request, Response, header

MAX_PARTS = 1_000


def batch_parts(value: Any) -> list[bytes]:
    """The parts of the batch that JSON describes: requests of one atomicity group are one change set."""
    requests = value.get("requests") if isinstance(value, dict) else None
    if not isinstance(requests, list) or not requests:
        raise UsageError(
            "a batch is made of requests",
            mend='give {"requests": [{"id": "1", "method": "GET", "url": "…"}]}',
        )
    parts: list[bytes] = []
    group, held = "", list[bytes]()
    for number, one in enumerate(requests, 1):
        if not isinstance(one, dict):
            raise UsageError(
                f"request {number} of the batch is no object", mend="give it an id, a method and a url"
            )
        named = str(one.get("atomicityGroup") or "")
        if held and named != group:
            parts.append(_change_set(held))
            held = []
        group = named
        if named:
            held.append(_part(one, number, in_group=True))
        else:
            parts.append(_part(one, number, in_group=False))
    return [*parts, _change_set(held)] if held else parts


def _change_set(held: list[bytes]) -> bytes:
    boundary, body = enclosed(held)
    return f"Content-Type: multipart/mixed;boundary={boundary}\r\n\r\n".encode() + body


def _part(one: dict[str, Any], number: int, *, in_group: bool) -> bytes:
    head = "Content-Type: application/http\r\nContent-Transfer-Encoding: binary\r\n"
    if in_group:
        head += f"Content-ID: {_line(str(one.get('id', number)))}\r\n"
    given = one.get("headers")
    headers = {str(key): str(item) for key, item in given.items()} if isinstance(given, dict) else {}
    body = one.get("body")
    text = "" if body is None else body if isinstance(body, str) else dump_json(body)
    if text and "content-type" not in {key.lower() for key in headers}:
        headers["Content-Type"] = "application/json"
    if text:
        headers["Content-Length"] = str(len(text.encode()))
    lines = "".join(f"{_line(key)}: {_line(item)}\r\n" for key, item in headers.items())
    return (
        f"{head}\r\n{_line(str(one.get('method', 'GET')))} {_line(str(one.get('url', '')))}"
        f" HTTP/1.1\r\n{lines}\r\n{text}"
    ).encode()


def _line(text: str) -> str:
    return re.sub(r"[\r\n]", " ", text)


def parts_of(exchange: Exchange) -> tuple[Exchange, ...]:
    """The exchanges of a batch, each as if it had been sent alone; none where either side cannot be read."""
    request, response = exchange.request, exchange.response
    if response is None or not request.body or not response.body:
        return ()
    root = request.url.partition("?")[0].rpartition("/")[0] + "/"
    asked = list(_requests(request.headers, request.body, root))[:MAX_PARTS]
    answered = list(_responses(response.headers, response.body))[:MAX_PARTS]
    by_id = {identity: answer for identity, answer in answered if identity}
    found = []
    plain = iter([answer for identity, answer in answered if not identity])
    for identity, one in asked:
        answer = by_id.get(identity) if identity in by_id else next(plain, None)
        if answer is not None:
            found.append(replace(exchange, request=one, response=_versioned(answer, response.headers)))
    return tuple(found)


def _versioned(answer: Response, whole: Headers) -> Response:
    """The version of the batch holds for a part that tells none (JSON 4.01, 19)."""
    name = "OData-Version"
    version = header(whole, name)
    if version is None or header(answer.headers, name) is not None:
        return answer
    return replace(answer, headers=(*answer.headers, (name, version)))


def _requests(headers: Headers, body: bytes, root: str) -> Iterator[tuple[str, Request]]:
    value = _json(headers, body)
    if value is not None:
        listed = value.get("requests")
        for entry in listed if isinstance(listed, list) else ():
            if isinstance(entry, dict):
                yield (
                    str(entry.get("id", "")),
                    Request(
                        str(entry.get("method", "GET")).upper(),
                        urljoin(root, str(entry.get("url", "")).lstrip("/")),
                        _pairs(entry),
                        _bytes(entry),
                    ),
                )
        return
    for identity, text in _messages(headers, body, 0):
        first, _, rest = text.partition(b"\r\n")
        words = first.decode("utf-8", "replace").split(" ")
        if len(words) >= 2:
            fields, data = _head(rest)
            yield identity, Request(words[0].upper(), _absolute(root, words[1], fields), fields, data or None)


def _absolute(root: str, url: str, headers: Headers) -> str:
    """Relative to the service root; or to the host (4.0 part 1, 11.7.2)."""
    return urljoin(root, url)


def _responses(headers: Headers, body: bytes) -> Iterator[tuple[str, Response]]:
    value = _json(headers, body)
    if value is not None:
        listed = value.get("responses")
        for entry in listed if isinstance(listed, list) else ():
            status = entry.get("status") if isinstance(entry, dict) else None
            if isinstance(status, int):
                yield str(entry.get("id", "")), Response(status, "", _pairs(entry), _bytes(entry) or b"")
        return
    for identity, text in _messages(headers, body, 0):
        first, _, rest = text.partition(b"\r\n")
        found = re.match(rb"HTTP/\d(?:\.\d)? (\d{3}) ?(.*)", first)
        if found:
            fields, data = _head(rest)
            yield identity, Response(int(found[1]), found[2].decode("utf-8", "replace"), fields, data)


def _json(headers: Headers, body: bytes) -> dict[str, Any] | None:
    parsed = parse_media_type(header(headers, "content-type") or "")
    if parsed is None or not parsed.is_json:
        return None
    try:
        value = parse_json(body)
    except NotJson:
        return None
    return value if isinstance(value, dict) else None


def _pairs(one: dict[str, Any]) -> Headers:
    given = one.get("headers")
    found = [(str(key), str(item)) for key, item in given.items()] if isinstance(given, dict) else []
    if "body" in one and "content-type" not in {key.lower() for key, _ in found}:
        found.append(("content-type", "application/json"))
    return tuple(found)


def _bytes(one: dict[str, Any]) -> bytes | None:
    body = one.get("body")
    return None if body is None else body.encode() if isinstance(body, str) else dump_json(body).encode()


def _messages(headers: Headers, body: bytes, depth: int) -> Iterator[tuple[str, bytes]]:
    """(Content-ID, HTTP message) of each part, those of change sets in their place."""
    parsed = parse_media_type(header(headers, "content-type") or "")
    boundary = parsed.parameter("boundary") if parsed and parsed.type == "multipart" else None
    if not boundary or depth > 2:
        return
    mark = b"--" + boundary.encode("utf-8", "replace")
    for part in re.split(rb"(?:^|\r?\n)" + re.escape(mark) + rb"(?=\r?\n|--)", body)[1 : MAX_PARTS + 1]:
        if part.startswith(b"--"):
            return
        fields, data = _head(re.sub(rb"^\r?\n", b"", part, count=1))
        kind = parse_media_type(header(fields, "content-type") or "")
        if kind and kind.type == "multipart":
            yield from _messages(fields, data, depth + 1)
        else:
            yield header(fields, "content-id") or "", _dos(data)


def _dos(data: bytes) -> bytes:
    """A message whose head has the line ends that HTTP wants."""
    head, gap, rest = data.partition(b"\r\n\r\n")
    if gap:
        return data
    head, gap, rest = data.partition(b"\n\n")
    return head.replace(b"\n", b"\r\n") + b"\r\n\r\n" + rest


def _head(data: bytes) -> tuple[Headers, bytes]:
    """(fields, body) of a part or message behind its first line."""
    found = re.match(rb"((?:[^\r\n:]+:[^\r\n]*\r?\n)*)\r?\n?", data)
    lines = found[1].decode("utf-8", "replace").splitlines() if found else []
    fields = tuple((name.strip(), text.strip()) for name, _, text in (line.partition(":") for line in lines))
    rest = data[found.end() :] if found else data
    length = header(fields, "content-length")
    return fields, rest[: int(length)] if length and length.isdigit() and int(length) <= len(rest) else rest
