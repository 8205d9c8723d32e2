"""Documents: YAML 1.2 as JSON values, hostile texts, and where a value stands."""

from __future__ import annotations

import json
from typing import Any

import pytest
import yaml
from hypothesis import given
from hypothesis import strategies as st

from juxtalogos.documents.jsontext import NotJson, parse_json
from juxtalogos.documents.load import load_document
from juxtalogos.documents.positions import lines, position
from juxtalogos.model.errors import DocumentError


@pytest.mark.parametrize(
    ("text", "value"),
    [
        ("a: no\nb: on\nc: yes\nd: ~\ne: null", {"a": "no", "b": "on", "c": "yes", "d": None, "e": None}),
        (
            "d: 2026-03-14\nt: 12:30\nn: 1_000\no: 0o17\nh: 0x1F\nl: 017",
            {"d": "2026-03-14", "t": "12:30", "n": "1_000", "o": 15, "h": 31, "l": 17},
        ),
        ("200: {a: 1}\ntrue: 2\n1.50: 3", {"200": {"a": 1}, "true": 2, "1.50": 3}),
        ("f: 1e3\ng: .5\nm: -2.50", {"f": 1000.0, "g": 0.5, "m": -2.5}),
        ("a: &x {k: 1}\nb: *x", {"a": {"k": 1}, "b": {"k": 1}}),
        ("<<: 1\n=: 2", {"<<": 1, "=": 2}),
        ('{"a": [1, {"b": null}]}', {"a": [1, {"b": None}]}),
        ("{a: 1}", {"a": 1}),
    ],
)
def test_values(text: str, value: Any) -> None:
    assert load_document("x.yaml", text.encode()).value == value


_BOMB = "a: &a [x, x, x, x, x, x, x, x, x, x]\n" + "".join(
    f"{chr(98 + n)}: &{chr(98 + n)} [{', '.join(['*' + chr(97 + n)] * 10)}]\n" for n in range(8)
)


@pytest.mark.parametrize(
    ("data", "words"),
    [
        (b"a: [1", "x.yaml"),
        (b"a: 1\na: 2", "x.yaml:2: not YAML: the key 'a' stands twice"),
        (b"[" * 100_000, "not YAML"),
        (b"- " * 100_000, "nested deeper"),
        (b"a: &a [*a]", "inside its own anchor"),
        (_BOMB.encode(), "aliases expand"),
        (b"? [a, b]\n: 1", "cannot be a key"),
        (b"\xff\xfe", "not UTF-8"),
        (b"<!DOCTYPE html><html>", "this is HTML"),
        (b"<definitions>", "not XML: no element found"),
        (b'<!DOCTYPE d [<!ENTITY a "b">]><d>&a;</d>', "a document type (DOCTYPE) is not accepted"),
        (
            '<?xml version="1.0"?><!DOCTYPE d><d/>'.encode("utf-16"),
            "a document type (DOCTYPE) is not accepted",
        ),
        (b"<a>" * 100_000 + b"</a>" * 100_000, "nested deeper than 400 levels"),
        (b'<?xml version="1.0" encoding="nonesuch"?><a/>', "unknown encoding"),
        (b"<a>\xff</a>", "not well-formed"),
        (b"x: " + b"9" * 5000, "too many digits"),
        (b"a: !!python/object:os.system x", ""),
    ],
)
def test_hostile_or_broken_texts_end_in_one_message(data: bytes, words: str) -> None:
    if not words:  # an unknown tag makes no object: the text stays a text
        assert load_document("x.yaml", data).value == {"a": "x"}
        return
    with pytest.raises(DocumentError) as caught:
        load_document("x.yaml", data)
    assert words in str(caught.value)


def test_json_is_exact() -> None:
    assert parse_json("[12345678901234567890123, 1.0, 1e2]") == [12345678901234567890123, 1.0, 100.0]
    assert parse_json(b"\xef\xbb\xbf[1]") == [1]
    for bad in ("NaN", "[1,]", '{"a":1', "", "[" * 100_000, "01", "1" * 5000):
        with pytest.raises(NotJson):
            parse_json(bad)
    with pytest.raises(NotJson, match="twice"):
        parse_json('{"a": 1, "a": 2}', unique=True)
    with pytest.raises(DocumentError, match=r"x\.json:2"):
        load_document("x.json", b'{"a": 1,\n "b" 2}')


def test_positions() -> None:
    yaml_document = load_document("x.yaml", b"paths:\n  /berths/{id}:\n    get:\n      tags: [a, b]\n")
    json_document = load_document("x.json", b'{"paths": {\n "/a~b": [1, {"k": "},{"}],\n  "z": 2}}')
    cases = [
        (yaml_document, "/paths/~1berths~1{id}/get", (3, 5)),
        (yaml_document, "/paths/~1berths~1{id}/get/tags/1", (4, 17)),
        (yaml_document, "/paths/nowhere", (1, 1)),
        (json_document, "/paths/~1a~0b/1/k", (2, 15)),
        (json_document, "/paths/z", (3, 3)),
        (json_document, "", (1, 1)),
    ]
    for document, pointer, (line, column) in cases:
        found = position(document, pointer)
        assert (found.line, found.column) == (line, column), pointer


def test_a_definition_on_one_long_line_is_shown_formatted() -> None:
    text = '{"info": {"title": "' + "x" * 2000 + '"}, "paths": {"/q": {}}}'
    document = load_document("x.json", text.encode())
    found = position(document, "/paths/~1q")
    assert found.line > 1
    assert '"/q"' in lines(document)[found.line - 1]


MERGES = """\
base: &base
  get: {a: 1}
  put: 2
other: &other {put: 3, post: 4}
one:
  first: x
  <<: *base
  put: own
list:
  <<: [*base, *other]
inline:
  <<: {z: 1}
  y: 2
quoted: {"<<": 1}
none: {<<: 5}
deep:
  <<: {<<: *base, q: 1}
"""


def test_merge_keys_are_honoured_with_their_places() -> None:
    """The mapping's own members stand over merged ones, earlier ones over later; lines are those of where
    each was written.
    """
    document = load_document("m.yaml", MERGES.encode())
    value = document.value
    assert value["one"] == {"first": "x", "get": {"a": 1}, "put": "own"}
    assert value["list"] == {"get": {"a": 1}, "put": 2, "post": 4} and value["inline"] == {"z": 1, "y": 2}
    assert value["deep"] == {"get": {"a": 1}, "put": 2, "q": 1}
    assert value["quoted"] == {"<<": 1} and value["none"] == {"<<": 5}
    for pointer, line in {
        "/base/put": 3,
        "/one": 5,
        "/one/first": 6,
        "/one/get": 2,
        "/one/get/a": 2,
        "/one/put": 8,
        "/list": 9,
        "/list/get/a": 2,
        "/list/post": 4,
        "/inline/z": 12,
        "/inline/y": 13,
        "/quoted": 14,
        "/none": 15,
        "/deep/put": 3,
        "/deep/q": 17,
    }.items():
        assert position(document, pointer).line == line, pointer
    assert document.parsed.marks and document.parsed.marks.merged == "/one"


@given(
    st.recursive(
        st.integers(0, 9) | st.text("abc", max_size=3),
        lambda inner: st.dictionaries(st.text("abcd", min_size=1, max_size=2), inner, max_size=4),
        max_leaves=12,
    ),
    st.dictionaries(st.text("abcd", min_size=1, max_size=2), st.integers(0, 9), max_size=4),
)
def test_merges_are_as_an_independent_reader_has_them(base: object, own: dict[str, int]) -> None:
    if not isinstance(base, dict):
        return
    text = (
        "base: &b "
        + json.dumps(base)
        + "\nuse:\n  <<: *b\n"
        + "".join(f"  {json.dumps(key)}: {value}\n" for key, value in own.items())
        + "after: 7\n"
    )
    document = load_document("m.yaml", text.encode())
    assert document.value == yaml.safe_load(text)
    assert position(document, "/after").line == text.count("\n")
