"""Where a body holds the value of a named field: JSON, forms, multipart forms and XML, in the spellings that
each allows.

Bodies are hostile: each pattern takes time in proportion to the body, so repetitions across its own beginning
are counted.
"""

from __future__ import annotations

import json
import re
from collections.abc import Callable, Collection, Iterable
from functools import lru_cache

Spelling = Callable[[str], str]
_REWRITTEN = frozenset(' "\\')
"""Characters that have other spellings than `%20` and `\\u0020`."""


def mask_fields(body: bytes, names: Collection[str], mask: str) -> bytes:
    """A body with the values of named fields masked; the same object when it has none.

    Texts, numbers and lists of them are values of JSON; an object is not, its own fields have names.
    """
    if not names:
        return body  # bodies may be large: nothing is copied for nothing
    lowered = body.lower()
    escaped = b"%" in body or b"\\u" in body
    for name in names:
        if (
            not escaped
            and name.isascii()
            and not set(name) & _REWRITTEN
            and name.lower().encode() not in lowered
        ):
            continue  # as in nearly every body
        for pattern, put in _patterns(name, mask):
            if pattern.search(body):
                body = pattern.sub(put, body)
    return body


@lru_cache(maxsize=256)
def _patterns(name: str, mask: str) -> tuple[tuple[re.Pattern[bytes], bytes], ...]:
    """Patterns in which group 1 comes before the value and group 2, if any, behind it."""
    masked, quoted = mask.encode(), b'"' + mask.encode() + b'"'
    text = rb'"(?:[^"\\]|\\.)*"'
    number = rb"-?\d[\d.eE+-]*"
    value = rb"(?:" + text + rb"|" + number + rb"|\[(?:[^\[\]{}\"]|" + text + rb")*\])"
    json_name = _spelled(name, _itself, _json, _json_code)
    form_name = _spelled(name, _itself, _percent, _plus)
    plain = _spelled(name, _itself)
    apart = rb"(?:[^<]*(?:<!\[CDATA\[(?:[^<\]]|<(?!!\[CDATA\[)|\](?!\]>))*\]\]>|<!--[^<>]*-->)){0,3}[^<]*"
    made = (
        (rb'("' + json_name + rb'"\s*:\s*)' + value, rb"\g<1>" + quoted),
        (rb"((?:^|[&?])" + form_name + rb"=)[^&\r\n]*", rb"\g<1>" + masked),
        (
            rb"(^Content-Disposition:[^\r\n]*;\s*name=\"?"
            + plain
            + rb"\"?(?:;[^\r\n]*)?\r\n(?:[^\r\n]+\r\n){0,20}\r\n)"
            rb"[^\r\n]*(?:\r\n(?!--)[^\r\n]*){0,200}",
            rb"\g<1>" + masked,
        ),
        (
            rb"(<(?:[\w.-]+:)?"
            + plain
            + rb"(?:\s[^<>]*)?(?<!/)>)"
            + apart
            + rb"(</(?:[\w.-]+:)?"
            + plain
            + rb"\s*>)",
            rb"\g<1>" + masked + rb"\g<2>",
        ),
        (
            rb"(<[^<>!?/][^<>]*?\s(?:[\w.-]+:)?" + plain + rb"\s*=\s*)(?:\"[^\"<]*\"|'[^'<]*')",
            rb"\g<1>" + quoted,
        ),
    )
    return tuple((re.compile(pattern, re.IGNORECASE | re.MULTILINE), put) for pattern, put in made)


def _spelled(name: str, *spellings: Spelling) -> bytes:
    """A pattern of a name, each character in any spelling, large or small."""
    return b"".join([_one_of(char, spellings) for char in name])


def _one_of(char: str, spellings: Iterable[Spelling]) -> bytes:
    forms = {spelling(form) for form in (char, char.lower(), char.upper()) for spelling in spellings}
    found = sorted({re.escape(form.encode("utf-8", "surrogatepass")) for form in forms})
    return found[0] if len(found) == 1 else b"(?:" + b"|".join(found) + b")"


def _itself(char: str) -> str:
    return char


def _json(char: str) -> str:
    return json.dumps(char)[1:-1]


def _json_code(char: str) -> str:
    return f"\\u{ord(char):04x}" if ord(char) < 0x10000 else char


def _percent(char: str) -> str:
    return "".join(f"%{byte:02X}" for byte in char.encode("utf-8", "surrogatepass"))


def _plus(char: str) -> str:
    return "+" if char == " " else char
