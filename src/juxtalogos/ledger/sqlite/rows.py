"""Records as rows, and rows as records."""

from __future__ import annotations

import hashlib
import json
import sqlite3
import time
import zlib
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, field, replace
from typing import Any

from juxtalogos.ledger.records import ExchangeRecord
from juxtalogos.model.exchange import BodyForm, Exchange, Request, Response, Timings
from juxtalogos.model.findings import CheckResult, Severity
from juxtalogos.model.location import Location
from juxtalogos.model.verdict import Verdict

SMALL = 200
"""Bytes below which compressing gains nothing."""


@dataclass(slots=True)
class Batch:
    """The rows of some records: each content once, by a digest keyed with the ledger's own key, so that
    nobody can choose two that meet.
    """

    run: int
    key: bytes
    next_id: int
    ids: list[int] = field(default_factory=list)
    exchanges: list[tuple[Any, ...]] = field(default_factory=list)
    bodies: dict[int, tuple[int, int, str, bytes]] = field(default_factory=dict)
    result_sets: dict[int, tuple[int, str]] = field(default_factory=dict)
    findings: list[tuple[Any, ...]] = field(default_factory=list)
    hits: dict[tuple[str, str, int, str], dict[str, list[int]]] = field(default_factory=dict)

    def add(self, record: ExchangeRecord, number: int = 0, run: int = 0) -> None:
        """`number` and `run` are given where a record keeps those that it has."""
        number = number or self.next_id
        run = run or self.run
        self.next_id = max(self.next_id, number + 1)
        exchange = record.exchange
        request = exchange.request if exchange else Request("", "")
        response = exchange.response if exchange else None
        timings = exchange.timings if exchange else Timings(time.time(), 0, 0)
        failing = sum(result.fails for result in record.results)
        self.exchanges.append(
            (
                number,
                run,
                storable(record.suite),
                storable(record.case),
                storable(record.step),
                record.contract,
                storable(record.operation),
                storable(record.role),
                record.whole,
                record.verdict,
                storable(record.reason),
                storable(request.method),
                storable(request.url),
                response.status if response else 0,
                timings.sent_at,
                timings.first_byte,
                timings.total,
                storable(exchange.error) if exchange else "",
                json.dumps(request.headers),
                self._body(request.body),
                record.request_form,
                _head(response),
                self._body(response.body if response else None),
                record.response_form,
                self._results(record.results),
                failing,
                _notes(record),
            )
        )
        self.ids.append(number)
        for place, result in enumerate(record.results):
            if not result.held:
                finding = record.finding(result)
                self.findings.append(
                    (number, run, place, result.result_class, result.kind, finding.fingerprint)
                )
        for part in record.parts:
            self.add(replace(part, whole=number), run=run)
        if record.hits:
            counts = self.hits.setdefault(
                (record.contract, record.operation, record.status, record.media_type), {}
            )
            for element in record.hits:
                found = counts.get(element)
                if found is None:
                    counts[element] = [1, number]
                else:
                    found[0] += 1

    def hit_rows(self) -> Iterator[tuple[Any, ...]]:
        """Each element once with how often it was hit and where first."""
        for (contract, operation, status, media_type), counts in self.hits.items():
            for element, (count, first) in counts.items():
                named = map(storable, (contract, element, operation))
                yield self.run, *named, status, storable(media_type), count, first

    def _digest(self, content: bytes) -> int:
        return int.from_bytes(
            hashlib.blake2b(content, key=self.key, digest_size=8).digest(), "big", signed=True
        )

    def _body(self, body: bytes | None) -> int | None:
        if body is None:
            return None
        number = self._digest(body)
        if number not in self.bodies:
            packed = zlib.compress(body, 1) if len(body) >= SMALL else body
            coding, data = ("zlib", packed) if len(packed) < len(body) else ("", body)
            self.bodies[number] = number, len(body), coding, data
        return number

    def _results(self, results: tuple[CheckResult, ...]) -> int | None:
        if not results:
            return None
        text = json.dumps([_result(result) for result in results], separators=(",", ":"))
        number = self._digest(text.encode())
        self.result_sets[number] = number, text
        return number


def storable(text: str) -> str:
    """A text with lone surrogates, which no UTF-8 holds, as escapes."""
    return text if text.isascii() else text.encode("utf-8", "backslashreplace").decode()


def _result(result: CheckResult) -> tuple[Any, ...]:
    place = result.location
    document, pointer = (place.document, place.pointer) if place else (None, None)
    return (
        result.kind,
        int(result.held),
        result.at,
        result.declared,
        result.observed,
        document,
        pointer,
        result.severity,
        int(result.proving),
        result.detail,
        result.anchor,
        result.former,
    )


def results_of(text: str | None) -> tuple[CheckResult, ...]:
    """The results that a row holds."""
    return tuple(_check_result(row) for row in json.loads(text)) if text else ()


def _check_result(row: Sequence[Any]) -> CheckResult:
    kind, held, at, declared, observed, document, pointer, severity, proving, detail, *anchor = (
        row  # older rows have none
    )
    location = Location(document, pointer) if document is not None else None
    return CheckResult(
        kind, bool(held), at, declared, observed, location, Severity(severity), bool(proving), detail, *anchor
    )


def exchange_record(row: Sequence[Any]) -> ExchangeRecord:
    """A record, of a row of `stored`."""
    (
        number,
        run,
        suite,
        case,
        step,
        contract,
        operation,
        role,
        whole,
        verdict,
        reason,
        method,
        url,
        status,
        sent_at,
        first_byte,
        total,
        error,
        headers,
        request_coding,
        request,
        request_form,
        head,
        response_coding,
        response,
        response_form,
        results,
        _,
        notes,
    ) = row
    exchange = None
    if method:
        sent = Request(method, url, _fields(json.loads(headers)), _unpacked(request_coding, request))
        came = _response(status, head, _unpacked(response_coding, response))
        exchange = Exchange(sent, came, Timings(sent_at, first_byte, total), error)
    told = json.loads(notes) if notes else {}
    return ExchangeRecord(
        case,
        step,
        contract,
        operation,
        exchange,
        Verdict(verdict),
        reason,
        results_of(results),
        (),
        suite,
        number,
        run,
        _fields(told.get("known", {}).items()),
        _fields(told.get("flows", ())),
        str(told.get("note", "")),
        _fields(told.get("reported", ())),
        role,
        whole,
        BodyForm(request_form),
        BodyForm(response_form),
    )


def _unpacked(coding: str | None, data: bytes | None) -> bytes | None:
    return zlib.decompress(data) if coding == "zlib" and data is not None else data


def _head(response: Response | None) -> str | None:
    if response is None:
        return None
    told = (
        response.reason,
        response.headers,
        response.http_version,
        response.truncated,
        response.problem,
        response.body_kept,
    )
    return json.dumps(told)


def _response(status: int, head: str | None, body: bytes | None) -> Response | None:
    if head is None:
        return None
    phrase, fields, version, truncated, problem, *kept = json.loads(head)
    return Response(status, phrase, _fields(fields), body or b"", version, truncated, problem, *kept)


def _fields(pairs: Iterable[Sequence[str]]) -> tuple[tuple[str, str], ...]:
    return tuple((name, value) for name, value in pairs)


def _notes(record: ExchangeRecord) -> str:
    told = {
        "known": dict(record.known),
        "flows": record.flows,
        "note": record.note,
        "reported": record.reported,
    }
    kept = {key: value for key, value in told.items() if value}
    return json.dumps(kept, separators=(",", ":")) if kept else ""


def store_batch(db: sqlite3.Connection, batch: Batch) -> None:
    """Inserts the rows of a batch within a transaction."""
    db.executemany("INSERT OR IGNORE INTO body VALUES (?, ?, ?, ?)", batch.bodies.values())
    db.executemany("INSERT OR IGNORE INTO result_set VALUES (?, ?)", batch.result_sets.values())
    db.executemany(f"INSERT INTO main.exchange VALUES (?{', ?' * 26})", batch.exchanges)
    db.executemany("INSERT INTO main.finding VALUES (?, ?, ?, ?, ?, ?)", batch.findings)
    db.executemany(
        "INSERT INTO hit VALUES (?, ?, ?, ?, ?, ?, ?, ?) ON CONFLICT DO UPDATE SET count = count +"
        " excluded.count",
        batch.hit_rows(),
    )
