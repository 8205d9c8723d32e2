"""One message taken apart: its method and path, and what in it may be another time another: the inputs, by
address.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from typing import Any
from urllib.parse import parse_qsl, unquote, unquote_plus, urlsplit

from juxtalogos.conventions.naming import singular
from juxtalogos.exchange.media import parse_media_type
from juxtalogos.exchange.redact import is_credential
from juxtalogos.formats.http.templates import canonical, template
from juxtalogos.model.document import Document
from juxtalogos.model.schema import ABSENT

_OWN = frozenset(
    (
        "host",
        "content-length",
        "content-type",
        "transfer-encoding",
        "connection",
        "user-agent",
        "cookie",
        "accept-encoding",
    )
)
"""Fields that are the sender's, not the caller's."""
_QUERY_KEYS = frozenset(("api_key", "apikey", "api-key", "access_token", "auth_token", "token"))
_VERSION = re.compile(r"v?\d{1,3}(\.\d{1,3}){0,3}", re.IGNORECASE)
"""A part that is a version: `v2` anywhere, a number where a path begins with it."""
_SCHEMES = frozenset((b"basic", b"bearer", b"digest", b"dpop", b"negotiate"))
"""Words before a credential that say how it signs."""
MOST_INPUTS = 500


@dataclass(frozen=True, slots=True)
class Given:
    """A value that a message gives, and where in its document."""

    value: Any
    pointer: str


@dataclass(frozen=True, slots=True)
class Message:
    uri: str
    method: str
    path: str
    """A template."""
    inputs: Mapping[str, Given]
    """By address."""
    content_type: str
    body: Any
    signs: tuple[tuple[str, str], ...]
    """(place, name) of each field or parameter that carries a credential; of `Authorization` its scheme as
    well."""

    @property
    def operation_id(self) -> str:
        return f"{self.method} {self.path}"


def taken_apart(document: Document) -> Message:
    """The parts of a message document; what is no credential and not the sender's own is an input."""
    value = document.value
    parts = urlsplit(value["target"])
    path = path_template(document.uri, parts.path or "/")
    found: dict[str, Given] = {}
    for name, text in (template(path).values(canonical(parts.path or "/")) or {}).items():
        found[f"path.{name}"] = Given(unquote(text), "/target")
    signs: list[tuple[str, str]] = []
    for name, text in _query(parts.query):
        if is_query_key(name):
            signs.append(("query", name))
            continue
        before = found.get(f"query.{name}")
        if before is not None:
            text = [*(before.value if isinstance(before.value, list) else [before.value]), text]  # type: ignore[assignment]
        found[f"query.{name}"] = Given(text, "/target")
    content_type = ""
    for number, (name, text) in enumerate(value["fields"]):
        if name.lower() == "content-type":
            content_type = text
        elif name.lower() == "authorization":
            signs.append(("header", f"{name} {text.partition(' ')[0]}".strip()))
        elif (
            is_credential(name) and name.lower() != "cookie"
        ) or not text:  # where nothing stands a credential belongs
            signs.append(("header", name))
        elif name.lower() not in _OWN:
            found[f"header.{name}"] = Given(text, f"/fields/{number}")
    body = value.get("body", ABSENT)
    kind = parse_media_type(content_type)
    if isinstance(body, str) and kind is not None and kind.is_form:
        body = _form(body)
    return Message(
        document.uri, value["method"], path, found, content_type, body, tuple(dict.fromkeys(signs))
    )


def _query(text: str) -> Iterator[tuple[str, Any]]:
    """(name, value) of a query; None for a name without `=`, such as `?wsdl`. ValueError for too many."""
    pairs = parse_qsl(text, keep_blank_values=True, max_num_fields=MOST_INPUTS)
    bare = {unquote_plus(part) for part in text.split("&") if part and "=" not in part}
    for name, value in pairs:
        yield name, None if name in bare and not value else value


def is_query_key(name: str) -> bool:
    """Whether a parameter of that name carries a credential."""
    return name.lower() in _QUERY_KEYS


def _form(text: str) -> dict[str, Any]:
    found: dict[str, Any] = {}
    for name, value in parse_qsl(text, keep_blank_values=True, max_num_fields=MOST_INPUTS):
        if name in found:
            before = found[name]
            found[name] = [*(before if isinstance(before, list) else [before]), value]
        else:
            found[name] = value
    return found


def path_template(uri: str, path: str) -> str:
    """The template of a path: as the message's folder says it, where that fits; else parts with digits in
    them vary.
    """
    folder = "/" + uri.rpartition("/")[0]
    if template(folder).values(canonical(path)) is not None:
        return folder
    return guessed_template(path)


def guessed_template(path: str) -> str:
    """`/berths/B-12` is `/berths/{berth}`; a version such as `v1` stays."""
    done: list[str] = []
    taken: set[str] = set()
    for part in path.split("/"):
        version = _VERSION.fullmatch(part) and (part[0] in "vV" or len(done) == 1)
        varies = (
            (re.search(r"\d|%", part) and not version)
            or len(part) > 60
            or part.startswith(".")
            or "{" in part
        )
        done.append(f"{{{_name(done, taken)}}}" if varies else part)
    return "/".join(done)


def _name(before: list[str], taken: set[str]) -> str:
    """What varies is named after what it is one of."""
    last = next((part for part in reversed(before) if part and "{" not in part), "")
    base = name = re.sub(r"[^A-Za-z0-9_]+", "_", singular(unquote(last))).strip("_") or "part"
    number = 2
    while name in taken:
        name, number = f"{base}{number}", number + 1
    taken.add(name)
    return name


def without_secrets(data: bytes) -> tuple[bytes, list[int]]:
    """(a message without the credentials and cookies in it, the lines on which they stood)."""
    head, gap, body = _parted(data)
    lines = re.split(rb"\r?\n", head)
    found = list(_cleaned(lines))
    if all(one is not None and one == line for one, line in zip(found, lines)):
        return data, []
    kept = b"\r\n".join(item for item in found if item is not None)
    return kept + (gap or b"\r\n\r\n") + body, [
        number for number, (one, line) in enumerate(zip(found, lines), 1) if one != line
    ]


def _parted(data: bytes) -> tuple[bytes, bytes, bytes]:
    found = re.search(rb"\r?\n\r?\n", data)
    return (
        (data[: found.start()], found.group(), data[found.end() :])
        if found
        else (data.rstrip(b"\r\n"), b"", b"")
    )


def _cleaned(lines: list[bytes]) -> Iterator[bytes | None]:
    yield re.sub(rb"([?&])([^=&\s]+)=[^&\s]+", _without_value, lines[0])
    for line in lines[1:]:
        name, _, value = line.partition(b":")
        lowered = name.strip().lower().decode("latin-1")
        if lowered == "cookie":
            yield None
        elif lowered in ("authorization", "proxy-authorization"):
            word = value.strip().partition(b" ")[0]
            kept = name + (b": " + word if word.lower() in _SCHEMES else b":")
            yield line if line.strip() == kept else kept
        elif is_credential(lowered):
            yield line if not value.strip() else name + b":"
        else:
            yield line


def _without_value(found: re.Match[bytes]) -> bytes:
    name = unquote(found[2].decode("latin-1"))
    return found[1] + found[2] + b"=" if is_query_key(name) else found[0]
