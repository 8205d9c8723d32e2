"""The transport and the media types: codings, bounds, what is no HTTP answer, messages as text."""

from __future__ import annotations

import asyncio
import gzip
import re
import threading
import zlib
from collections.abc import Iterator
from contextlib import contextmanager
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from typing import Any

import pytest

from juxtalogos.exchange.media import best_match, parse_media_type
from juxtalogos.exchange.message import parse_request, ready_message, request_text
from juxtalogos.exchange.transport import Transport, TransportOptions
from juxtalogos.model.errors import UsageError
from juxtalogos.model.exchange import Exchange, Request, header


@contextmanager
def answering(reply: bytes) -> Iterator[str]:
    """A server that answers every request with the same bytes."""

    class Handler(BaseHTTPRequestHandler):
        def handle(self) -> None:
            self.rfile.readline()
            while self.rfile.readline().strip():
                pass
            self.wfile.write(reply)

    server = ThreadingHTTPServer(("127.0.0.1", 0), Handler)
    threading.Thread(target=server.serve_forever, kwargs={"poll_interval": 0.02}, daemon=True).start()
    yield f"http://127.0.0.1:{server.server_address[1]}"
    server.shutdown()
    server.server_close()


def send(reply: bytes, **options: Any) -> Exchange:
    async def work(url: str) -> Exchange:
        async with Transport(TransportOptions(timeout=3, **options)) as transport:
            return await transport.send(Request("GET", f"{url}/q"))

    with answering(reply) as url:
        return asyncio.run(work(url))


def message(body: bytes, *lines: str) -> bytes:
    return (
        "\r\n".join(
            ["HTTP/1.1 200 OK", f"Content-Length: {len(body)}", "Connection: close", *lines, "", ""]
        ).encode()
        + body
    )


@pytest.mark.parametrize("coding", ["gzip", "deflate", "raw deflate", "deflate, gzip"])
def test_content_codings(coding: str) -> None:
    body = b"tide " * 100
    raw = zlib.compressobj(wbits=-15)
    packed = {
        "gzip": gzip.compress(body),
        "deflate": zlib.compress(body),
        "raw deflate": raw.compress(body) + raw.flush(),
        "deflate, gzip": gzip.compress(zlib.compress(body)),
    }[coding]
    exchange = send(message(packed, f"Content-Encoding: {coding.removeprefix('raw ')}"))
    assert exchange.response and exchange.response.body == body and not exchange.response.problem


def test_bodies_are_bounded_and_problems_told() -> None:
    bomb = send(message(gzip.compress(b"\0" * 50_000_000), "Content-Encoding: gzip"), max_body=100_000)
    assert bomb.response and bomb.response.truncated and len(bomb.response.body) <= 400_000
    large = send(message(b"x" * 300_000), max_body=100_000)
    assert large.response and large.response.truncated and len(large.response.body) == 100_000
    for reply, words in (
        (message(b"no gzip", "Content-Encoding: gzip"), "not gzip"),
        (message(b"x", "Content-Encoding: br"), "'br' was not asked for"),
        (b"HTTP/1.1 200 OK\r\nContent-Length: 900\r\n\r\nshort", "broke off after 5 bytes"),
    ):
        exchange = send(reply)
        assert exchange.response and words in exchange.response.problem


@pytest.mark.parametrize(
    ("reply", "words"),
    [
        (b"", "closed the connection"),
        (b"SSH-2.0-quay\r\n", "did not respond in HTTP"),
        (b"HTTP/1.1 2x0 OK\r\n\r\n", "did not respond in HTTP"),
    ],
)
def test_what_is_no_http_answer(reply: bytes, words: str) -> None:
    exchange = send(reply)
    assert exchange.response is None and words in exchange.error


def test_redirects_are_not_followed_and_headers_kept_in_order() -> None:
    exchange = send(
        b"HTTP/1.1 302 Found\r\nLocation: http://127.0.0.1:9/\r\nSet-Cookie: a=1\r\nSet-Cookie:"
        b" b=2\r\nContent-Length: 0\r\n\r\n"
    )
    assert exchange.response and exchange.response.status == 302
    assert [value for name, value in exchange.response.headers if name == "Set-Cookie"] == ["a=1", "b=2"]
    assert header(exchange.request.headers, "traceparent") and header(exchange.request.headers, "host")


def test_messages() -> None:
    request = Request("POST", "http://quay.test/v1/q?a=1", (("Accept", "*/*"), ("Host", "other")), b'{"a":1}')
    assert parse_request(request_text(request), "http://quay.test") == Request(
        "POST", "http://quay.test/v1/q?a=1", (("Host", "quay.test"), ("Accept", "*/*")), b'{"a":1}'
    )
    ready = ready_message(b"POST /q HTTP/1.1\nHost: x\n\n{}\n", (("X-Key", "k"), ("host", "y")))
    assert ready == b"POST /q HTTP/1.1\r\nHost: x\r\nX-Key: k\r\nContent-Length: 3\r\n\r\n{}\n"
    for text, words in (
        (b"hello", "m:1: this is no request line"),
        (b"GET / HTTP/1.1\nHost x\n\n", "m:2: this is no header field"),
    ):
        with pytest.raises(UsageError, match=re.escape(words)):
            parse_request(text, "http://x", "m")


@pytest.mark.parametrize(
    ("declared", "actual", "index"),
    [
        (["application/json"], "application/json; charset=utf-8", 0),
        (["application/json"], "Application/JSON", 0),
        (["application/json"], "application/problem+json", None),
        (["*/*", "text/*", "text/csv"], "text/csv", 2),
        (["*/*", "text/*"], "text/csv; header=present", 1),
        (["application/vnd.quay+json; version=2"], "application/vnd.quay+json; version=2", 0),
        (["application/vnd.quay+json; version=2"], "application/vnd.quay+json", None),
        (["application/json"], "json", None),
        (["application/json"], "", None),
    ],
)
def test_media_types(declared: list[str], actual: str, index: int | None) -> None:
    assert best_match(declared, actual) == index


def test_media_type_parts() -> None:
    parsed = parse_media_type('multipart/form-data; boundary="a;b"; charset=UTF-8')
    assert parsed and parsed.parameter("boundary") == "a;b" and parsed.is_multipart and not parsed.is_json
