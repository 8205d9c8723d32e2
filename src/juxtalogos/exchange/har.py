"""HAR 1.2: recorded exchanges in and out.

The format keeps a body as text, its content coding undone, or as Base64; and it may leave a body out.
"""

from __future__ import annotations

import base64
import binascii
from collections.abc import Iterable
from dataclasses import dataclass
from datetime import UTC, datetime
from http import HTTPStatus
from typing import Any
from urllib.parse import parse_qsl, quote, urlencode, urlsplit

from juxtalogos._version import VERSION
from juxtalogos.documents.charsets import NotInCharset, decode_text, encode_text
from juxtalogos.documents.jsontext import NotJson, dump_json, parse_json
from juxtalogos.exchange.coding import decoded
from juxtalogos.exchange.media import parse_media_type
from juxtalogos.model.errors import DocumentError
from juxtalogos.model.exchange import Exchange, Headers, Request, Response, Timings, header

MAX_BYTES = 512 * 1024 * 1024
MAX_BODY = 64 * 1024 * 1024


@dataclass(frozen=True, slots=True)
class HarEntry:
    """One entry of a HAR file, by its place in it."""

    index: int
    exchange: Exchange | None
    problem: str = ""
    """Why it is no exchange, when it is none."""


def read_har(data: bytes, where: str) -> list[HarEntry]:
    """Every entry of a file, in its order; DocumentError when the file is no HAR."""
    if len(data) > MAX_BYTES:
        raise DocumentError(
            f"{len(data):,} bytes is more than the limit of {MAX_BYTES:,}",
            where=where,
            mend="record in parts",
        )
    try:
        value = parse_json(data)
    except NotJson as error:
        raise DocumentError(
            f"this is no HAR file: {error}", where=where, mend="record HAR 1.2, which is JSON"
        ) from None
    log = value.get("log") if isinstance(value, dict) else None
    entries = log.get("entries") if isinstance(log, dict) else None
    if not isinstance(entries, list):
        raise DocumentError(
            "this is JSON but no HAR file: it has no list at log.entries", where=where, mend="record HAR 1.2"
        )
    return [_entry(index, entry) for index, entry in enumerate(entries)]


def _entry(index: int, entry: Any) -> HarEntry:
    try:
        request = _request(entry["request"])
        response, error = _response(entry.get("response"), request.method)
    except (KeyError, TypeError, ValueError, AttributeError) as found:
        what = f"there is no {found}" if isinstance(found, KeyError) else str(found)
        return HarEntry(index, None, f"the entry cannot be read: {what}"[:200])
    return HarEntry(index, Exchange(request, response, _timings(entry), error))


def _request(value: Any) -> Request:
    method, url = value["method"], value["url"]
    if not isinstance(method, str) or not isinstance(url, str):
        raise ValueError("method and url are texts")
    urlsplit(url)
    headers = _headers(value.get("headers"))
    posted = value.get("postData")
    body: bytes | None = None
    if isinstance(posted, dict):
        if isinstance(posted.get("text"), str) and posted["text"]:
            kind = header(headers, "content-type") or posted.get("mimeType")
            body = _unpacked(posted, kind if isinstance(kind, str) else "")
        elif isinstance(posted.get("params"), list) and posted["params"]:
            pairs = [(str(one.get("name", "")), str(one.get("value", ""))) for one in posted["params"]]
            body = urlencode(pairs).encode()
        kind = posted.get("mimeType")
        if header(headers, "content-type") is None and isinstance(kind, str) and kind:
            headers = (*headers, ("Content-Type", kind))
    return Request(method.upper(), url.partition("#")[0], headers, body)


def _response(value: Any, method: str) -> tuple[Response | None, str]:
    """(response, why there is none)."""
    if not isinstance(value, dict):
        return None, "the recording holds no response"
    status = value.get("status")
    if isinstance(status, float) and status.is_integer():
        status = int(status)
    if not isinstance(status, int) or isinstance(status, bool):
        raise ValueError("response.status is no number")
    if status == 0:
        return None, str(value.get("_error") or value.get("statusText") or "no response was received")
    if not 100 <= status <= 999:
        raise ValueError(f"response.status {status} is no status code")
    found = value.get("content")
    content: dict[str, Any] = found if isinstance(found, dict) else {}
    headers = _headers(value.get("headers"))
    kind = content.get("mimeType")
    if (
        header(headers, "content-type") is None
        and isinstance(kind, str)
        and kind != "x-unknown"
        and parse_media_type(kind)
    ):
        # "mimeType: MIME type of the response text (value of the Content-Type response header)".
        headers = (*headers, ("Content-Type", kind))
    version = str(value.get("httpVersion", "")).upper().removeprefix("HTTP/") or "1.1"
    bare = Response(status, str(value.get("statusText", "")), headers, b"", version)
    text = content.get("text")
    size: Any = content.get("size", value.get("bodySize"))
    if isinstance(text, str) and (text or not (_is_count(size) and size > 0)):
        try:
            body = _unpacked(content, header(headers, "content-type") or "")
        except ValueError as error:
            return _with(bare, b"", kept=False, problem=str(error)), ""
        return _recoded(_with(bare, body)), ""
    return _with(bare, b"", kept=_is_count(size) and size == 0), ""


def _with(response: Response, body: bytes, *, kept: bool = True, problem: str = "") -> Response:
    return Response(
        response.status, response.reason, response.headers, body, response.http_version, False, problem, kept
    )


def _recoded(response: Response) -> Response:
    """Some recorders keep the bytes as they were sent; those show their coding by how they begin."""
    coding = (header(response.headers, "content-encoding") or "").strip().lower()
    if coding in ("gzip", "x-gzip") and response.body.startswith(b"\x1f\x8b"):
        return decoded(response, MAX_BODY)
    return response


def _unpacked(holder: dict[str, Any], content_type: str) -> bytes:
    text = holder["text"]
    if holder.get("encoding") == "base64":
        try:
            return base64.b64decode(text, validate=True)
        except (binascii.Error, ValueError):
            raise ValueError("the recorded body is not Base64, though it says so") from None
    try:
        return encode_text(text, _charset(content_type))
    except NotInCharset:
        return bytes(text.encode("utf-8", "surrogatepass"))


def _charset(content_type: str) -> str:
    """What a body's text is written in; JSON is UTF-8 whatever is said (RFC 8259, section 8.1)."""
    media = parse_media_type(content_type)
    return (media.parameter("charset") if media and not media.is_json else None) or "utf-8"


def _headers(value: Any) -> Headers:
    """Name-value pairs; the pseudo-fields of HTTP/2 (`:status`) are no fields."""
    found = []
    for member in value if isinstance(value, list) else ():
        if (
            isinstance(member, dict)
            and isinstance(member.get("name"), str)
            and member["name"]
            and member["name"][0] != ":"
        ):
            found.append((member["name"], str(member.get("value", ""))))
    return tuple(found)


def _timings(entry: dict[str, Any]) -> Timings:
    seconds: Any = entry.get("time")
    total = max(0.0, seconds / 1000) if _is_number(seconds) else 0.0
    parts = entry.get("timings")
    wait: Any = parts.get("wait") if isinstance(parts, dict) else None
    first = min(total, max(0.0, wait / 1000)) if _is_number(wait) else total
    try:
        sent = datetime.fromisoformat(str(entry.get("startedDateTime", "")))
        return Timings(sent.timestamp(), first, total)
    except (ValueError, OverflowError, OSError):
        return Timings(0.0, first, total)


def _is_number(value: Any) -> bool:
    return isinstance(value, int | float) and not isinstance(value, bool) and abs(value) < 1e12


def _is_count(value: Any) -> bool:
    return _is_number(value) and value >= 0


def write_har(exchanges: Iterable[Exchange]) -> str:
    """The text of a HAR 1.2 file; the exchanges are redacted already."""
    log = {
        "version": "1.2",
        "creator": {"name": "juxtalogos", "version": VERSION},
        "entries": [_as_entry(exchange) for exchange in exchanges],
    }
    return dump_json({"log": log}, indent=2) + "\n"


def _as_entry(exchange: Exchange) -> dict[str, Any]:
    timings = exchange.timings
    return {
        "startedDateTime": datetime.fromtimestamp(timings.sent_at, UTC).isoformat(timespec="milliseconds"),
        "time": round(timings.total * 1000, 3),
        "request": _as_request(exchange.request),
        "response": _as_response(exchange),
        "cache": {},
        "timings": {
            "send": 0,
            "wait": round(timings.first_byte * 1000, 3),
            "receive": round((timings.total - timings.first_byte) * 1000, 3),
        },
    }


def _as_request(request: Request) -> dict[str, Any]:
    query = parse_qsl(urlsplit(request.url).query, keep_blank_values=True)
    value: dict[str, Any] = {
        "method": request.method,
        "url": quote(request.url, safe="/:?#[]@!$&'()*+,;=%-._~"),
        "httpVersion": "HTTP/1.1",
        "cookies": [],
        "headers": _pairs(request.headers),
        "queryString": _pairs(tuple(query)),
        "headersSize": -1,
        "bodySize": len(request.body or b""),
    }
    if request.body:
        kind = header(request.headers, "content-type") or ""
        value["postData"] = {"mimeType": kind, **_packed(request.body, kind)}
    return value


def _as_response(exchange: Exchange) -> dict[str, Any]:
    response = exchange.response
    value: dict[str, Any] = {
        "status": response.status if response else 0,
        "statusText": (response.reason or _phrase(response.status)) if response else "",
        "httpVersion": f"HTTP/{response.http_version}" if response else "",
        "cookies": [],
        "headers": _pairs(response.headers) if response else [],
        "redirectURL": (header(response.headers, "location") or "") if response else "",
        "headersSize": -1,
        "bodySize": -1,
        "content": {"size": 0, "mimeType": "x-unknown"},
    }
    if response is None:
        return {**value, "_error": exchange.error}
    content = {"mimeType": header(response.headers, "content-type") or "x-unknown"}
    if response.body_kept:
        value["content"] = {
            "size": len(response.body),
            **content,
            **_packed(response.body, content["mimeType"]),
        }
    else:
        value["content"] = {"size": -1, **content}
    return value


def _packed(body: bytes, content_type: str) -> dict[str, str]:
    """As text where the same bytes can be made of it again, else in Base64."""
    try:
        packed = {"text": decode_text(body, _charset(content_type))}
        if _unpacked(packed, content_type) == body:
            return packed
    except NotInCharset:
        pass
    return {"text": base64.b64encode(body).decode(), "encoding": "base64"}


def _pairs(headers: Headers) -> list[dict[str, str]]:
    return [{"name": name, "value": value} for name, value in headers]


def _phrase(status: int) -> str:
    try:
        return HTTPStatus(status).phrase
    except ValueError:
        return ""
