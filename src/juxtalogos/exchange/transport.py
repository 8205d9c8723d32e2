"""The transport: one request out, one exchange back. Redirects are never followed, bodies are bounded."""

from __future__ import annotations

import asyncio
import logging
import random
import select
import ssl
import time
from collections.abc import Callable, Mapping
from contextvars import ContextVar
from dataclasses import dataclass, field, replace
from pathlib import Path
from types import TracebackType
from typing import Any, Protocol
from urllib.parse import urlsplit
from weakref import WeakSet

import aiohttp
from yarl import URL

from juxtalogos._version import VERSION
from juxtalogos.documents.uris import origin_alone
from juxtalogos.exchange.coding import decoded
from juxtalogos.exchange.guard import GuardedResolver, Refused, split_address
from juxtalogos.exchange.waiting import retry_after
from juxtalogos.model.errors import ConfigError, NoAnswer, TrustError
from juxtalogos.model.exchange import Exchange, Headers, Request, Response, Timings

MAX_PAUSE = 60.0
"""Seconds that a service may make us wait."""
_AUTOMATIC = ("Accept", "Accept-Encoding", "Content-Type", "User-Agent")


@dataclass(frozen=True, slots=True)
class TransportOptions:
    """Seconds and bytes."""

    connect_timeout: float = 10.0
    timeout: float = 30.0
    max_body: int = 16 * 1024 * 1024
    """Bytes of a body on the wire; after content decoding four times as much."""
    ca_file: Path | None = None
    certificate: Path | None = None
    """What this client shows (mutual TLS), with its key where `certificate_key` names no other file."""
    certificate_key: Path | None = None
    connections: int = 64
    proxy: str = ""
    proxy_user: str = ""
    proxy_password: str = field(default="", repr=False)
    addresses: Mapping[str, str] = field(default_factory=dict)
    """Host names answered by another address, `HOST[:PORT]` -> `ADDRESS[:PORT]`; Host and TLS name stay."""
    pace: float = 0.0
    """Seconds from one request to the next, at least."""
    patient: bool = False
    """Whether what was answered with 429 is sent again, once, when the time that the
    answer tells has passed."""
    origins: frozenset[str] | None = None
    """The only origins that anything is sent to; None where a person typed the address."""
    may_be_private: Callable[[str], bool] | None = None
    """Whether a host may be at a private address; None where every host was named by a person."""


def tls_context(options: TransportOptions) -> ssl.SSLContext:
    """The certificates that are trusted; ConfigError when the CA file cannot be used."""
    try:
        context = ssl.create_default_context(cafile=str(options.ca_file) if options.ca_file else None)
    except (OSError, ssl.SSLError) as error:
        raise ConfigError(
            f"the CA file cannot be used: {error}",
            where=str(options.ca_file),
            mend="give a PEM file with the certificates to trust",
        ) from None
    if options.certificate is not None:
        try:
            context.load_cert_chain(options.certificate, options.certificate_key, password=lambda: "")
        except (OSError, ssl.SSLError) as error:
            raise ConfigError(
                f"the certificate cannot be used: {error}",
                where=str(options.certificate),
                mend="give PEM files of a certificate and of its key, without a password",
            ) from None
    return context


def _resolver(options: TransportOptions) -> GuardedResolver | None:
    if not options.addresses and options.may_be_private is None:
        return None
    return GuardedResolver(options.may_be_private or (lambda host: True), options.addresses)


def require_origin(url: str, options: TransportOptions) -> None:
    """TrustError unless a URL lies at an origin that may be sent to."""
    if options.origins is not None and origin_alone(url) not in options.origins:
        raise TrustError(
            "this is not at the target's origins: nothing is sent there",
            where=origin_alone(url),
            mend="if it is to be trusted, list it: origins = [...] in [targets.NAME]",
        )


class Sender(Protocol):
    """Whatever sends requests for a run: the transport, or a stand-in."""

    async def send(self, request: Request) -> Exchange: ...


_reused: ContextVar[bool] = ContextVar("reused", default=False)
"""Whether the request at hand went over a connection that others had used."""
_protocol: ContextVar[Any] = ContextVar("protocol", default=None)
"""What the request at hand went over."""
_fresh: ContextVar[bool] = ContextVar("fresh", default=False)
_IDEMPOTENT = frozenset(("GET", "HEAD", "OPTIONS", "TRACE", "PUT", "DELETE"))
"""RFC 9110, section 9.2.2: what may be sent again by itself when a connection failed."""


_LOG = logging.getLogger("juxtalogos.exchange")


def _note(exchange: Exchange) -> None:
    """Logs what was sent, and the status or why there is none; no header fields and no bodies."""
    response, request = exchange.response, exchange.request
    told = str(response.status) if response else exchange.error
    _LOG.debug("%s %s: %s in %.0f ms", request.method, request.url, told, exchange.timings.total * 1000)


class _Connector(aiohttp.TCPConnector):
    """Gives out no connection that its server has closed, which it may have done at any moment since the last
    answer.
    """

    def __init__(self, **options: Any) -> None:
        super().__init__(**options)
        self._used: WeakSet[Any] = WeakSet()
        self.spoilt: WeakSet[Any] = WeakSet()
        """Those over which a server error came: many servers close them then, and not all say so."""

    async def connect(self, *words: Any, **options: Any) -> aiohttp.connector.Connection:
        while True:
            connection = await super().connect(*words, **options)
            reused = connection.protocol in self._used
            spoilt = connection.protocol in self.spoilt
            if reused and (spoilt or _fresh.get() or _has_ended(connection.transport)):
                connection.close()
                continue
            self._used.add(connection.protocol)
            _reused.set(reused)
            _protocol.set(connection.protocol)
            return connection


def _has_ended(transport: asyncio.Transport | None) -> bool:
    """Whether anything is to be read where no answer is awaited: the end, as a rule."""
    channel = transport.get_extra_info("socket") if transport is not None else None
    if channel is None or channel.fileno() < 0:
        return transport is None
    poll = select.poll()
    poll.register(channel.fileno(), select.POLLIN)
    return bool(poll.poll(0))


class Transport:
    """An asynchronous context; keeps connections alive between requests."""

    def __init__(self, options: TransportOptions = TransportOptions()) -> None:
        self.options = options
        self._session: aiohttp.ClientSession | None = None
        self._next = 0.0
        """When the next request may be sent, by the loop's clock."""

    async def __aenter__(self) -> Transport:
        options = self.options
        self._connector = _Connector(
            limit=options.connections,
            ssl=tls_context(options) if options.ca_file or options.certificate else True,
            resolver=_resolver(options),
        )
        self._session = aiohttp.ClientSession(
            connector=self._connector,
            proxy=options.proxy or None,
            proxy_auth=(
                aiohttp.BasicAuth(options.proxy_user, options.proxy_password) if options.proxy_user else None
            ),
            timeout=aiohttp.ClientTimeout(total=options.timeout, connect=options.connect_timeout),
            cookie_jar=aiohttp.DummyCookieJar(),
            auto_decompress=False,
            max_line_size=65_536,
            max_field_size=262_144,
            skip_auto_headers=_AUTOMATIC,
        )
        self._session._retry_connection = False  # it would send again and tell nobody
        return self

    async def __aexit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        if self._session:
            await self._session.close()

    async def send(self, request: Request) -> Exchange:
        """The exchange, also when no answer came: then `response` is None and `error` says why.

        What found its connection closed is sent once more on a fresh one, where that may be done. TrustError
        where the request would go to another origin than the target's.
        """
        require_origin(request.url, self.options)
        request = with_automatic_headers(request)
        _reused.set(False)
        if self.options.pace or self._next:
            await self._paced()
        exchange, unsent = await self._once(request)
        if _LOG.isEnabledFor(logging.DEBUG):
            _note(exchange)
        if exchange.response is not None and exchange.response.status == 429:
            self._slow_down(exchange.response)
            if self.options.patient:
                await self._paced()
                return replace((await self._once(request))[0], tries=(exchange,))
        if unsent and _reused.get() and request.method in _IDEMPOTENT:
            token = _fresh.set(True)
            try:
                again, _ = await self._once(request)
            finally:
                _fresh.reset(token)
            return replace(again, tries=(exchange,))
        return exchange

    async def _paced(self) -> None:
        """Waits for its turn; the next may follow after the pace."""
        loop = asyncio.get_running_loop()
        mine = max(loop.time(), self._next)
        self._next = mine + self.options.pace
        await asyncio.sleep(mine - loop.time())

    def _slow_down(self, response: Response) -> None:
        """Nothing is sent before the time that a 429 tells (RFC 6585, section 4; RFC
        9110, section 10.2.3).
        """
        told = retry_after(response, time.time())
        seconds = 1.0 if told is None else told
        self._next = max(self._next, asyncio.get_running_loop().time() + min(seconds, MAX_PAUSE))

    async def _once(self, request: Request) -> tuple[Exchange, bool]:
        """(the exchange, whether the connection ended before any byte of an answer)."""
        assert self._session is not None
        sent_at, started = time.time(), time.perf_counter()
        sent = request
        try:
            async with self._session.request(
                request.method,
                URL(request.url, encoded=True),
                headers=list(request.headers),
                data=request.body,
                allow_redirects=False,
            ) as answer:
                first_byte = time.perf_counter() - started
                sent = Request(
                    request.method, request.url, tuple(answer.request_info.headers.items()), request.body
                )
                body, truncated, problem = await self._read(answer)
                headers = tuple((name.decode("latin-1"), _text(value)) for name, value in answer.raw_headers)
                version = f"{answer.version.major}.{answer.version.minor}" if answer.version else "1.1"
                response = decoded(
                    Response(answer.status, answer.reason or "", headers, body, version, truncated, problem),
                    self.options.max_body * 4,
                )
                if response.status >= 500:
                    self._connector.spoilt.add(_protocol.get())
                return (
                    Exchange(sent, response, Timings(sent_at, first_byte, time.perf_counter() - started)),
                    False,
                )
        except (aiohttp.ClientError, TimeoutError, OSError, ValueError) as error:
            seconds = time.perf_counter() - started
            why = explain(error, request.url, self.options)
            ended = isinstance(
                error, aiohttp.ServerDisconnectedError | aiohttp.ClientOSError | ConnectionError
            )
            lost = isinstance(error, aiohttp.ServerDisconnectedError | ConnectionResetError | BrokenPipeError)
            unsent = isinstance(error, aiohttp.ClientConnectorError)
            return Exchange(
                sent, None, Timings(sent_at, seconds, seconds), why, lost=lost, unsent=unsent
            ), ended

    async def _read(self, answer: aiohttp.ClientResponse) -> tuple[bytes, bool, str]:
        parts: list[bytes] = []
        size = 0
        try:
            async for part in answer.content.iter_any():
                size += len(part)
                parts.append(part)
                if size > self.options.max_body:
                    answer.close()
                    return b"".join(parts)[: self.options.max_body], True, ""
        except (aiohttp.ClientPayloadError, TimeoutError) as error:
            return b"".join(parts), False, f"the body broke off after {size} bytes ({type(error).__name__})"
        return b"".join(parts), False, ""


def _text(value: bytes) -> str:
    try:
        return value.decode("utf-8")
    except UnicodeDecodeError:
        return value.decode("latin-1")


def with_automatic_headers(request: Request) -> Request:
    """Adds what every request carries and this one does not say for itself, a W3C trace context among it."""
    given = {name.lower() for name, _ in request.headers}
    automatic = {
        "Accept": "*/*",
        "Accept-Encoding": "gzip, deflate",
        "User-Agent": f"juxtalogos/{VERSION}",
        "traceparent": f"00-{random.getrandbits(128):032x}-{random.getrandbits(64):016x}-01",
    }
    added = tuple((name, value) for name, value in automatic.items() if name.lower() not in given)
    return Request(request.method, request.url, request.headers + added, request.body)


def explain(error: Exception, url: str, options: TransportOptions) -> str:
    """Why no answer came, for a person."""
    host = urlsplit(url).netloc.rpartition("@")[2]
    refused = error if isinstance(error, Refused) else getattr(error, "os_error", None)
    if isinstance(refused, Refused):
        return str(refused)
    if isinstance(error, aiohttp.ClientHttpProxyError):
        return f"the proxy responded {error.status} {error.message}".rstrip()
    if isinstance(error, aiohttp.ClientProxyConnectionError):
        return f"the proxy {options.proxy} cannot be reached"
    if isinstance(error, TimeoutError):
        return f"{host} sent no response within {options.timeout:g} s"
    if isinstance(error, aiohttp.ClientConnectorCertificateError | aiohttp.ClientSSLError | ssl.SSLError):
        reason = getattr(error, "certificate_error", None) or getattr(error, "os_error", None) or error
        return (
            f"TLS with {host} failed:"
            f" {getattr(reason, 'verify_message', '') or getattr(reason, 'reason', '') or reason}"
        )
    if isinstance(error, aiohttp.ClientConnectorDNSError):
        return f"the host name {urlsplit(url).hostname} is not known"
    if isinstance(error, aiohttp.ClientConnectorError):
        if isinstance(error.os_error, ConnectionRefusedError):
            return f"{host} refused the connection"
        return f"{host} cannot be reached ({error.os_error.strerror or error.os_error})"
    if isinstance(error, aiohttp.ServerDisconnectedError | ConnectionResetError):
        return f"{host} closed the connection without a response"
    if isinstance(error, aiohttp.ClientResponseError):
        return f"{host} did not respond in HTTP: {' '.join(str(error.message).split())[:160]}"
    return f"no response from {host}: {' '.join(str(error).split())[:160] or type(error).__name__}"


async def send_message(data: bytes, url: str, options: TransportOptions) -> Exchange:
    """Sends the bytes of an HTTP/1.1 message as they stand to the host of a URL, and reads one response (RFC
    9112).
    """
    from juxtalogos.exchange.message import parse_request

    require_origin(url, options)
    parts = urlsplit(url)
    context = tls_context(options) if parts.scheme == "https" else None
    request = parse_request(data, f"{parts.scheme}://{parts.netloc}")
    sent_at, started = time.time(), time.perf_counter()
    try:
        async with asyncio.timeout(options.timeout):
            port = parts.port or (443 if context else 80)
            given = options.addresses.get(f"{parts.hostname}:{port}") or options.addresses.get(
                parts.hostname or ""
            )
            address, own_port = split_address(given) if given else (parts.hostname, 0)
            reader, writer = await asyncio.open_connection(
                address, own_port or port, ssl=context, server_hostname=parts.hostname if context else None
            )
            try:
                writer.write(data)
                await writer.drain()
                response = await _read_response(reader, request.method, options)
            finally:
                writer.close()
        seconds = time.perf_counter() - started
        return Exchange(request, decoded(response, options.max_body * 4), Timings(sent_at, seconds, seconds))
    except (OSError, TimeoutError, NoAnswer) as error:
        seconds = time.perf_counter() - started
        what = error.what if isinstance(error, NoAnswer) else explain(error, url, options)
        if isinstance(error, ConnectionRefusedError):
            what = f"{parts.netloc} refused the connection"
        return Exchange(request, None, Timings(sent_at, seconds, seconds), what)


async def _read_response(reader: asyncio.StreamReader, method: str, options: TransportOptions) -> Response:
    import h11

    connection = h11.Connection(h11.CLIENT, max_incomplete_event_size=262_144)
    # The message went out as raw bytes; h11 only needs to know the method to tell where the answer ends.
    connection.send(
        h11.Request(
            method=method if method.isascii() and method.isalpha() else "GET",
            target="/",
            headers=[("Host", "-")],
        )
    )
    connection.send(h11.EndOfMessage())
    head: h11.Response | None = None
    body, truncated = b"", False
    while True:
        try:
            event = connection.next_event()
        except h11.RemoteProtocolError as error:
            raise NoAnswer(f"the response is not HTTP: {error}") from None
        if event is h11.NEED_DATA:
            connection.receive_data(await reader.read(65_536))
        elif isinstance(event, h11.Response):
            head = event
        elif isinstance(event, h11.Data):
            body += bytes(event.data)
            if len(body) > options.max_body:
                truncated = True
                break
        elif isinstance(event, h11.EndOfMessage | h11.ConnectionClosed) or event is h11.PAUSED:
            break
    if head is None:
        raise NoAnswer("the connection was closed without a response")
    headers: Headers = tuple(
        (name.decode("latin-1"), _text(value)) for name, value in head.headers.raw_items()
    )
    return Response(
        head.status_code,
        head.reason.decode("latin-1"),
        headers,
        body[: options.max_body],
        head.http_version.decode(),
        truncated,
    )
