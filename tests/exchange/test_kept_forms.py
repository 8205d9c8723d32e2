"""What is kept and handed on of an exchange: nothing secret in it, nothing lost of it, whatever it holds."""

from __future__ import annotations

import gzip
import ipaddress
import json
import re
import time
import zlib
from collections.abc import Callable
from dataclasses import replace
from typing import Any
from urllib.parse import parse_qsl, quote, urlencode, urlsplit

import pytest
from hypothesis import assume, example, given, settings
from hypothesis import strategies as st
from lxml import etree

from juxtalogos.documents.charsets import NotInCharset, decode_text, encode_text
from juxtalogos.exchange.coding import decoded
from juxtalogos.exchange.guard import Refused, is_public, refuse_private, split_address
from juxtalogos.exchange.har import read_har, write_har
from juxtalogos.exchange.media import best_match, closeness, parse_media_type
from juxtalogos.exchange.redact import MASK, Redactor, carried_secrets
from juxtalogos.model.errors import DocumentError
from juxtalogos.model.exchange import Exchange, Headers, Request, Response, Timings

MANY = settings(max_examples=120, deadline=None)
SECRET = "Qz7-hawser 9&x"
NAMES = ("berthPin", "auth[key]", "x.code", "pass-word", "Löschung", "a+b")
"""Names that a definition may give what is secret: some are written otherwise in a URL, a form or JSON."""
PLAIN = st.text(st.characters(codec="utf-8", exclude_categories=["Cc", "Cs"]), max_size=12)


def _exchange(request: Request, body: bytes = b"", headers: Headers = ()) -> Exchange:
    return Exchange(request, Response(200, "OK", headers, body), Timings(0.0, 0.0, 0.0))


def _bytes_of(exchange: Exchange) -> bytes:
    """Everything of an exchange that is written anywhere."""
    request, response = exchange.request, exchange.response
    parts = [request.url, *(f"{name}: {value}" for name, value in request.headers), exchange.error]
    if response:
        parts += [response.reason, *(f"{name}: {value}" for name, value in response.headers)]
    text = "\n".join(parts).encode()
    return b"\n".join((text, request.body or b"", response.body if response else b""))


def _json(name: str, value: Any) -> bytes:
    return json.dumps({"dock": 4, name: value, "tide": "low"}).encode()


def _json_unescaped(name: str, value: Any) -> bytes:
    return json.dumps({"dock": [{name: value}], "tide": "low"}, ensure_ascii=False, indent=2).encode()


def _form(name: str, value: Any) -> bytes:
    return urlencode({"dock": 4, name: value, "tide": "low"}).encode()


def _element(name: str, value: Any) -> bytes:
    assume(re.fullmatch(r"[\w.-]+", name))
    root = etree.Element("call")
    etree.SubElement(root, f"{{urn:quay}}{name}", kind="old").text = str(value)
    etree.SubElement(root, "tide").text = "low"
    return bytes(etree.tostring(root, encoding="utf-8"))


def _attribute(name: str, value: Any) -> bytes:
    assume(re.fullmatch(r"[\w.-]+", name))
    root = etree.Element("call")
    etree.SubElement(root, "login", {"at": "1", name: str(value), "tide": "low"})
    return bytes(etree.tostring(root, encoding="utf-8"))


def _cdata(name: str, value: Any) -> bytes:
    assume(re.fullmatch(r"[\w.-]+", name) and "]]>" not in str(value))
    return f"<call><!-- dock --><{name} at='>'>a<![CDATA[{value}]]><!-- end --></{name} ><tide>low</tide></call>".encode()


def _wide_element(name: str, value: Any) -> bytes:
    return _element(name, value).decode().encode("utf-16")


def _multipart(name: str, value: Any) -> bytes:
    head = 'Content-Disposition: form-data; name="{}"\r\nContent-Type: text/plain\r\n\r\n{}\r\n'
    return "--x\r\n".join(
        ["", *(head.format(*one) for one in (("dock", 4), (name, f"1\r\n{value}"), ("tide", "low")))]
    ).encode()


@MANY
@given(
    st.sampled_from(NAMES),
    st.sampled_from([_json, _json_unescaped, _form, _element, _attribute, _cdata, _wide_element, _multipart]),
    st.sampled_from([SECRET, "ab", 'quo"te\\', "<&>", "mole 4711", "ünder"])
    | PLAIN.filter(lambda text: len(text) > 1),
)
def test_what_a_named_field_holds_is_hidden_wherever_it_stands(
    name: str, written: Callable[[str, Any], bytes], secret: str
) -> None:
    secret = f"{secret}~s3cret"
    body = written(name, secret)
    url = f"http://quay.test/x?tide=low&{urlencode({name: secret})}&dock=4"
    exchange = _exchange(Request("POST", url, (), body), body)
    for names in ({name}, {name.upper()}, {*NAMES}):
        found = Redactor.of([], names).exchange(exchange)
        kept = _bytes_of(found).replace(b"\0", b"")
        assert b"s3cret" not in kept, kept
        assert kept.count(b"low") == 3 and kept.count(b"redacted") == 3
        assert dict(parse_qsl(urlsplit(found.request.url).query))["tide"] == "low"
    assert Redactor.of([], {"other"}).exchange(exchange) is exchange


@pytest.mark.parametrize("value", [4711, -47.11, 4.7e11, ["4711", "4711x"], [4711, 1], [], "4711"])
def test_a_named_field_that_holds_no_text_is_hidden_too(value: Any) -> None:
    body = _json("pin", value)
    found = Redactor.of([], ["pin"]).body(body)
    assert b"47" not in found and b"7.11" not in found
    assert json.loads(found).keys() == {"dock", "pin", "tide"} and json.loads(found)["tide"] == "low"


def test_what_is_no_value_of_the_named_field_stays() -> None:
    body = b'{"pin": null, "pinned": "yes", "x": {"spin": 1}, "PIN": {"dock": 4}, "pin" : true, "y": "pin"}'
    assert Redactor.of([], ["pin"]).body(body) == body
    for other in (
        b"spin=1&pins=2&x=pin",
        b"<pin/><spin>4</spin><x spin='4'>pin='4'</x>",
        b'Content-Disposition: form-data; name="spin"\r\n\r\n4',
    ):
        assert Redactor.of([], ["pin"]).body(other) == other


@pytest.mark.parametrize("name", ["pin", "x.code"])
@pytest.mark.parametrize(
    "part",
    [
        '"NAME": "',
        '"NAME": [',
        "<NAME>",
        "<NAME><![CDATA[",
        "<NAME><![CDATA[<NAME>]]>",
        "<NAME ",
        "<x NAME=",
        "<!--<NAME>-->",
        "&NAME",
        '"NAME":[""',
        "</NAME>",
        'Content-Disposition: form-data; name="NAME"\r\n',
        'Content-Disposition: form-data; name="NAME"\r\n\r\n',
        "<a\t",
        "-1.e",
        '"NAME"' + " " * 90,
    ],
)
def test_hostile_bodies_are_masked_in_time_that_grows_as_they_do(name: str, part: str) -> None:
    """Sixteen times the body may take sixteen times as long and some; a quadratic pattern takes 256 times as
    long.
    """
    redactor = Redactor.of([], [name])

    def seconds(count: int) -> float:
        body = part.replace("NAME", name).encode() * count
        begun = time.process_time()
        redactor.body(body)
        return time.process_time() - begun

    seconds(10)
    small = min(seconds(500) for _ in range(3))
    assert seconds(8_000) < 60 * max(small, 0.002)


@MANY
@given(
    st.lists(PLAIN.filter(lambda text: len(text.strip()) > 4), min_size=1, max_size=5), PLAIN, st.randoms()
)
def test_secrets_that_hold_each_other_are_hidden_whole(parts: list[str], around: str, chance: Any) -> None:
    """The longest goes first, whatever the order in which they became known."""
    secrets = ["".join(parts[:count]) for count in range(1, len(parts) + 1)]
    chance.shuffle(secrets)
    redactor = Redactor.of(secrets[:1])
    for one in secrets[1:]:
        redactor.learn(one)
    whole = max(secrets, key=len)
    assume(not any(one in around or one in MASK for one in secrets))
    assert redactor.text(f"{around}|{whole}|{around}") == f"{around}|{MASK}|{around}"


@pytest.mark.parametrize("before", [b"", b"\xff\xfe", b"\xfe\xff", b"\0", b"\xff\xfe\0"])
@pytest.mark.parametrize("codec", ["utf-8", "utf-16-le", "utf-16-be"])
def test_a_body_cannot_hide_a_secret_by_how_it_begins(before: bytes, codec: str) -> None:
    for around in ("", "dock", "é"):
        body = before + f"{around}{SECRET}{around}".encode(codec)
        found = Redactor.of([SECRET], ["pin"]).body(body)
        assert SECRET.encode(codec) not in found and MASK.encode(codec) in found
        assert found == before + f"{around}{MASK}{around}".encode(codec)
    field = before + b'{"pin": "4711-a"}'
    assert b"4711" not in Redactor.of([], ["pin"]).body(field)


def test_a_recorded_exchange_shows_its_own_secrets() -> None:
    request: Headers = (
        ("Authorization", "Bearer tok-1234"),
        ("Cookie", "lang=en; session=abcdefghijkl; theme=dark"),
        ("X-Api-Key", "key-9"),
        ("Proxy-Authorization", "raw-credential"),
        ("Accept", "*/*"),
    )
    answered: Headers = (("Set-Cookie", "berth=mnopqrstuvwx; Path=/quays/long-path; Secure"),)
    exchange = _exchange(Request("GET", "http://quay.test/", request), b"", answered)
    assert list(carried_secrets(exchange)) == [
        "tok-1234",
        "abcdefghijkl",
        "key-9",
        "raw-credential",
        "mnopqrstuvwx",
    ]


HEADERS = st.lists(
    st.tuples(st.sampled_from(["X-Dock", "x-dock", "Accept", "X-Tide"]), st.text("abc ,;=éü", max_size=8)),
    max_size=4,
)
TYPES = st.sampled_from(
    [
        "application/json",
        "text/plain",
        "text/plain; charset=iso-8859-1",
        "text/xml; charset=UTF-16",
        "application/json; charset=latin-1",
        "text/plain; charset=undefined",
        "text/plain; charset=nonsense",
        "application/octet-stream",
        "text/plain; charset=utf-8-sig",
        "multipart/form-data; boundary=x",
    ]
)
BODIES = (
    st.binary(max_size=30)
    | PLAIN.map(str.encode)
    | st.sampled_from([b"\xc3\xa9", b"\xff\xfeA\x00", b"\xef\xbb\xbf{}", b"A\x00"])
)


@st.composite
def exchanges(draw: st.DrawFn) -> Exchange:
    """Exchanges as the transport makes them."""
    method, status = draw(st.sampled_from(["GET", "POST", "REPORT"])), draw(st.integers(100, 999))
    sent: Headers = (*draw(HEADERS), *((("Content-Type", draw(TYPES)),) if draw(st.booleans()) else ()))
    query = draw(st.dictionaries(PLAIN.filter(bool), PLAIN, max_size=3))
    request = Request(method, f"http://quay.test/b/%C3%A9?{urlencode(query)}", sent, draw(BODIES) or None)
    timings = Timings(draw(st.integers(0, 4_000_000_000_000)) / 1000, 0.25, 0.5)
    if draw(st.integers(0, 5)) == 0:
        return Exchange(request, None, timings, draw(PLAIN.filter(lambda text: bool(text.strip()))))
    came: Headers = (*draw(HEADERS), *((("Content-Type", draw(TYPES)),) if draw(st.booleans()) else ()))
    kept = draw(st.integers(0, 5)) > 0
    response = Response(
        status,
        draw(st.sampled_from(["Fine", "Moored"])),
        came,
        draw(BODIES) if kept else b"",
        draw(st.sampled_from(["1.0", "1.1", "2"])),
        body_kept=kept,
    )
    return Exchange(request, response, timings)


@MANY
@example(
    [
        Exchange(
            Request("GET", "http://quay.test/"),
            Response(200, "Fine", (("Content-Type", "text/plain; charset=iso-8859-1"),), b"\xc3\xa9"),
            Timings(0, 0.25, 0.5),
        )
    ]
)
@given(st.lists(exchanges(), max_size=4))
def test_a_recording_gives_back_every_exchange(sent: list[Exchange]) -> None:
    text = write_har(sent)
    found = read_har(text.encode(), "x.har")
    assert [one.problem for one in found] == [""] * len(sent)
    for one, exchange in zip(found, sent, strict=True):
        assert one.exchange is not None
        assert one.exchange.request == exchange.request
        assert one.exchange.response == exchange.response
        assert one.exchange.error == exchange.error
        assert abs(one.exchange.timings.sent_at - exchange.timings.sent_at) < 0.002
    for entry, exchange in zip(json.loads(text)["log"]["entries"], sent, strict=True):
        content = entry["response"]["content"]
        if exchange.response and content.get("text") and "encoding" not in content:
            kind = parse_media_type(content["mimeType"])
            charset = (kind.parameter("charset") if kind and not kind.is_json else None) or "utf-8"
            assert content["text"].encode(charset) == exchange.response.body


@pytest.mark.parametrize(
    ("entry", "words"),
    [
        (None, "cannot be read"),
        ({}, "there is no 'request'"),
        ({"request": {"method": 1, "url": "http://x"}}, "method and url are texts"),
        ({"request": {"method": "GET", "url": "http://[x"}}, "cannot be read"),
        (
            {"request": {"method": "GET", "url": "http://x"}, "response": {"status": "200"}},
            "status is no number",
        ),
        (
            {"request": {"method": "GET", "url": "http://x"}, "response": {"status": True}},
            "status is no number",
        ),
        ({"request": {"method": "GET", "url": "http://x"}, "response": {"status": 99}}, "no status code"),
        ({"request": {"method": "GET", "url": "http://x"}, "response": {"status": 1000}}, "no status code"),
        (
            {"request": {"method": "P", "url": "http://x", "postData": {"text": "?", "encoding": "base64"}}},
            "not Base64",
        ),
    ],
)
def test_one_bad_entry_ends_itself_only(entry: Any, words: str) -> None:
    good = json.loads(write_har([_exchange(Request("GET", "http://quay.test/"))]))["log"]["entries"][0]
    found = read_har(json.dumps({"log": {"entries": [good, entry, good]}}).encode(), "x.har")
    assert [bool(one.exchange) for one in found] == [True, False, True] and words in found[1].problem
    assert [one.index for one in found] == [0, 1, 2]


@pytest.mark.parametrize("text", [b"", b"{", b"[]", b'{"log": []}', b'{"log": {"entries": {}}}', b"\xff\xff"])
def test_what_is_no_recording_is_told_with_its_place(text: bytes) -> None:
    with pytest.raises(DocumentError) as found:
        read_har(text, "x.har")
    assert found.value.where == "x.har" and "1.2" in str(found.value.mend)


@pytest.mark.parametrize(
    ("value", "exchange"),
    [
        ({"status": 200.0, "content": {"text": "YQ==", "encoding": "base64"}}, (200, b"a", True, "")),
        (
            {"status": 200, "content": {"text": "?", "encoding": "base64"}},
            (200, b"", False, "the recorded body is not Base64, though it says so"),
        ),
        ({"status": 200, "content": {"size": 5}}, (200, b"", False, "")),
        ({"status": 200, "content": {"size": 5, "text": ""}}, (200, b"", False, "")),
        ({"status": 200, "content": {"size": 0, "text": ""}}, (200, b"", True, "")),
        ({"status": 200, "content": {"size": 0}}, (200, b"", True, "")),
        ({"status": 200, "bodySize": 0}, (200, b"", True, "")),
        ({"status": 200, "content": {"size": True}}, (200, b"", False, "")),
        ({"status": 200}, (200, b"", False, "")),
        ({"status": 0, "statusText": "reset"}, (0, b"reset", True, "")),
        ({"status": 0}, (0, b"no response was received", True, "")),
        (None, (0, b"the recording holds no response", True, "")),
    ],
)
def test_a_body_that_was_left_out_is_not_an_empty_one(
    value: Any, exchange: tuple[int, bytes, bool, str]
) -> None:
    entry = {"request": {"method": "get", "url": "http://quay.test/#mole"}, "response": value}
    (found,) = read_har(json.dumps({"log": {"entries": [entry]}}).encode(), "x.har")
    assert found.exchange and found.exchange.request == Request("GET", "http://quay.test/")
    status, body, kept, problem = exchange
    response = found.exchange.response
    if response is None:
        assert (status, body.decode()) == (0, found.exchange.error)
    else:
        assert (response.status, response.body, response.body_kept, response.problem) == (
            status,
            body,
            kept,
            problem,
        )


CODERS: dict[str, Callable[[bytes], bytes]] = {
    "gzip": gzip.compress,
    "X-GZIP": gzip.compress,
    "deflate": zlib.compress,
    "Identity": lambda data: data,
    "deflate ": lambda data: zlib.compress(data, wbits=-15),
}


@MANY
@given(
    st.binary(min_size=1, max_size=200), st.lists(st.sampled_from(sorted(CODERS)), max_size=3), st.booleans()
)
def test_content_codings_are_undone_from_the_last_to_the_first(
    data: bytes, names: list[str], lines: bool
) -> None:
    body = data
    for name in names:
        body = CODERS[name](body)
    fields = [name.strip() for name in names] if lines else [", ".join(map(str.strip, names))]
    response = Response(200, "", tuple(("Content-Encoding", one) for one in fields), body)
    found = decoded(response, 10_000)
    assert (found.body, found.problem, found.truncated) == (data, "", False)
    if any(name != "Identity" for name in names):
        cut = decoded(
            replace(response, body=CODERS["gzip"](b"x" * 5_000), headers=(("Content-Encoding", "gzip"),)),
            1_000,
        )
        assert cut.truncated and cut.body == b"x" * 1_000
        broken = decoded(
            replace(response, body=b"\x00" + body, headers=(("Content-Encoding", "gzip"),)), 1_000
        )
        assert "not gzip" in broken.problem and broken.body == b"\x00" + body
    other = decoded(replace(response, headers=(("Content-Encoding", "br"),)), 10)
    assert "'br'" in other.problem and other.body == body


@MANY
@given(
    st.text(max_size=20),
    st.sampled_from(
        ["utf-8", "UTF8", "iso-8859-1", "windows-1252", "utf-16", "shift_jis", "us-ascii", "cp037"]
    ),
)
def test_a_text_is_read_in_the_charset_it_was_written_in(text: str, charset: str) -> None:
    try:
        expected = text.encode(charset)
    except UnicodeEncodeError:
        with pytest.raises(NotInCharset):
            encode_text(text, charset)
        return
    assert encode_text(text, charset) == expected
    assert decode_text(expected, charset) == expected.decode(charset)


@pytest.mark.parametrize(
    "charset",
    [
        "",
        "nonsense",
        "undefined",
        "hex",
        "base64",
        "rot13",
        "zlib",
        "idna",
        "punycode",
        "unicode_escape",
        "raw-unicode-escape",
        "a\x00b",
        "é",
        "x" * 500,
    ],
)
def test_what_is_no_charset_of_a_message_is_refused(charset: str) -> None:
    for call in (lambda: decode_text(b"ab", charset), lambda: encode_text("ab", charset)):
        with pytest.raises(NotInCharset) as found:
            call()
        assert len(str(found.value)) < 100


_TYPES = [
    "*/*",
    "text/*",
    "text/csv",
    "text/csv; header=present",
    "text/csv; header=absent",
    "application/json",
    "application/*",
    "no type",
    "",
]


@MANY
@given(
    st.lists(st.sampled_from(_TYPES), max_size=6),
    st.sampled_from(
        ["text/csv", "TEXT/CSV; Header=Present; charset=x", "application/json", "image/png", "/", "a b/c"]
    ),
)
def test_the_closest_range_wins_and_of_equals_the_first(declared: list[str], actual: str) -> None:
    """RFC 9110, section 12.5.1: the most specific range that applies has precedence."""
    wanted = parse_media_type(actual)
    rank = {
        "*/*": 1,
        "text/*": 2,
        "application/*": 2,
        "text/csv": 3,
        "application/json": 3,
        "text/csv; header=present": 4,
    }
    covers = {
        "text/csv": ["*/*", "text/*", "text/csv"],
        "application/json": ["*/*", "application/*", "application/json"],
        "image/png": ["*/*"],
        "TEXT/CSV; Header=Present; charset=x": ["*/*", "text/*", "text/csv", "text/csv; header=present"],
    }.get(actual, [])
    fitting = [index for index, one in enumerate(declared) if one in covers]
    expected = max(fitting, key=lambda index: (rank[declared[index]], -index)) if fitting else None
    assert best_match(declared, actual) == expected
    for index in fitting:
        found = parse_media_type(declared[index])
        assert found and wanted and closeness(found, wanted) == rank[declared[index]]


@MANY
@given(st.ip_addresses())
@example(ipaddress.ip_address("::ffff:10.0.0.1"))
@example(ipaddress.ip_address("169.254.169.254"))
@example(ipaddress.ip_address("224.0.0.1"))
def test_private_addresses_are_refused_unless_the_host_was_named(address: Any) -> None:
    inner = getattr(address, "ipv4_mapped", None) or address
    public = inner.is_global and not address.is_multicast
    assert is_public(str(address)) is public and is_public(f"{address}%eth0") is public
    refuse_private("quay.test", [str(address)], lambda host: host == "quay.test")
    if public:
        refuse_private("quay.test", [str(address)], lambda host: False)
    else:
        with pytest.raises(Refused, match=re.escape(f"quay.test is at {address}")):
            refuse_private("quay.test", ["192.0.9.1", str(address)], lambda host: False)
    for text in (str(address), f"[{address}]"):
        assert split_address(text) == (str(address), 0) or (":" in text and "[" not in text)
    bracketed = f"[{address}]" if address.version == 6 else str(address)
    assert split_address(f"{bracketed}:8443") == (str(address), 8443)


def test_a_secret_in_a_url_is_hidden_as_it_is_sent() -> None:
    redactor = Redactor.of([SECRET])
    for form in (quote(SECRET, safe=""), SECRET.replace(" ", "%20"), urlencode({"k": SECRET})[2:]):
        assert "hawser" not in redactor.url(f"http://user:pw@quay.test/{form}?k={form}#x") or "%20" in form
    assert redactor.url("https://me:pw@quay.test/a?b=c@d") == "https://quay.test/a?b=c@d"
