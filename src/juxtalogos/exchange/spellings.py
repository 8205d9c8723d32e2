"""The ways in which a secret may stand in a message: every form that decodes back to it."""

from __future__ import annotations

import base64
import quopri
import re
from collections.abc import Iterator
from dataclasses import dataclass
from functools import cached_property
from html import unescape
from urllib.parse import unquote, unquote_plus

_MIN_CODED = 7
"""Bytes below which a secret has too few characters in Base64 or hexadecimal to be told from chance."""
_SHORT_ESCAPES = {
    '"': '\\"',
    "\\": "\\\\",
    "/": "\\/",
    "\b": "\\b",
    "\f": "\\f",
    "\n": "\\n",
    "\r": "\\r",
    "\t": "\\t",
    "'": "\\'",
}
_ENTITIES = {"&": "amp", "<": "lt", ">": "gt", '"': "quot", "'": "apos"}
_WIDE = ("utf-16-le", "utf-16-be", "utf-32-le", "utf-32-be")
_BETWEEN = r"(?:<!--(?:(?!-->).){0,200}-->|\]\]><!\[CDATA\[|<!\[CDATA\[|\]\]>|=\r?\n){0,4}"
"""What may part a text of XML, or one in quoted-printable, without changing what it says."""
_MARKERS = ("\\", "%", "&", "<!", "~", "+", "]]>")
_QUOTED_PRINTABLE = re.compile(r"=(?:[0-9A-F]{2}|\r?\n)")


def has_escapes(text: str) -> bool:
    """Whether anything in a text may stand for something else."""
    return any(map(text.__contains__, _MARKERS)) or _QUOTED_PRINTABLE.search(text) is not None


@dataclass(frozen=True)
class Spelled:
    """One secret, with what it is searched by."""

    secret: str

    @cached_property
    def plain(self) -> tuple[str, ...]:
        """The texts that are searched as they stand: itself, hexadecimal, and what Base64 makes of it
        wherever it begins in a longer text.
        """
        found = {self.secret: None}
        data = self.secret.encode("utf-8", "surrogatepass")
        if len(data) >= _MIN_CODED:
            codings = [
                data,
                *(self.secret.encode(name, "surrogatepass") for name in ("utf-16-le", "utf-16-be")),
            ]
            found |= {data.hex(): None, data.hex().upper(): None}
            once = [core for coded in codings for core in _base64(coded)]
            twice = [core for inner in _base64(data) for core in _base64(inner.encode())]
            found |= dict.fromkeys((*once, *twice, *_base32(data)))
        return tuple(found)

    @cached_property
    def parted(self) -> tuple[re.Pattern[str], ...]:
        """Hexadecimal with something between the bytes, in small letters and in capitals."""
        data = self.secret.encode("utf-8", "surrogatepass")
        if len(data) < _MIN_CODED:
            return ()
        pairs = [f"{byte:02x}" for byte in data]
        between = r"[\s:,;.\-_]{1,3}(?:0[xX]|\\x)?"
        return tuple(re.compile(between.join(form)) for form in (pairs, [pair.upper() for pair in pairs]))

    @cached_property
    def raw(self) -> tuple[bytes, ...]:
        """The bytes that are searched as they stand, in every charset."""
        found = {text.encode("utf-8", "surrogatepass"): None for text in self.plain}
        for name in ("latin-1", "cp1252", *_WIDE):
            try:
                found[self.secret.encode(name)] = None
            except UnicodeEncodeError:
                continue
        return tuple(found)

    @cached_property
    def escaped(self) -> re.Pattern[str]:
        """Each character as it stands or in any escape, one by one."""
        return re.compile(_BETWEEN.join(map(_character, self.secret)), re.DOTALL)

    @cached_property
    def beginnings(self) -> tuple[str, ...]:
        """The texts of which a beginning may be all that a message has room for."""
        from html import escape
        from json import dumps
        from urllib.parse import quote

        forms = (
            self.secret,
            dumps(self.secret)[1:-1],
            dumps(self.secret, ensure_ascii=False)[1:-1],
            quote(self.secret, safe=""),
            quote(self.secret),
            escape(self.secret),
            repr(self.secret)[1:-1],
        )
        return tuple(dict.fromkeys(forms))


def _character(char: str) -> str:
    """A pattern of one character in every spelling."""
    forms = [re.escape(char)]
    if char in _SHORT_ESCAPES:
        forms.append(re.escape(_SHORT_ESCAPES[char]))
    code = ord(char)
    units = [code] if code < 0x10000 else [0xD800 + (code - 0x10000 >> 10), 0xDC00 + (code & 0x3FF)]
    forms.append("".join(rf"\\u{_any_case(f'{unit:04x}')}" for unit in units))
    forms.append(
        "".join(rf"(?:%|\\x|=){_any_case(f'{byte:02x}')}" for byte in char.encode("utf-8", "surrogatepass"))
    )
    forms.append(rf"\\U{_any_case(f'{code:08x}')}")
    if code < 0x100 and not char.isascii():
        forms.append(rf"(?:%|\\x){_any_case(f'{code:02x}')}")
    forms.append(rf"&#0{{0,6}}{code};")
    forms.append(rf"&#[xX]0{{0,6}}{_any_case(f'{code:x}')};")
    if char in _ENTITIES:
        forms.append(f"&{_ENTITIES[char]};")
    if char == " ":
        forms.append(r"\+")
    if char in "~/":
        forms.append("~0" if char == "~" else "~1")
    return f"(?:{'|'.join(forms)})"


def _any_case(digits: str) -> str:
    return "".join(f"[{digit}{digit.upper()}]" if digit.isalpha() else digit for digit in digits)


def _base32(data: bytes) -> Iterator[str]:
    """The same for Base32 (RFC 4648), whose groups are of five bytes."""
    for before in range(5):
        coded = base64.b32encode(bytes(before) + data).decode()
        core = coded[-(-8 * before // 5) : 8 * (before + len(data)) // 5]
        yield core
        yield core.lower()


def _base64(data: bytes) -> Iterator[str]:
    """What is the same in every Base64 of a longer text with these bytes in it, for each of the three places
    where they may begin.
    """
    for before in range(3):
        coded = base64.b64encode(bytes(before) + data).decode()
        core = coded[(0, 2, 3)[before] : 8 * (before + len(data)) // 6]
        yield core
        yield core.replace("+", "-").replace("/", "_")


_JSON = re.compile(r"\\(?:u([0-9a-fA-F]{4})|x([0-9a-fA-F]{2})|U(000[0-9a-fA-F]{5})|(.))", re.DOTALL)
_BYTES = re.compile(r"(?:\\x[0-9a-fA-F]{2})+")
_PARTING = re.compile(r"<!--(?:(?!-->).){0,200}-->|<!\[CDATA\[|\]\]>", re.DOTALL)
_LETTERS = {"b": "\b", "f": "\f", "n": "\n", "r": "\r", "t": "\t"}


def views(text: str) -> Iterator[str]:
    """What a text says, read by each kind of escape that it has in it, and by one within another."""
    read = _unescaped(text) if "\\" in text else text
    if read is not text:
        yield read
        if "\\x" in text:
            yield _BYTES.sub(_utf8, text)
    if _QUOTED_PRINTABLE.search(text):
        yield quopri.decodestring(text.encode("utf-8", "surrogatepass")).decode("utf-8", "replace")
    for one in dict.fromkeys((text, read)):
        if "%" in one:
            found = unquote(one, errors="surrogateescape")
            yield found
            yield unquote(found, errors="surrogateescape")
        if "+" in one:
            yield unquote_plus(one, errors="surrogateescape")
        if "&" in one or "<!" in one or "]]>" in one:
            yield unescape(_PARTING.sub("", one))
        if "~" in one:
            yield one.replace("~1", "/").replace("~0", "~")


def _utf8(found: re.Match[str]) -> str:
    """What bytes say that are told one by one."""
    return bytes.fromhex(found[0].replace("\\x", "")).decode("utf-8", "replace")


def _unescaped(text: str) -> str:
    """With the escapes of JSON resolved, and those of Python's own texts."""

    def plain(found: re.Match[str]) -> str:
        code = found[1] or found[2] or found[3]
        if code is None:
            return _LETTERS.get(found[4], found[4])
        number = int(code, 16)
        return chr(number) if number < 0x110000 else found[0]

    read = _JSON.sub(plain, text)
    try:  # two halves of a character become one
        return read.encode("utf-16", "surrogatepass").decode("utf-16", "surrogatepass")
    except UnicodeError:
        return read


_AROUND = 16
"""Quotes and brackets that may stand around a text that was cut."""


def cut_off(text: str, forms: tuple[str, ...], least: int) -> Iterator[tuple[int, int]]:
    """(from, to) of a beginning of a form, at least so many characters, where the text was cut at its end or
    before an ellipsis; and of an end of one where it was cut at its start, or after an ellipsis.
    """
    size, room = len(text), max(map(len, forms), default=0) + _AROUND
    whole = "…" in text or size <= 2 * room  # else only the two ends can be where it was cut
    head, tail = (text, text) if whole else (text[:room], text[-room:])
    yield from (
        (size - len(tail) + start, size - len(tail) + end) for start, end in _begun(tail, forms, least)
    )
    mirrored = _begun(head[::-1], tuple(form[::-1] for form in forms), least)
    yield from ((len(head) - end, len(head) - start) for start, end in mirrored)


def _begun(text: str, forms: tuple[str, ...], least: int) -> Iterator[tuple[int, int]]:
    forms = tuple(form for form in forms if form[:least] in text)
    if not forms:
        return
    ends = {len(text.rstrip("…\"' )]}([{"))} | {found.start() for found in re.finditer("…", text)}
    for end in ends:
        for form in forms:
            longest = min(len(form), end)
            for length in range(longest, least - 1, -1):
                if text.startswith(form[:length], end - length):
                    yield end - length, end
                    break
