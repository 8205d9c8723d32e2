"""What HTTP itself gives a format: outcomes by status code, entity tags, addresses, pages, malformed
messages.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator
from dataclasses import replace
from functools import cached_property
from urllib.parse import urljoin

from juxtalogos.check.body import check_body
from juxtalogos.conventions.naming import plain
from juxtalogos.documents.uris import origin
from juxtalogos.exchange.media import MediaType, parse_media_type
from juxtalogos.formats.base import BaseWire
from juxtalogos.formats.http.checks import check_headers, check_media, check_presence, check_status
from juxtalogos.formats.http.links import next_link
from juxtalogos.formats.http.match import Matcher
from juxtalogos.formats.http.outcomes import codes_of, due, fitting, may_refuse
from juxtalogos.model.contract import DeclaredAnswer, Operation
from juxtalogos.model.exchange import Exchange, Request, header
from juxtalogos.model.findings import CheckResult
from juxtalogos.model.outcome import Outcome, Wrong
from juxtalogos.model.wire import Inputs, Unmet, Variant, WireCheck

SUCCESS = "$statusCode >= 200 && $statusCode < 300"
REFUSED = "$statusCode >= 400"
_FORBIDDEN = "403"
_NOT_DONE = (429, 503)
_CREATED = 201
"""RFC 9110, section 15.3.2."""
_CONDITIONS = {False: ("If-Match", "412"), True: ("If-None-Match", "304")}
"""By whether it is `unless`: the field of a condition, and the code that says that it is heeded (RFC 9110,
section 13.1)."""
_REQUIRED = {
    # status: (law, field, what it must say)
    405: ("law.allow-told", "Allow", "the methods that are allowed"),
    401: ("law.challenge-told", "WWW-Authenticate", "a challenge"),
}
"""Fields that a response must have (RFC 9110, sections 15.5.2 and 15.5.6)."""
_LEADING = (201, 202, 303)
"""Codes whose `Location` leads to what was created, begun or is to be read instead."""
_STRANGE_TYPES = ("text/plain", "application/x-unknown")


class HttpWire(BaseWire):
    """A wire form whose operations are methods and paths of HTTP (RFC 9110)."""

    method_tells = True
    version_place = "header.ETag"
    address_place = "header.Location"

    @property
    def checks(self) -> tuple[WireCheck, ...]:
        return (check_status, check_media, check_presence, check_body, check_headers)

    @cached_property
    def _matcher(self) -> Matcher:
        return Matcher(self.contract)

    def match(self, request: Request, base_url: str) -> tuple[Operation, ...]:
        return self._matcher.match(request, base_url)

    def unmatched(self, request: Request, base_url: str) -> CheckResult | str:
        return self._matcher.unmatched(request, base_url)

    def answers_to(self, operation: Operation, request: Request) -> bool:
        return request.method == operation.method

    def due(self, answer: DeclaredAnswer, wrong: Wrong) -> bool:
        return due(answer, wrong)

    def refusals(self, operation: Operation, wrong: Wrong) -> tuple[DeclaredAnswer, ...]:
        return fitting(operation, wrong)

    def may_refuse(self, wrong: Wrong, exchange: Exchange) -> bool:
        return exchange.response is not None and may_refuse(exchange.response.status, wrong)

    def condition(self, operation: Operation, *outcomes: Outcome, left_open: bool = False) -> str:
        """A success by its class, or by its code where only a redirection is declared; a refusal by declared
        codes.
        """
        declared = {answer.status for answer in operation.answers}
        found: list[str] = []
        for outcome in outcomes:
            if outcome is Outcome.SUCCEEDED:
                found.append(SUCCESS if left_open else _success(declared))
            elif outcome is Outcome.INVALID:
                found.append(REFUSED)
            elif outcome is Outcome.FORBIDDEN:
                # A range such as 4XX does not declare that an existing resource may be hidden.
                found += [f"$statusCode == {_FORBIDDEN}"] if _FORBIDDEN in declared else []
            else:
                found += [f"$statusCode == {code}" for code in _declared(outcome, declared, left_open)]
        return " || ".join(found)

    def returned(self, answer: DeclaredAnswer) -> str:
        """A fault is returned with an error code, unless its declaration says otherwise."""
        return f"$statusCode == {answer.status}" if answer.status.startswith("2") else REFUSED

    def unmet(self, exchange: Exchange) -> Iterator[Unmet]:
        response = exchange.response
        law, field, wanted = _REQUIRED.get(response.status if response else 0, ("", "", ""))
        if response is not None and law and header(response.headers, field) is None:
            yield Unmet(law, f"header.{field}", wanted, f"no {field}")

    def version_of(self, exchange: Exchange) -> str | None:
        return header(exchange.response.headers, "etag") if exchange.response else None

    def exact(self, version: str) -> bool:
        """Weak entity tags may stay while the bytes change (RFC 9110, section 8.8.1)."""
        return not version.startswith("W/")

    def other_version(self, version: str) -> str:
        number = re.fullmatch(r'((?:W/)?"?)(\d+)("?)', version)
        if number:
            return f"{number[1]}{max(0, int(number[2]) - 1) or int(number[2]) + 1}{number[3]}"
        place = next((at for at in range(len(version) - 1, -1, -1) if version[at].isalnum()), None)
        if place is None:
            return '"juxtalogos-other"'
        char = version[place]
        other = "1" if char == "0" else "0" if char.isdigit() else "b" if char in "aA" else "a"
        return version[:place] + other + version[place + 1 :]

    def precondition(self, operation: Operation, version: str, *, unless: bool = False) -> dict[str, str]:
        field = _CONDITIONS[unless][0]
        return {_declared_header(operation, field) or f"header.{field}": version}

    def conditional(self, operation: Operation, *, unless: bool = False) -> bool:
        field, code = _CONDITIONS[unless]
        return bool(_declared_header(operation, field)) or any(
            one.status == code for one in operation.answers
        )

    def unchanged(self, exchange: Exchange) -> bool:
        return exchange.response is not None and exchange.response.status == 304

    def follow(self, exchange: Exchange) -> Request | None:
        """A GET of the response's `Location` (RFC 9110, sections 10.2.2 and 15.3.3)."""
        response = exchange.response
        where = header(response.headers, "location") if response else None
        if response is None or where is None or response.status not in _LEADING:
            return None
        try:
            url = urljoin(exchange.request.url, where)
            same = origin(url) == origin(exchange.request.url)
        except ValueError:
            return None
        kept = tuple(pair for pair in exchange.request.headers if pair[0].lower() == "accept")
        return Request("GET", url, kept, None) if same else None

    def next_page(self, exchange: Exchange) -> str | None:
        """The target of a `Link`, else a field that is named for it."""
        if exchange.response is None:
            return None
        named = (text for name, text in exchange.response.headers if _names_next(plain(name)))
        return next_link(exchange.response.headers) or next(named, None)

    def page_at(self, exchange: Exchange, address: str) -> Request | None:
        """By the same method; a page of another origin is not read."""
        url = urljoin(exchange.request.url, address)
        if exchange.request.body or origin(url) != origin(exchange.request.url):
            return None
        return replace(exchange.request, url=url)

    def created(self, exchange: Exchange) -> bool | None:
        return exchange.response is not None and exchange.response.status == _CREATED

    def not_done(self, exchange: Exchange) -> bool:
        """A server that is unavailable, or limits the rate, has not done what it was asked for (RFC 9110,
        section 15.6.4; RFC 6585, section 4).
        """
        return exchange.response is not None and exchange.response.status in _NOT_DONE

    def head_of(self, operation: Operation, request: Request) -> Request | None:
        if operation.method != "GET":
            return None
        return Request("HEAD", request.url, request.headers, None)

    def variants(self, operation: Operation, inputs: Inputs) -> Iterable[Variant]:
        if operation.body is not None and isinstance(inputs.content_type, str):
            yield from self._bodies(operation, parse_media_type(inputs.content_type))
        yield from self._methods(operation)

    def _bodies(self, operation: Operation, sent: MediaType | None) -> Iterator[Variant]:
        """Bodies that are cut off, no text of their media type, left out, or of another media type."""
        assert operation.body is not None
        if sent is not None and (sent.is_json or sent.is_xml):
            yield Variant("body", "syntax: cut off", Wrong.SYNTAX, _cut)
            word = "JSON" if sent.is_json else "XML"
            yield Variant(
                "body", f"syntax: no {word}", Wrong.SYNTAX, lambda one: replace(one, body=b"quay]{")
            )
        if operation.body.required:
            yield Variant("body", "required: no body", Wrong.SYNTAX, lambda one: replace(one, body=b""))
        yield from self.other_versions(operation)
        declared = {media.media_type.partition(";")[0].strip().lower() for media in operation.body.media}
        if not declared or any("*" in name for name in declared):
            return
        if sent is not None and (sent.is_json or sent.is_xml or sent.is_form):
            strange = next(name for name in _STRANGE_TYPES if name not in declared)
            rule = f"media type: {strange}"
            yield Variant("header.Content-Type", rule, Wrong.MEDIA, lambda one: _with_type(one, strange))

    def other_versions(self, operation: Operation) -> Iterable[Variant]:
        """Messages of another version of a protocol that lies on HTTP."""
        return ()

    def _methods(self, operation: Operation) -> Iterator[Variant]:
        """A method that is declared for no operation of the path; never one where reading it would be a
        success.
        """
        if not self.method_tells or operation.method not in ("GET", "POST"):
            return
        there = {one.method for one in self.contract.operations if one.path == operation.path}
        strange = next((name for name in ("PATCH", "PUT") if name not in there), "")
        if strange and not (operation.method == "POST" and "GET" in there):
            rule = f"method: {strange}"
            yield Variant(
                "method", rule, Wrong.METHOD, lambda one: Request(strange, one.url, one.headers, None)
            )


def _names_next(name: str) -> bool:
    return ("next" in name and "page" in name) or name in ("xnext", "xnextcursor", "xnexttoken")


def _success(declared: set[str]) -> str:
    redirect = next((code for code in sorted(declared) if code.isdigit() and code.startswith("3")), "")
    if redirect and "default" not in declared and not any(code.startswith("2") for code in declared):
        return f"$statusCode == {redirect}"
    return SUCCESS


def _declared(outcome: Outcome, declared: set[str], left_open: bool) -> list[int]:
    """The codes of a refusal that an operation declares, by number or as a range; or does not rule out."""
    codes = codes_of(outcome)
    named = [code for code in codes if str(code) in declared]
    if left_open and declared & {"4XX", "default"}:
        return list(codes)
    return named or (list(codes) if "4XX" in declared else [])


def _declared_header(operation: Operation, name: str) -> str:
    return next(
        (
            one.address
            for one in operation.inputs
            if one.place == "header" and one.name.lower() == name.lower()
        ),
        "",
    )


def _cut(request: Request) -> Request:
    body = request.body or b""
    return replace(request, body=body[: max(1, len(body) * 2 // 3)])


def _with_type(request: Request, media: str) -> Request:
    kept = tuple(pair for pair in request.headers if pair[0].lower() != "content-type")
    return replace(request, headers=(*kept, ("Content-Type", media)))
