"""Sign-in: what a credential adds to a request.

A flow asks for requests of its own, which the transport runs, and ends with the signed one.
"""

from __future__ import annotations

import asyncio
import base64
import contextlib
from collections.abc import Callable, Generator, Mapping
from dataclasses import replace
from typing import Any, Protocol
from urllib.parse import quote, urljoin

from juxtalogos.documents.uris import origin_alone
from juxtalogos.exchange.digest import digest_challenge, digest_word
from juxtalogos.exchange.negotiate import negotiate
from juxtalogos.exchange.oauth import bearer_word, oauth, void_token
from juxtalogos.exchange.signing import Credential, Memory, basic_word, driven, require_origin, with_header
from juxtalogos.exchange.transport import Sender
from juxtalogos.model.contract import Contract, Operation, SecurityScheme
from juxtalogos.model.errors import NoAnswer
from juxtalogos.model.exchange import Exchange, Headers, Request
from juxtalogos.model.format import SignInFlow, SignInScheme
from juxtalogos.plugins import Table


def at_once(
    sign: Callable[[Request, SecurityScheme, Any], Request],
) -> Callable[[Request, SecurityScheme, Any, Memory], SignInFlow]:
    """A flow that needs no request of its own."""

    def flow(request: Request, scheme: SecurityScheme, credential: Any, memory: Memory) -> SignInFlow:
        return sign(request, scheme, credential)
        yield  # a generator that asks for nothing

    return flow


def _basic(request: Request, scheme: SecurityScheme, credential: Credential) -> Request:
    return with_header(request, "Authorization", basic_word(credential.user, credential.secret))


def _bearer(request: Request, scheme: SecurityScheme, credential: Credential) -> Request:
    return bearer_word(request, credential.secret)


def _api_key(request: Request, scheme: SecurityScheme, credential: Credential) -> Request:
    if scheme.place == "query":
        joiner = "&" if "?" in request.url else "?"
        pair = f"{quote(scheme.key, safe='')}={quote(credential.secret, safe='')}"
        return replace(request, url=f"{request.url}{joiner}{pair}")
    if scheme.place == "cookie":
        pair = f"{scheme.key}={credential.secret}"
        present = next((value for name, value in request.headers if name.lower() == "cookie"), "")
        return with_header(request, "Cookie", f"{present}; {pair}" if present else pair)
    # A declared name such as `Authorization: Bearer` is none: what it means is clear all the same.
    name, _, before = scheme.key.partition(":")
    return with_header(request, name.strip(), f"{before.strip()} {credential.secret}".strip())


def _digest(
    request: Request, scheme: SecurityScheme, credential: Credential, memory: Memory
) -> Generator[Request, Exchange, Request]:
    """HTTP Digest (RFC 7616): the service is asked for a nonce by an unsigned GET at the same address; where
    it requires no credential there, nothing is changed.
    """
    if "challenge" not in memory:
        exchange = yield Request("GET", request.url)
        fields = exchange.response.headers if exchange.response else ()
        found = [value for name, value in fields if name.lower() == "www-authenticate"]
        challenge = digest_challenge(found)
        if challenge is None:
            raise NoAnswer(
                f"no digest challenge for {scheme.name}: {request.url} responded"
                f" {exchange.response.status if exchange.response else exchange.error}",
                mend="check whether the service signs in by HTTP Digest there",
            )
        memory["challenge"], memory["count"] = challenge, 0
    memory["count"] += 1
    word = digest_word(memory["challenge"], memory["count"], request, credential.user, credential.secret)
    memory["digest"] = word
    return with_header(request, "Authorization", word)


def _void_digest(exchange: Exchange, memory: Memory) -> bool:
    """After a 401 the nonce is forgotten, and a new one asked for."""
    return memory.pop("challenge", None) is not None


BASIC = SignInScheme(at_once(_basic), "user and password (HTTP Basic, RFC 7617)")
BEARER = SignInScheme(at_once(_bearer), "a token in Authorization: Bearer TOKEN (RFC 6750)")
API_KEY = SignInScheme(at_once(_api_key), "a key as {place} {key}")
OAUTH2 = SignInScheme(oauth, "a token of OAuth 2.0 in Authorization: Bearer TOKEN", void=void_token)
OPEN_ID = SignInScheme(oauth, "a token of OpenID Connect in Authorization: Bearer TOKEN", void=void_token)

_UNSIGNED = (401, 403, 419)
"""After these the sign-in by an operation is done anew; 403 and 419 are what some say of an ended session."""

AUTHORIZATION = "authorization"
"""The field of credentials (RFC 9110, section 11.6.2), in lower case."""


def carries_credential(request: Request) -> bool:
    """Whether a request has a credential or a cookie of its own."""
    return any(name.lower() in (AUTHORIZATION, "cookie") for name, _ in request.headers)


def credential_scheme(name: str, value: str) -> str:
    """The scheme of a field with credentials, such as Bearer; empty where it names none."""
    return value.partition(" ")[0] if name.lower() == AUTHORIZATION and " " in value else ""


SIGN_IN: Table[SignInScheme] = Table("juxtalogos.sign_in")
"""Ways to sign in, by kind of security scheme."""
for _kind, _scheme in (
    ("basic", BASIC),
    ("digest", SignInScheme(_digest, "user and password (HTTP Digest, RFC 7616)", void=_void_digest)),
    ("negotiate", SignInScheme(negotiate, "a ticket of Kerberos (HTTP Negotiate, RFC 4559)")),
    ("bearer", BEARER),
    ("apiKey", API_KEY),
    ("oauth2", OAUTH2),
    ("openIdConnect", OPEN_ID),
):
    SIGN_IN.register(_kind, _scheme)


def scheme_of(kind: str, own: Mapping[str, SignInScheme]) -> SignInScheme | None:
    """How to sign in by a kind of scheme; `own` are those that only this protocol has."""
    return own.get(kind) or SIGN_IN.get(kind)


class SignInRequest(Protocol):
    """What signs in by a request of the service itself (`login.py`)."""

    name: str

    async def signed(self, request: Request, sender: Sender) -> Request: ...

    def void(self, request: Request) -> bool: ...

    def tell(self, learned: Callable[[str, bool], None]) -> None: ...


class Signer:
    """Signs requests of a session; remembers what flows remember, and lets one flow at a time ask for it."""

    def __init__(
        self,
        credentials: Mapping[str, Credential],
        origins: set[str],
        learned: Callable[[str, bool], None] = lambda text, passing: None,
        base_of: Callable[[Contract], str] = lambda contract: "",
        headers: Headers = (),
    ) -> None:
        self.credentials = credentials
        self.headers = headers
        """Fields that go with every request which does not have its own."""
        self.origins = origins
        self.base_of = base_of
        self.learned = learned
        """Told of each secret that a flow was given or made, and whether it holds for one request, before
        anything of it can be shown."""
        self.login: SignInRequest | None = None
        """What signs in by a request of the service itself, before everything else."""
        self.memories: dict[str, Memory] = {}
        self.barred: set[str] = set()
        """Operations that are refused after signing in anew too: it is the right that is missing."""
        self.offered: dict[str, str] = {}
        """By operation that declares no security, the scheme by which it lets in; empty where none does."""
        self.renewable: set[str] = set()
        """Schemes of which something was forgotten after a refusal."""
        self.locks: dict[str, asyncio.Lock] = {}

    def offer(self, contract: Contract, operation: Operation, own: Mapping[str, SignInScheme]) -> bool:
        """After a 401 to an operation that declares no security: whether there is a credential to try; each
        operation is offered one.
        """
        if operation.security:
            return False
        if operation.full_id in self.offered:
            return bool(self.offered[operation.full_id])  # another request was offered it meanwhile
        known = (
            scheme.name
            for scheme in contract.security_schemes
            if scheme.name in self.credentials and scheme_of(scheme.kind, own) is not None
        )
        self.offered[operation.full_id] = next(known, "")
        return bool(self.offered[operation.full_id])

    def refuse(self, operation: Operation) -> None:
        """What was offered did not help."""
        self.offered[operation.full_id] = ""

    def take_over(self, other: Signer) -> None:
        """Goes on with what another has signed in with; secrets in it are told here too."""
        self.login, self.memories = other.login, other.memories
        self.offered, self.barred = other.offered, other.barred
        if self.login is not None:
            self.login.tell(self.learned)

    def chosen(
        self, contract: Contract, operation: Operation, own: Mapping[str, SignInScheme]
    ) -> tuple[list[tuple[SecurityScheme, SignInScheme]], tuple[str, ...]]:
        """(how to sign, schemes that a credential is missing for): the first alternative that can be met."""
        for alternative in operation.security:
            schemes = [contract.scheme(name) for name in alternative]
            ways = [scheme_of(scheme.kind, own) if scheme else None for scheme in schemes]
            if alternative and all(
                way is not None and name in self.credentials for way, name in zip(ways, alternative)
            ):
                return [
                    (self._placed(contract, scheme, way), way)
                    for scheme, way in zip(schemes, ways)
                    if scheme and way
                ], ()
        if not operation.security or () in operation.security:
            scheme = contract.scheme(self.offered.get(operation.full_id, ""))
            way = scheme_of(scheme.kind, own) if scheme else None
            return ([(self._placed(contract, scheme, way), way)] if scheme and way else []), ()
        return [], tuple(name for name in operation.security[0] if name not in self.credentials)

    def _placed(self, contract: Contract, scheme: SecurityScheme, way: SignInScheme) -> SecurityScheme:
        if way.at_base:
            return replace(scheme, token_url=self.base_of(contract))
        return based(scheme, self.base_of(contract))

    async def signed(
        self,
        contract: Contract,
        operation: Operation,
        request: Request,
        own: Mapping[str, SignInScheme],
        sender: Sender,
    ) -> Request:
        """The signed request; what a flow asks for is sent first. Nothing is signed that goes elsewhere.
        NoAnswer when a flow fails.
        """
        if origin_alone(request.url) not in self.origins:
            return request
        names = {name.lower() for name, _ in request.headers}
        further = tuple(pair for pair in self.headers if pair[0].lower() not in names)
        request = replace(request, headers=request.headers + further) if further else request
        for scheme, way in self.chosen(contract, operation, own)[0]:
            request = await self._run(scheme, way, request, sender)
        if self.login is not None and operation.full_id != self.login.name:
            request = await self.login.signed(request, sender)
        return request

    async def _run(
        self, scheme: SecurityScheme, way: SignInScheme, request: Request, sender: Sender
    ) -> Request:
        flow = self._begun(scheme, way, request)
        try:
            next(flow)
        except StopIteration as end:
            self._learn(scheme)
            return end.value  # type: ignore[no-any-return]
        # It wants to ask: once more, one at a time, since another may have been given meanwhile what this one
        # wants.
        kept = self.credentials[scheme.name].kept
        one_process = kept.alone() if kept is not None and kept.exists() else contextlib.nullcontext()
        async with self.locks.setdefault(scheme.name, asyncio.Lock()), one_process:
            flow = self._begun(scheme, way, request)
            signed = await driven(flow, lambda wanted: self._asked(scheme, wanted, sender), scheme.name)
            self._learn(scheme)
            return signed

    def _learn(self, scheme: SecurityScheme) -> None:
        for name, secret in self.memories[scheme.name].items():
            if isinstance(secret, str):
                self.learned(secret, name == "digest")

    def _begun(self, scheme: SecurityScheme, way: SignInScheme, request: Request) -> SignInFlow:
        memory = self.memories.setdefault(scheme.name, {})
        return way.sign(request, scheme, self.credentials[scheme.name], memory)

    async def _asked(self, scheme: SecurityScheme, wanted: Request, sender: Sender) -> Exchange:
        require_origin(wanted.url, self.origins, scheme.name)
        return await sender.send(wanted)

    def void(
        self, contract: Contract, operation: Operation, exchange: Exchange, own: Mapping[str, SignInScheme]
    ) -> bool:
        """Whether an answer says that what was remembered no longer holds; it is forgotten then, and signing
        anew may help.
        """
        response = exchange.response
        if response is None or operation.full_id in self.barred:
            return False
        found = [
            pair for pair in self.chosen(contract, operation, own)[0] if response.status in pair[1].void_on
        ]
        voided = []
        for scheme, way in found:
            if way.void and way.void(exchange, self.memories.get(scheme.name, {})):
                self.renewable.add(scheme.name)
            # Where another request has made it forget, this one may be sent again too.
            voided.append(scheme.name in self.renewable)
        login = self.login
        if login is not None and response.status in _UNSIGNED:
            voided.append(operation.full_id != login.name and login.void(exchange.request))
        return any(voided)  # all of them are asked: each forgets what is its own


def takes_a_person(scheme: SecurityScheme) -> bool:
    """Whether a person may sign in by it, as far as the definition says."""
    return bool(scheme.authorize_url or scheme.device_url or scheme.discovery)


def based(scheme: SecurityScheme, base_url: str) -> SecurityScheme:
    """The scheme with its relative addresses resolved against a base URL."""
    names = ("token_url", "authorize_url", "device_url", "discovery")
    urls = {name: text for name in names if (text := getattr(scheme, name)) and "://" not in text}
    if not urls:
        return scheme
    base = base_url.rstrip("/") + "/"
    return replace(scheme, **{name: urljoin(base, text) for name, text in urls.items()})


def variants(credential: Credential) -> tuple[str, ...]:
    """The forms in which a secret may be met: itself, in Base64 alone and with its user."""
    if not credential.secret:
        return ()
    pair = f"{credential.user}:{credential.secret}"
    quoted = f"{quote(credential.user, safe='')}:{quote(credential.secret, safe='')}"
    encoded = tuple(base64.b64encode(text.encode()).decode() for text in (credential.secret, pair, quoted))
    return (credential.secret, *encoded)
