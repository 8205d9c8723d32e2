"""Definitions from the network: one origin, what its rules allow, within bounds."""

from __future__ import annotations

import asyncio
import ipaddress
import re
from collections.abc import Iterator
from dataclasses import asdict, dataclass, replace
from pathlib import Path
from typing import Any, Self
from urllib.parse import unquote_plus, urlsplit, urlunsplit

from juxtalogos.documents.bounds import MAX_BYTES
from juxtalogos.documents.uris import origin
from juxtalogos.exchange.fetching import (
    basic_credential,
    bearer_credential,
    fetch_request,
    is_document,
    login_wanted,
    moved_to,
)
from juxtalogos.exchange.guard import refuse_private
from juxtalogos.exchange.media import content_type
from juxtalogos.exchange.transport import Transport, TransportOptions
from juxtalogos.model.errors import DocumentError, UsageError, quoted
from juxtalogos.model.exchange import Headers, Response
from juxtalogos.workspace.secrets import filled, reference_in, refers

MAX_REDIRECTS = 5
_SECRET_NAME = re.compile(r"token|secret|password|passwd|key|sig|auth|code", re.IGNORECASE)
MASKED = "given-again"


@dataclass(frozen=True, slots=True)
class Access:
    """How to reach a source.

    Secrets are references (`env:NAME`, `file:PATH`) wherever they are to be kept.
    """

    user: str = ""
    password: str = ""
    headers: tuple[tuple[str, str], ...] = ()
    proxy: str = ""
    proxy_user: str = ""
    proxy_password: str = ""
    bearer: str = ""
    """A token."""
    ca_file: str = ""
    origins: tuple[str, ...] = ()
    """Further origins that references may lead to."""
    allow_private: bool = False
    signed_at: str = ""
    """The only origin that credentials go to; empty for the source's own."""

    def sends(self, source: str) -> Iterator[tuple[str, str]]:
        """(reference to a secret, origin that it goes to)."""
        if not source.startswith(("http://", "https://")):
            return
        place = self.signed_at or origin(source)
        for text in (self.password, self.bearer, *(value for _, value in self.headers)):
            if reference := reference_in(text):
                yield reference, place
                if self.proxy and place.startswith("http:"):  # who stands between reads what is not encrypted
                    yield reference, origin(self.proxy)
        if self.proxy and (reference := reference_in(self.proxy_password)):
            yield reference, origin(self.proxy)

    def kept(self) -> dict[str, Any]:
        """What may be written down: no secret that was given as a text."""

        def reference(text: str) -> str:
            return text if refers(text) else ""

        plain = replace(
            self,
            password=reference(self.password),
            proxy_password=reference(self.proxy_password),
            bearer=reference(self.bearer),
            headers=tuple((name, text) for name, text in self.headers if refers(text)),
        )
        return {key: value for key, value in asdict(plain).items() if value}

    @classmethod
    def of(cls, kept: Any) -> Access:
        """As it was written down; what is odd there is left out."""
        found = kept if isinstance(kept, dict) else {}
        texts = {
            key: found[key]
            for key in (
                "user",
                "password",
                "proxy",
                "proxy_user",
                "proxy_password",
                "bearer",
                "ca_file",
                "signed_at",
            )
            if isinstance(found.get(key), str)
        }
        headers = tuple(
            (str(head[0]), str(head[1]))
            for head in found.get("headers", ())
            if isinstance(head, list) and len(head) == 2
        )
        origins = tuple(map(str, found.get("origins", ())))
        return cls(
            **texts, headers=headers, origins=origins, allow_private=found.get("allow_private") is True
        )


def without_secrets(url: str) -> str:
    """A URL as it may be written down: no user, and no values of parameters that are called like secrets."""
    parts = urlsplit(url)
    query = "&".join(_without_secret(pair) for pair in parts.query.split("&")) if parts.query else ""
    return urlunsplit((parts.scheme, parts.netloc.rpartition("@")[2], parts.path, query, ""))


def _without_secret(pair: str) -> str:
    """A parameter as it was typed (`wsdl` is not `wsdl=`), its value masked where it is
    called like a secret.
    """
    name, equals, _ = pair.partition("=")
    return f"{name}={MASKED}" if equals and _SECRET_NAME.search(unquote_plus(name)) else pair


class Remote:
    """Fetches from one origin, and from those that are allowed beside it; a context that keeps connections
    alive.
    """

    def __init__(self, url: str, access: Access) -> None:
        try:
            parts = urlsplit(url)
            self.origin = origin(url)
        except ValueError:
            raise UsageError(
                f"{quoted(without_user(url))} is no URL",
                mend="write one such as https://merrow.example/berths.yaml",
            ) from None
        user, password = access.user or parts.username or "", access.password or parts.password or ""
        self.url = without_user(url)
        self.access = access
        self.allowed = {self.origin, *map(origin, access.origins)}
        self.credentials: Headers = tuple(
            (name, filled(text, f"--header {name}")[0]) for name, text in access.headers
        )
        if user:
            self.credentials += (basic_credential(user, filled(password, "--credential")[0]),)
        if access.bearer:
            self.credentials += (bearer_credential(filled(access.bearer, "--credential")[0]),)
        self.runner = asyncio.Runner()
        self.transport = Transport(self.options())

    def options(self) -> TransportOptions:
        """How the source is reached."""
        access = self.access
        return TransportOptions(
            timeout=60,
            max_body=MAX_BYTES,
            ca_file=Path(access.ca_file) if access.ca_file else None,
            connections=4,
            proxy=access.proxy,
            proxy_user=access.proxy_user,
            proxy_password=filled(access.proxy_password, "--proxy-credential")[0],
            may_be_private=self.may_be_private,
        )

    def may_be_private(self, host: str) -> bool:
        """The origin's own host was named by a person."""
        return self.access.allow_private or host.lower() == (urlsplit(self.url).hostname or "").lower()

    def __enter__(self) -> Self:
        self.runner.__enter__()
        self.runner.run(self.transport.__aenter__())
        return self

    def __exit__(self, *_: object) -> None:
        self.runner.run(self.transport.__aexit__(None, None, None))
        self.runner.__exit__(None, None, None)

    def get(self, url: str) -> tuple[bytes, str]:
        """(bytes, media type) at a URL of an allowed origin; DocumentError says why there are none."""
        for _ in range(MAX_REDIRECTS):
            self.check(url)
            own = origin(url) == (self.access.signed_at or self.origin)
            request = fetch_request(url, self.credentials if own else ())
            exchange = self.runner.run(self.transport.send(request))
            shown = without_secrets(url)
            if exchange.response is None:
                raise DocumentError(
                    exchange.error, where=shown, mend="check the address, --proxy and --ca-file"
                )
            response = exchange.response
            target = moved_to(exchange)
            if target is None:
                return self.read(response, shown), content_type(response) or ""
            if origin(target) not in self.allowed:
                raise DocumentError(
                    f"{response.status}: it has moved to {without_secrets(target)}, which is another origin",
                    where=shown,
                    mend="import from there, or sign in: a login page is often answered this way",
                )
            url = target
        raise DocumentError(
            f"more than {MAX_REDIRECTS} redirects",
            where=without_secrets(url),
            mend="import from the address that they lead to",
        )

    def check(self, url: str) -> None:
        """DocumentError when a URL is none of this source's to follow."""
        shown = without_secrets(url)
        try:
            found, host = origin(url), urlsplit(url).hostname or ""
        except ValueError:
            raise DocumentError("this is no URL", where=shown, mend="correct the reference") from None
        if found not in self.allowed or urlsplit(url).scheme not in ("http", "https"):
            raise DocumentError(
                "references to other origins are not followed",
                where=shown,
                mend=f"allow it, if you trust it: --allow-origin {found}",
            )
        try:
            ipaddress.ip_address(host)
        except ValueError:
            return  # a name: looked at when it is resolved
        try:
            refuse_private(host, [host], self.may_be_private)
        except OSError as error:
            raise DocumentError(
                str(error), where=shown, mend="allow it, if you trust it: --allow-private"
            ) from None

    def read(self, response: Response, shown: str) -> bytes:
        """The body of an answer; DocumentError when it is none to be read."""
        wanted = login_wanted(response)
        if wanted is not None:
            told, by_proxy = wanted
            more = "" if by_proxy else ", bearer=env:NAME, or --header"
            option = "--proxy-credential" if by_proxy else "--credential"
            raise DocumentError(
                f"{told}: a login is needed",
                where=shown,
                mend=f"sign in: {option} basic=USER:env:NAME{more}",
            )
        if not is_document(response):
            raise DocumentError(
                f"the response is {response.status} {response.reason}".rstrip(),
                where=shown,
                mend="check the address",
            )
        if response.truncated or response.problem:
            what = response.problem or f"more than the limit of {MAX_BYTES:,} bytes"
            raise DocumentError(what, where=shown, mend="split the definition over several files")
        return response.body


def without_user(url: str) -> str:
    """A URL without its login."""
    parts = urlsplit(url)
    return urlunsplit((parts.scheme, parts.netloc.rpartition("@")[2], parts.path, parts.query, ""))
