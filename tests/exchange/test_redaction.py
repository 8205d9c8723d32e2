"""Redaction: by the secret in all its spellings, by names, and of fields whose form shows one."""

from __future__ import annotations

import json

import pytest
from hypothesis import given
from hypothesis import strategies as st

from juxtalogos.exchange.redact import MASK, Redactor
from juxtalogos.model.exchange import BodyForm, Exchange, Request, Response, Timings
from juxtalogos.model.findings import CheckResult


@given(
    st.text(min_size=4, max_size=20).filter(lambda text: text.strip() == text and len(text.strip('"\\')) > 3)
)
def test_a_secret_is_hidden_in_all_its_forms(secret: str) -> None:
    from urllib.parse import quote

    redactor = Redactor.of([secret])
    forms = [
        secret,
        quote(secret, safe=""),
        json.dumps(secret)[1:-1],
        json.dumps(secret, ensure_ascii=False)[1:-1],
    ]
    for form in forms:
        assert form not in redactor.text(f"<{form}>").replace(MASK, "")
        body = (
            redactor.body(f"<{form}>".encode("utf-8", "surrogatepass"))
            if form.isascii() or form.isprintable()
            else b""
        )
        assert form.encode("utf-8", "surrogatepass") not in body.replace(MASK.encode(), b"")


def test_redaction_by_name() -> None:
    redactor = Redactor.of([], ["password", "X-Key"])
    exchange = Exchange(
        Request(
            "POST",
            "http://u:p@h/q?password=abc&x=1",
            (("Authorization", "Bearer abc"), ("X-Key", "k"), ("Cookie", "s=1; t=2"), ("Accept", "*/*")),
            b'{"password" : "a\\"b", "x": 1}',
        ),
        Response(200, "OK", (("Set-Cookie", "s=1; Path=/"),), b"user=1&password=abc"),
        Timings(0, 0, 0),
    )
    found = redactor.exchange(exchange)
    assert found.request.url == f"http://h/q?password={MASK}&x=1"
    assert found.request.headers == (
        ("Authorization", f"Bearer {MASK}"),
        ("X-Key", MASK),
        ("Cookie", f"s={MASK}; t={MASK}"),
        ("Accept", "*/*"),
    )
    assert found.request.body == f'{{"password" : "{MASK}", "x": 1}}'.encode()
    assert (
        found.response
        and found.response.body == f"user=1&password={MASK}".encode()
        and found.response.headers == (("Set-Cookie", f"s={MASK}; Path=/"),)
    )
    result = CheckResult("body.length", False, "body/password", "8 or more characters", '3 characters: "abc"')
    assert redactor.result(result).observed == MASK


@pytest.mark.parametrize(
    ("name", "value", "kept"),
    [
        ("Authorization", "Bearer abc", f"Bearer {MASK}"),
        ("Authorization", "abc", MASK),
        ("proxy-authorization", "Basic eDp5", f"Basic {MASK}"),
        ("Proxy-Authorization", "eDp5", MASK),
        ("X-API-Key", "abc def", MASK),
        ("Cookie", "s=1; t=2", f"s={MASK}; t={MASK}"),
        ("Set-Cookie", "s=1; Path=/", f"s={MASK}; Path=/"),
        ("X-Key", "k", MASK),
        ("X-Other", "a tidal-gauge-7 b", f"a {MASK} b"),
        ("Accept", "text/plain", "text/plain"),
    ],
)
def test_header_fields(name: str, value: str, kept: str) -> None:
    redactor = Redactor.of(["tidal-gauge-7"], ["x-key"])
    assert redactor.headers(((name, value), ("A", "b"))) == ((name, kept), ("A", "b"))


@pytest.mark.parametrize("charset", ["utf-16le", "utf-16be", "utf-7", "cp037", "iso-8859-1"])
@pytest.mark.parametrize("side", ["request", "response"])
def test_the_charset_of_the_header_decides_what_a_body_says(charset: str, side: str) -> None:
    """Without its content type the body would be kept as it is, with the secret in it."""
    secret = "tidal gauge ~7"
    body = f"<{secret}>".encode(charset)
    fields = (("Content-Type", f"text/plain; charset={charset}"),)
    exchange = Exchange(
        Request(
            "POST", "http://h/q", fields if side == "request" else (), body if side == "request" else b""
        ),
        Response(200, "OK", fields if side == "response" else (), body if side == "response" else b""),
        Timings(0, 0, 0),
    )
    found, sent, answered = Redactor.of([secret]).exchange_with_forms(exchange)
    kept = found.request.body if side == "request" else found.response and found.response.body
    form = sent if side == "request" else answered
    text = (kept or b"").decode("utf-8" if form == "decoded" else charset)
    assert text == f"<{MASK}>"
    assert (sent, answered)[side == "request"] == "raw"


@pytest.mark.parametrize(
    "charset", ["utf-16le", "utf-16", "utf-32", "cp037", "iso-8859-1", "shift_jis", "nonsense"]
)
@pytest.mark.parametrize("more", ["", "x"])
def test_a_wrong_charset_hides_nothing(charset: str, more: str) -> None:
    secret = 'k/Ä9 q"7&z~tide<gate>'
    body = json.dumps(secret + more).encode()
    kept, form = Redactor.of([secret], ()).masked_body(body, f"text/plain; charset={charset}")
    assert b"tide" not in kept and form is not BodyForm.RAW
