"""ECMA-262 patterns: semantics, generated texts, and that none can hang."""

from __future__ import annotations

import contextlib
import time

import pytest

from juxtalogos.schema.patterns import PatternError, PatternTimeout, compile_pattern, matching_texts

TABLE = [
    # pattern, matching, not matching
    (r"^\d+$", ["0", "42"], ["٣", "", "4a"]),
    (r"^\w+$", ["a_1"], ["é", "a-b"]),
    (r"^\s$", ["\u00a0", "\ufeff", "\u2028", " "], ["x", "\u200b"]),
    (r"^\S\D\W$", ["aa-"], ["a1-", " a-"]),
    (r"^[\d\s]+$", ["1 2"], ["a"]),
    (r"^[^\d]$", ["a", "\n"], ["1"]),
    (r"^.$", ["a", "🚢"], ["\n", "\u2028", "ab"]),
    (r"a$", ["a", "ba"], ["a\n"]),
    (r"^(?=.*[a-z])(?=.*\d).{4,}$", ["abc1"], ["abcd", "a1"]),
    (r"^(?!V-)\w-\d$", ["B-1"], ["V-1"]),
    (r"(?<=B)\d", ["B4"], ["C4"]),
    (r"(?<!B)\d", ["C4"], ["B4"]),
    (r"^(.)\1$", ["aa"], ["ab"]),
    (r"^(?<q>['\"]).*\k<q>$", ["'x'", '"x"'], ["'x\""]),
    (r"^\u0041\x42\u{43}$", ["ABC"], ["abc"]),
    (r"^\ud83d\udea2$", ["🚢"], ["x"]),
    (r"^\p{L}+$", ["été", "Ω"], ["1"]),
    (r"^\P{Lu}+$", ["abc1"], ["Abc"]),
    (r"^\p{Script=Greek}$", ["Ω"], ["O"]),
    (r"^[\p{Lu}\-]+$", ["A-B"], ["a"]),
    (r"\bB4\b", ["berth B4 here", "B4"], ["AB45"]),
    (r"^a{2,3}?$", ["aa", "aaa"], ["a", "aaaa"]),
    (r"^a{,3}$", ["a{,3}"], ["aa"]),
    (r"^[]$", [], ["", "x"]),
    (r"^[^]$", ["\n", "x"], [""]),
    (r"^[\b]$", ["\b"], ["b"]),
    (r"^\cJ$", ["\n"], ["J"]),
    (r"^\/\-\.$", ["/-."], ["/--"]),
    (r"^(?:a|b|)c$", ["ac", "bc", "c"], ["abc"]),
    (r"^[+--]$", ["+", ",", "-"], ["."]),
    (r"^x*$", ["", "xx"], ["y"]),
]


@pytest.mark.parametrize(("source", "matching", "other"), TABLE)
def test_semantics(source: str, matching: list[str], other: list[str]) -> None:
    pattern = compile_pattern(source)
    assert [text for text in matching if not pattern.search(text)] == []
    assert [text for text in other if pattern.search(text)] == []
    if matching:
        made = [text for text in matching_texts(pattern.tree, least=2) if pattern.search(text)]
        assert made or "(?" in source, "no matching text was generated"


@pytest.mark.parametrize(
    "source",
    [
        "(",
        "[",
        "a)",
        "*",
        "a{3,2}",
        "(?<n>",
        "(?x)",
        "\\",
        "[b-a]",
        r"\k<no>",
        r"\u{110000}",
        "(" * 200 + ")" * 200,
    ],
)
def test_what_is_no_pattern_is_told(source: str) -> None:
    with pytest.raises(PatternError):
        compile_pattern(source)


@pytest.mark.parametrize(
    "source",
    [
        r"^(a+)+$",
        r"^(a|a)*$",
        r"^(?=x?)(a|aa)+$",
        r"^(a+)\1+$",
        r"^((a*)*)*\2$",
        r"(.*a){20}",
        r"^(\w+\s?)+$",
    ],
)
def test_no_pattern_hangs(source: str) -> None:
    started = time.perf_counter()
    with contextlib.suppress(PatternTimeout):
        compile_pattern(source).search("a" * 3000 + "!")
    assert time.perf_counter() - started < 5


def test_plain_engine_agrees_where_it_is_used() -> None:
    used = 0
    for source, matching, other in TABLE:
        pattern = compile_pattern(source)
        plain = pattern.plain_search()
        used += plain is not None
        for text in [*matching, *other, "", "a\n", "B4 " * 50] if plain else []:
            assert bool(plain(text)) is pattern.search(text), (source, text)
    assert used >= 12


@pytest.mark.parametrize(
    ("source", "harmless"),
    [
        (r"^[A-Z]{3}-\d{4}$", True),
        (r"^\d+$", True),
        (r"^\d+-\d+$", True),
        (r"^(?:a|b)\d*$", True),
        (r"x{3}y?z", True),
        (r"^(\d{2}){3}$", True),
        (r"^\w+@\w+\.[a-z]{2,3}$", True),
        (r"^\d*\d*$", False),
        (r"\d+x", False),
        (r"^(a+)+$", False),
        (r"^(a|a)*$", False),
        (r"^.*,.*$", False),
        (r"^(a|b|c){9}$", False),
        (r"^\d+\b\d$", False),
        (r"^(?=a)b$", False),
        (r"^(.)\1$", False),
        (r"^a{5000}$", False),
        (r"^\d*[1-9]?$", False),
        (r"^\d*a?\d$", False),
    ],
)
def test_which_patterns_are_proven_harmless(source: str, harmless: bool) -> None:
    assert (compile_pattern(source).plain_search() is not None) is harmless
