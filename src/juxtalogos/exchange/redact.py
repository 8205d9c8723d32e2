"""Redaction: the one door to ledger, log, report and terminal. Pure functions."""

from __future__ import annotations

import codecs
import json
import re
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, replace
from html import escape
from urllib.parse import quote, quote_plus, unquote_plus

from juxtalogos.exchange.secret_fields import mask_fields
from juxtalogos.model.exchange import Exchange, Headers, Request
from juxtalogos.model.findings import CheckResult

MASK = "[redacted]"
MIN_SECRET = 4
"""Shorter secrets are only hidden where a header or field is known to hold one: elsewhere they would blot out everything."""
_CREDENTIAL_HEADERS = frozenset(
    ("authorization", "proxy-authorization", "cookie", "set-cookie", "x-api-key", "x-auth-token", "api-key")
)
_WIDE = {codecs.BOM_UTF16_LE: "utf-16-le", codecs.BOM_UTF16_BE: "utf-16-be"}


@dataclass(slots=True)
class Redactor:
    """Knows the secret texts, and the names of headers, parameters and body fields that hold secrets. It may learn further ones."""

    texts: tuple[str, ...] = ()
    names: frozenset[str] = frozenset()

    @classmethod
    def of(cls, secrets: Iterable[str], names: Iterable[str] = ()) -> Redactor:
        """A redactor that knows some secrets, and the names of what holds secrets."""
        forms = {form: None for secret in secrets for form in _forms(secret)}
        return cls(_longest_first(forms), frozenset(name.lower() for name in names))

    def learn(self, secret: str) -> None:
        """A secret that came to be while the program runs: a token that was given out."""
        self.texts = _longest_first((*self.texts, *_forms(secret)))

    def text(self, text: str) -> str:
        """A text with known secrets masked."""
        for secret in self.texts:
            if secret in text:
                text = text.replace(secret, MASK)
        return text

    def body(self, body: bytes) -> bytes:
        """A body with known secrets, and the values of secret fields, masked."""
        if body[:2] in _WIDE:
            body = self._wide_body(body, _WIDE[body[:2]])
        # However a body begins, its sender may have put a text in any form into it.
        for codec in ("utf-8", "utf-16-le", "utf-16-be") if b"\0" in body else ("utf-8",):
            for secret in self.texts:
                encoded = secret.encode(codec, "surrogatepass")
                if encoded in body:
                    body = body.replace(encoded, MASK.encode(codec))
        return mask_fields(body, self.names, MASK)

    def _wide_body(self, body: bytes, codec: str) -> bytes:
        """A body of two bytes a character, which begins with a byte order mark."""
        plain = body.decode(codec, "surrogatepass" if len(body) % 2 == 0 else "replace").encode(
            "utf-8", "surrogatepass"
        )
        masked = mask_fields(plain, self.names, MASK)
        return body if masked is plain else masked.decode("utf-8", "surrogatepass").encode(codec, "surrogatepass")

    @property
    def is_idle(self) -> bool:
        """Whether only what always is a credential is hidden."""
        return not self.texts and not self.names

    def url(self, url: str) -> str:
        """A URL without login, its secrets and secret parameters masked."""
        head, question, query = self.text(url).partition("?")
        if "@" in head:
            head = re.sub(r"^(\w+://)[^/@]*@", r"\1", head)
        if not self.names or not query:
            return head + question + query
        parts = [
            f"{part.partition('=')[0]}={MASK}" if unquote_plus(part.partition("=")[0]).lower() in self.names else part
            for part in query.split("&")
        ]
        return head + question + "&".join(parts)

    def headers(self, headers: Headers) -> Headers:
        """Header fields with credentials masked."""
        if not self.texts and not any(self._secret(name) for name, _ in headers):
            return headers
        return tuple(
            (name, _mask_header(name, value) if self._secret(name) else self.text(value)) for name, value in headers
        )

    def _secret(self, name: str) -> bool:
        return is_credential(name) or name.lower() in self.names

    def exchange(self, exchange: Exchange) -> Exchange:
        """The exchange as it may be kept and shown."""
        request, response = exchange.request, exchange.response
        url, headers = self.url(request.url), self.headers(request.headers)
        body = self.body(request.body) if request.body else request.body
        if url != request.url or headers != request.headers or body is not request.body:
            request = Request(request.method, url, headers, body)
        if response is not None:
            headers, answer, reason = (
                self.headers(response.headers),
                self.body(response.body),
                self.text(response.reason),
            )
            if headers != response.headers or answer is not response.body or reason is not response.reason:
                response = replace(response, headers=headers, body=answer, reason=reason)
        error = self.text(exchange.error)
        if request is exchange.request and response is exchange.response and error is exchange.error:
            return exchange
        tries = tuple(map(self.exchange, exchange.tries))
        return replace(exchange, request=request, response=response, error=error, tries=tries)

    def result(self, result: CheckResult) -> CheckResult:
        """A check result as it may be kept and shown; what a secret field held is masked whole."""
        name = result.at.rpartition("/")[2].rpartition(".")[2].lower()
        observed = (
            MASK if name in self.names and result.observed not in ("missing", "present") else self.text(result.observed)
        )
        detail = self.text(result.detail)
        if observed is result.observed and detail is result.detail:
            return result  # nothing in it to hide, as nearly always
        return replace(result, observed=observed, detail=detail)


def _forms(secret: str) -> Iterator[str]:
    """The forms in which a secret is met in messages; none of one that is too short."""
    if len(secret) >= MIN_SECRET:
        yield from (
            secret,
            quote(secret, safe=""),
            quote_plus(secret),
            json.dumps(secret)[1:-1],
            json.dumps(secret, ensure_ascii=False)[1:-1],
        )
        yield from (escape(secret, quote=False), escape(secret), escape(secret).replace("&#x27;", "&apos;"))


def _longest_first(forms: Iterable[str]) -> tuple[str, ...]:
    return tuple(sorted(dict.fromkeys(forms), key=len, reverse=True))


def _mask_header(name: str, value: str) -> str:
    """Keeps what is no secret: the scheme of a credential, the name and attributes of a cookie."""
    if name.lower() in ("authorization", "proxy-authorization"):
        scheme, space, _ = value.partition(" ")
        return f"{scheme} {MASK}" if space else MASK
    if name.lower() in ("cookie", "set-cookie"):
        return re.sub(r"^([^=;]+)=[^;]*" if name.lower() == "set-cookie" else r"([^=;]+)=[^;]*", rf"\1={MASK}", value)
    return MASK


def is_credential(name: str) -> bool:
    """Whether a header field of that name carries a credential."""
    return name.lower() in _CREDENTIAL_HEADERS


def carried_secrets(exchange: Exchange) -> Iterator[str]:
    """What a recorded exchange itself shows to be secret: its credentials and its cookies' values."""
    response = exchange.response.headers if exchange.response else ()
    for name, value in (*exchange.request.headers, *response):
        lowered = name.lower()
        if lowered in ("authorization", "proxy-authorization"):
            yield value.partition(" ")[2].strip() or value
        elif lowered in ("cookie", "set-cookie"):
            pairs = value.split(";") if lowered == "cookie" else value.split(";")[:1]
            # A short value (`lang=en`) is no credential, and hiding it everywhere would blot out answers.
            yield from (found for pair in pairs if len(found := pair.partition("=")[2].strip()) >= 12)
        elif lowered in _CREDENTIAL_HEADERS:
            yield value
