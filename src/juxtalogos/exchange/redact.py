"""Redaction: the one door to ledger, log, report and terminal. Pure functions."""

from __future__ import annotations

import codecs
import re
from collections import deque
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field, replace
from urllib.parse import unquote_plus

from juxtalogos.exchange.media import parse_media_type
from juxtalogos.exchange.secret_fields import mask_fields
from juxtalogos.exchange.spellings import Spelled, cut_off, has_escapes, views
from juxtalogos.model.exchange import BodyForm, Exchange, Headers, Request, Response, header
from juxtalogos.model.findings import CheckResult

MASK = "[redacted]"
MIN_SECRET = 4
"""Shorter secrets are only hidden where a header or field is known to hold one: elsewhere they would blot out
everything."""
MIN_PASSING = 8
MIN_BEGINNING = 6
"""Characters of a beginning that is known again."""
MOST_PASSING = 64
_CREDENTIAL_HEADERS = frozenset(
    ("authorization", "proxy-authorization", "cookie", "set-cookie", "x-api-key", "x-auth-token", "api-key")
)
_WIDE = {codecs.BOM_UTF16_LE: "utf-16-le", codecs.BOM_UTF16_BE: "utf-16-be"}


@dataclass(slots=True)
class Redactor:
    """Knows the secret texts, and the names of headers, parameters and body fields that hold secrets.

    It may learn further ones.
    """

    secrets: dict[str, Spelled] = field(default_factory=dict)
    names: frozenset[str] = frozenset()
    passing: deque[Spelled] = field(default_factory=lambda: deque(maxlen=MOST_PASSING))
    """Those that hold for a while only: cookies, digests, tokens; the latest."""

    @classmethod
    def of(cls, secrets: Iterable[str], names: Iterable[str] = ()) -> Redactor:
        """A redactor that knows some secrets, and the names of what holds secrets."""
        found = cls(names=frozenset(name.lower() for name in names))
        for secret in secrets:
            found.learn(secret)
        return found

    def learn(self, secret: str) -> None:
        """A secret that came to be known while the program runs."""
        if len(secret) >= MIN_SECRET and secret not in self.secrets:
            longest_first = sorted([*self.secrets, secret], key=len, reverse=True)
            self.secrets = {one: self.secrets.get(one) or Spelled(one) for one in longest_first}

    def learn_passing(self, secret: str, least: int = MIN_PASSING) -> None:
        """A secret that holds for a while only; one of fewer characters than `least` is none."""
        if (
            len(secret) >= least
            and all(one.secret != secret for one in self.passing)
            and secret not in self.secrets
        ):
            self.passing.append(Spelled(secret))

    def learn_cookies(self, response: Response | None) -> None:
        """The values of the cookies that an answer sets, such as are no plain setting."""
        for name, value in response.headers if response else ():
            if name.lower() == "set-cookie":
                self.learn_passing(*_secret_cookie(value))

    def _all(self) -> Iterator[Spelled]:
        yield from self.secrets.values()
        yield from self.passing

    def text(self, text: str) -> str:
        """A text with known secrets masked, in whatever form they stand in it."""
        if not self.secrets and not self.passing:
            return text
        before = text
        for one in self.secrets.values():
            for form in one.plain:
                if form in text:
                    text = text.replace(form, MASK)
        for one in self.passing:
            if one.secret in text:
                text = text.replace(one.secret, MASK)
        text, left = self._in_text(text)
        text = left if left is not None else text
        return text if text != before else before

    def _in_text(self, text: str) -> tuple[str, str | None]:
        """What `_unescaped_masked` gives, with secrets masked that are told byte by byte."""
        for one in self.secrets.values():
            for pattern in one.parted:
                text = pattern.sub(MASK, text)
        return self._unescaped_masked(text) if has_escapes(text) else (text, None)

    def _unescaped_masked(self, text: str) -> tuple[str, str | None]:
        """(a text with secrets masked that stand in it in escapes, what it says with the others masked where
        there are such).
        """
        for view in views(text):
            for one in self._all():
                if one.secret in view:
                    masked = one.escaped.sub(MASK, text)
                    if masked == text:
                        return text, self._plainly(view)
                    text = masked
        return text, None

    def _plainly(self, text: str) -> str:
        for one in self._all():
            text = text.replace(one.secret, MASK)
        return text

    def cut_text(self, text: str) -> str:
        """The same for a text that may be cut off: a secret of which there was room for a beginning only is
        masked too.
        """
        return self._edges(self.text(text))

    def _edges(self, text: str) -> str:
        for one in self._all():
            for start, end in sorted(cut_off(text, one.beginnings, MIN_BEGINNING), reverse=True):
                text = text[:start] + MASK + text[end:]
        return text

    def body(self, body: bytes, content_type: str = "") -> bytes:
        """A body with known secrets, and the values of secret fields, masked."""
        return self.masked_body(body, content_type)[0]

    def masked_body(self, body: bytes, content_type: str = "") -> tuple[bytes, BodyForm]:
        """(the body as it may be kept, what of it that is): masked in place, or where that is not enough only
        what it says.
        """
        found = self._in_place(body)
        if self.secrets or self.passing:
            plain = decoded_text(found, content_type)
            said = self._said(*plain) if plain is not None else None
            if said is not None:
                return said.encode("utf-8", "surrogateescape"), BodyForm.DECODED
            # Under a charset that it is not in a body still says to its reader what it says.
            text = (
                plain[0] if plain is not None and not plain[1] else found.decode("utf-8", "surrogateescape")
            )
            masked, left = self._in_text(self._edges(text))
            if left is not None:
                return left.encode("utf-8", "surrogateescape"), BodyForm.DECODED
            if masked != text:
                return masked.encode("utf-8", "surrogateescape"), BodyForm.MASKED
        return (body, BodyForm.RAW) if found is body or found == body else (found, BodyForm.MASKED)

    def _in_place(self, body: bytes) -> bytes:
        if body[:2] in _WIDE:
            body = self._wide_body(body, _WIDE[body[:2]])
        for one in self.secrets.values():
            for form in one.raw:
                if form in body:
                    body = body.replace(form, _mask_for(form, one.secret))
        for one in self.passing:
            form = one.secret.encode("utf-8", "surrogatepass")
            if form in body:
                body = body.replace(form, MASK.encode())
        return mask_fields(body, self.names, MASK)

    def _said(self, text: str, coded: bool) -> str | None:
        """What a body in a charset of its own says, with secrets masked; None where none is left in it."""
        if not coded:
            return None
        masked = self.text(text)
        return masked if masked != text else None

    def _wide_body(self, body: bytes, codec: str) -> bytes:
        """A body of two bytes a character, which begins with a byte order mark."""
        plain = body.decode(codec, "surrogatepass" if len(body) % 2 == 0 else "replace").encode(
            "utf-8", "surrogatepass"
        )
        masked = mask_fields(plain, self.names, MASK)
        return (
            body
            if masked is plain
            else masked.decode("utf-8", "surrogatepass").encode(codec, "surrogatepass")
        )

    @property
    def is_idle(self) -> bool:
        """Whether only what always is a credential is hidden."""
        return not self.secrets and not self.passing and not self.names

    def url(self, url: str) -> str:
        """A URL without login, its secrets and secret parameters masked."""
        head, question, query = self.text(url).partition("?")
        if "@" in head:
            head = re.sub(r"^(\w+://)[^/@]*@", r"\1", head)
        if not self.names or not query:
            return head + question + query
        parts = [
            (
                f"{part.partition('=')[0]}={MASK}"
                if unquote_plus(part.partition("=")[0]).lower() in self.names
                else part
            )
            for part in query.split("&")
        ]
        return head + question + "&".join(parts)

    def headers(self, headers: Headers) -> Headers:
        """Header fields with credentials masked."""
        if not self.secrets and not self.passing and not any(self._secret(name) for name, _ in headers):
            return headers
        return tuple(
            (name, _mask_header(name, value) if self._secret(name) else self.text(value))
            for name, value in headers
        )

    def _secret(self, name: str) -> bool:
        return is_credential(name) or name.lower() in self.names

    def exchange(self, exchange: Exchange) -> Exchange:
        """The exchange as it may be kept and shown."""
        return self.exchange_with_forms(exchange)[0]

    def exchange_with_forms(self, exchange: Exchange) -> tuple[Exchange, BodyForm, BodyForm]:
        """(the exchange as it may be kept and shown, what of the request's and of the response's body that
        is).
        """
        request, response = exchange.request, exchange.response
        sent = came = BodyForm.RAW
        url, headers = self.url(request.url), self.headers(request.headers)
        body = request.body
        if body:
            body, sent = self.masked_body(body, header(request.headers, "content-type") or "")
        if url != request.url or headers != request.headers or body is not request.body:
            request = Request(request.method, url, headers, body)
        if response is not None:
            headers, reason = self.headers(response.headers), self.text(response.reason)
            answer = response.body
            if answer:
                answer, came = self.masked_body(answer, header(response.headers, "content-type") or "")
            if headers != response.headers or answer is not response.body or reason is not response.reason:
                response = replace(response, headers=headers, body=answer, reason=reason)
        error = self.cut_text(exchange.error)
        if request is exchange.request and response is exchange.response and error == exchange.error:
            return exchange, sent, came
        tries = tuple(map(self.exchange, exchange.tries))
        return replace(exchange, request=request, response=response, error=error, tries=tries), sent, came

    def result(self, result: CheckResult) -> CheckResult:
        """A check result as it may be kept and shown; what a secret field held is masked whole."""
        if self.is_idle:
            return result
        name = result.at.rpartition("/")[2].rpartition(".")[2].lower()
        observed = (
            MASK
            if name in self.names and result.observed not in ("missing", "present")
            else self.cut_text(result.observed)
        )
        at, declared, detail = self.text(result.at), self.text(result.declared), self.cut_text(result.detail)
        if (at, declared, observed, detail) == (result.at, result.declared, result.observed, result.detail):
            return result  # nothing in it to hide, as nearly always
        return replace(result, at=at, declared=declared, observed=observed, detail=detail)


def _mask_for(form: bytes, secret: str) -> bytes:
    """The mask, in the width of what it stands for."""
    for codec in ("utf-16-le", "utf-16-be", "utf-32-le", "utf-32-be"):
        if form == secret.encode(codec, "surrogatepass"):
            return MASK.encode(codec)
    return MASK.encode()


_CHARSETS = frozenset(
    (
        "utf-7",
        "utf-16",
        "utf-16le",
        "utf-16be",
        "utf-32",
        "utf-32le",
        "utf-32be",
        "iso-8859-1",
        "latin-1",
        "latin1",
        "windows-1252",
        "cp1252",
        "iso-8859-15",
        "cp037",
        "ibm037",
        "shift_jis",
        "gb18030",
        "koi8-r",
        "windows-1251",
    )
)


def decoded_text(body: bytes, content_type: str) -> tuple[str, bool] | None:
    """(the text of a body by its charset, UTF-8 where none is told; whether its charset is another than
    that); None where it is no text.
    """
    kind = parse_media_type(content_type)
    charset = (kind.parameter("charset") or "").lower() if kind is not None else ""
    try:
        if body[:2] in _WIDE:
            return body[2:].decode(_WIDE[body[:2]], "surrogatepass"), True
        if charset in _CHARSETS:
            return body.decode(charset), True
        return body.decode("utf-8", "surrogateescape"), False
    except (UnicodeDecodeError, LookupError):
        return None


def _mask_header(name: str, value: str) -> str:
    """Keeps what is no secret: the scheme of a credential, the name and attributes of a cookie."""
    if name.lower() in ("authorization", "proxy-authorization"):
        scheme, space, _ = value.partition(" ")
        return f"{scheme} {MASK}" if space else MASK
    if name.lower() in ("cookie", "set-cookie"):
        return re.sub(
            r"^([^=;]+)=[^;]*" if name.lower() == "set-cookie" else r"([^=;]+)=[^;]*", rf"\1={MASK}", value
        )
    return MASK


def is_credential(name: str) -> bool:
    """Whether a header field of that name carries a credential."""
    return name.lower() in _CREDENTIAL_HEADERS


_SESSION = re.compile(r"sess|sid\b|auth|token|login|csrf|xsrf|secret|remember|jwt|ticket", re.IGNORECASE)


def _secret_cookie(field_value: str) -> tuple[str, int]:
    """(the value of a cookie, the characters from which it is a secret): fewer where its name or attributes
    say that it stands for a session, more where it looks like a plain setting such as a language.
    """
    pair, _, attributes = field_value.partition(";")
    name, _, value = pair.partition("=")
    value = value.strip().strip('"')
    if _SESSION.search(name) or "httponly" in attributes.lower():
        return value, MIN_SECRET
    return value, MIN_PASSING if re.search(r"\d", value) or not value.islower() else 12


def carried_secrets(exchange: Exchange) -> Iterator[str]:
    """What a recorded exchange itself shows to be secret: its credentials and its cookies' values."""
    response = exchange.response.headers if exchange.response else ()
    for name, value in (*exchange.request.headers, *response):
        lowered = name.lower()
        if lowered in ("authorization", "proxy-authorization"):
            yield value.partition(" ")[2].strip() or value
        elif lowered in ("cookie", "set-cookie"):
            # A short value (`lang=en`) is no credential, and hiding it everywhere would blot out answers.
            for one in value.split(";") if lowered == "cookie" else (value,):
                found, least = _secret_cookie(one)
                if len(found) >= least:
                    yield found
        elif lowered in _CREDENTIAL_HEADERS:
            yield value
