"""Hostile ground: inputs of every kind, damaged by a seeded generator, each ends in an error of ours or is
used, within its budget.

A sample runs with the tests; `python tests/whole/test_hostile.py 5000` runs so many and prints the table of
docs/reliability.md.
"""

from __future__ import annotations

import asyncio
import contextlib
import gzip
import io
import itertools
import json
import multiprocessing
import random
import resource
import sqlite3
import sys
import tempfile
import time
import tomllib
import zipfile
from collections import Counter
from collections.abc import Callable, Iterator
from importlib import resources
from pathlib import Path

import pytest

from juxtalogos.compose.requests import sample_inputs
from juxtalogos.documents.load import load_document
from juxtalogos.exchange.har import read_har
from juxtalogos.exchange.redact import Redactor
from juxtalogos.exchange.transport import Transport, TransportOptions
from juxtalogos.formats import wire_of
from juxtalogos.ledger import ExchangeQuery, open_ledger
from juxtalogos.model.errors import JuxtalogosError
from juxtalogos.model.exchange import Exchange, Request, Response, Timings
from juxtalogos.run.judging.judge import judge
from juxtalogos.schema.json.engine import TooDeep
from juxtalogos.suite.document.reader import read_suites
from juxtalogos.suite.tables import rows_of
from juxtalogos.workspace.config import read_config
from juxtalogos.workspace.importing import keep, read_source
from juxtalogos.workspace.remote import Access
from juxtalogos.workspace.workspace import Workspace, init_workspace

SECONDS, MEMORY = 20.0, 1024
"""Of one input: processor seconds, and megabytes."""
DEMO = resources.files("juxtalogos.demo")

# The damage.

_WORDS = (
    b"null",
    b"-1",
    b"1e999",
    b"NaN",
    b"9" * 400,
    b'"\\ud800"',
    b"\x00",
    b"\xff\xfe",
    b"{}",
    b"[]",
    b'{"$ref": "#"}',
    b'{"$ref": "nowhere.yaml#/x"}',
    b"'''",
    b"<!-- ",
    b"]]>",
    b"&amp;",
    b"&x;",
    b"%00",
    b"$steps.x.outputs.y",
    b"\xe2\x80\xae",
    b"true",
    b"2147483648",
    b"(a+)+$",
    b"\\d{99999999999999999999}",
    b"\r\n",
    b"*",
    b"..",
    b"file:///etc/passwd",
    b"http://[",
    b"x" * 5000,
)


def damaged(rng: random.Random, data: bytes) -> bytes:
    """A text with one to four places changed: a word for another, a piece gone, doubled, moved, repeated,
    bytes turned.
    """
    out = bytearray(data)
    for _ in range(rng.randint(1, 4)):
        at = rng.randrange(len(out) + 1)
        end = min(len(out), at + rng.choice((1, 2, 8, 40, 400)))
        match rng.randrange(7):
            case 0:
                out[at:end] = rng.choice(_WORDS)
            case 1:
                del out[at:end]
            case 2:
                out[at:at] = out[at:end]
            case 3:
                piece = bytes(out[at:end])
                del out[at:end]
                where = rng.randrange(len(out) + 1)
                out[where:where] = piece
            case 4:
                out[at:at] = bytes(out[at:end]) * rng.choice((3, 50, 500))
            case 5:
                for where in range(at, end):
                    out[where] ^= 1 << rng.randrange(8)
            case _:
                out[at:end] = _other_value(rng, bytes(out[at:end]))
    return bytes(out)


def _other_value(rng: random.Random, piece: bytes) -> bytes:
    """Numbers and letters of a piece turned into others, so that its form stays."""
    return bytes(
        (
            rng.choice(b"0123456789")
            if 48 <= one < 58
            else rng.choice(b"abcxyzABC")
            if chr(one).isalpha() and rng.random() < 0.2
            else one
        )
        for one in piece
    )


def gentle(rng: random.Random, data: bytes) -> bytes:
    """A text whose words are changed and whose form is not: most of these get past parsing."""
    words = list(itertools.islice((found for found in _spans(data)), 20_000))
    out, shift = bytearray(data), 0
    for start, end in sorted(rng.sample(words, min(len(words), rng.randint(1, 6)))):
        fresh = _other_value(rng, data[start:end]) if rng.random() < 0.5 else data[slice(*rng.choice(words))]
        out[start + shift : end + shift] = fresh
        shift += len(fresh) - (end - start)
    return bytes(out)


def _spans(data: bytes) -> Iterator[tuple[int, int]]:
    import re

    within = rb"(?<=[\"'>])[A-Za-z0-9_.:$-]+(?=[\"'<])" if data.lstrip()[:1] == b"<" else rb"[A-Za-z0-9_.$-]+"
    return (found.span() for found in re.finditer(within, data))


# What each kind is put through; True where it got past parsing.

Take = Callable[[bytes, Path], bool]


def _definition(name: str) -> Take:
    def take(data: bytes, folder: Path) -> bool:
        path = folder / name
        path.write_bytes(data)
        (found,) = read_source(str(path), Access(), name="quay")
        contract = found.contract
        assert contract is not None
        for operation in list(contract.operations)[:8]:
            for ref in itertools.islice(contract.schema_refs(operation), 4):
                schema = contract.schema(ref)
                list(itertools.islice(schema.outline(), 500))
                list(itertools.islice(schema.elements(), 500))
            try:
                request = wire_of(contract).encode(
                    operation, sample_inputs(contract, operation, full=True), "http://quay.test/v1"
                )
                answer = Response(
                    200, "OK", (("Content-Type", "application/json"),), b'{"a": [1, {"b": null}]}'
                )
                judge(
                    wire_of(contract),
                    operation,
                    Exchange(request, answer, Timings(0, 0, 0)),
                    "http://quay.test/v1",
                )
            except (JuxtalogosError, TooDeep):
                continue
        return bool(contract.operations)

    return take


def _archive(data: bytes, folder: Path) -> bool:
    path = folder / "in.zip"
    path.write_bytes(data)
    return any(one.contract is not None for one in read_source(str(path), Access(), name="quay"))


def _suite(data: bytes, folder: Path) -> bool:
    home = Workspace(folder / "w")
    path = home.suites / "a.arazzo.yaml"
    path.write_bytes(data)
    load_document("a.arazzo.yaml", data)
    with contextlib.suppress(JuxtalogosError):
        read_suites(home, [path])
    return True


def _config(data: bytes, folder: Path) -> bool:
    path = folder / "x.toml"
    path.write_bytes(data)
    with contextlib.suppress(JuxtalogosError):
        read_config(path)
    tomllib.loads(data.decode("utf-8"))
    return True


def _table(name: str) -> Take:
    def take(data: bytes, folder: Path) -> bool:
        path = folder / name
        path.write_bytes(data)
        rows_of(path)
        return True

    return take


def _har(data: bytes, folder: Path) -> bool:
    return bool(read_har(data, "x.har"))


def _messages(data: bytes, folder: Path) -> bool:
    return _definition("GET.http")(data, folder)


def _ledger(data: bytes, folder: Path) -> bool:
    path = folder / "ledger.sqlite"
    path.write_bytes(data)
    with open_ledger(path) as ledger:
        runs = ledger.runs()
        with contextlib.suppress(JuxtalogosError):
            for run in runs:
                ledger.cases(run.id)
                list(ledger.steps(run.id))
                list(ledger.reported(run.id))
                ledger.findings(run.id)
                list(ledger.exchanges(ExchangeQuery(run=run.id)))
    return bool(runs)


def _answer(name: str, operation: str, kind: str) -> Take:
    def take(data: bytes, folder: Path) -> bool:
        contract = Workspace(folder / "w").contract(name)
        one = contract.operation(operation)
        assert one is not None
        for content_type in (kind, f"{kind}; charset=punycode", "text/plain; charset=utf-7"):
            answer = Response(
                200, "OK", (("Content-Type", content_type), ("Location", data[:80].decode("latin-1"))), data
            )
            exchange = Exchange(Request("GET", "http://quay.test/v1/vessels/V-1"), answer, Timings(0, 0, 0))
            found = judge(wire_of(contract), one, exchange, "http://quay.test/v1")
            redactor = Redactor.of(("tern-4711-x",))
            redactor.exchange(exchange)
            [redactor.result(result) for result in found.results]
        return found.answer is not None

    return take


def _live(data: bytes, folder: Path) -> bool:
    """An answer as it comes over a connection, in one piece or in drips; closed after it, or left open
    without a word.
    """
    pieces = [data] if len(data) % 3 else [data[at : at + 97] for at in range(0, min(len(data), 4000), 97)]

    async def serve(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        with contextlib.suppress(OSError, asyncio.IncompleteReadError, asyncio.CancelledError):
            await reader.readuntil(b"\r\n\r\n")
            for piece in pieces:
                writer.write(piece)
                await writer.drain()
                await asyncio.sleep(0)
            if len(data) % 7 == 0:
                await asyncio.wait([asyncio.ensure_future(reader.read(1))], timeout=1.0)
        writer.close()

    async def ask() -> Exchange:
        server = await asyncio.start_server(serve, "127.0.0.1", 0)
        url = f"http://127.0.0.1:{server.sockets[0].getsockname()[1]}/v1/vessels/V-1"
        async with Transport(TransportOptions(connect_timeout=1, timeout=0.5)) as transport:
            found = await transport.send(Request("GET", url, (("Accept-Encoding", "gzip, deflate"),)))
        server.close()
        return found

    exchange = asyncio.run(ask())
    contract = Workspace(folder / "w").contract("berths")
    operation = contract.operation("getVessel")
    assert operation is not None
    judge(wire_of(contract), operation, exchange, "http://quay.test/v1")
    Redactor.of(("tern-4711-x",)).exchange(exchange)
    assert (exchange.response is None) == bool(exchange.error)
    return exchange.response is not None


def _live_answer() -> bytes:
    packed = gzip.compress(
        b'{"vesselId": "V-1001", "name": "Tern", "kind": "bulk", "lengthMetres": 90.5}', mtime=0
    )
    parts = (packed[:30], packed[30:])
    chunks = b"".join(
        b"%x;part=%d\r\n%b\r\n" % (len(part), number, part) for number, part in enumerate(parts)
    )
    return (
        b"HTTP/1.1 100 Continue\r\n\r\nHTTP/1.1 200 OK\r\nContent-Type: application/json;"
        b" charset=utf-8\r\nContent-Encoding: gzip\r\nSet-Cookie: berth=B2; Path=/;"
        b' Max-Age=60\r\nTransfer-Encoding: chunked\r\nETag: "7"\r\n\r\n'
        + chunks
        + b"0\r\nX-Tide: 4.1\r\n\r\n"
    )


SUITE = b"""arazzo: 1.0.1
info: {title: a, version: 1.0.0}
sourceDescriptions:
- {name: berths, url: ../definitions/berths/berths.yaml, type: openapi}
workflows:
- workflowId: one
  inputs: {type: object, properties: {name: {type: string, x-juxtalogos-value: "pick('a', 'b')"}}}
  x-juxtalogos-tags: [nightly]
  steps:
  - stepId: made
    operationId: $sourceDescriptions.berths.registerVessel
    requestBody: {contentType: application/json, payload: {name: $inputs.name, kind: bulk, lengthMetres: 90.5}}
    successCriteria: [{condition: $statusCode == 201 && $response.body#/kind == 'bulk'}, {context: $response.body, type: jsonpath, condition: '$[?@.name]'}]
    outputs: {id: '$response.body#/vesselId'}
    x-juxtalogos-checks: [{at: body/name, matches: '^[A-Z]'}, {jsonpath: $.name, exists: true}, {at: body/lengthMetres, computed: 'inputs.a * 2'}]
    x-juxtalogos-reported: {vessel: body/vesselId}
  - stepId: read
    operationId: $sourceDescriptions.berths.getVessel
    parameters: [{name: vesselId, in: path, value: $steps.made.outputs.id}]
    onFailure: [{name: again, type: retry, retryAfter: 1, retryLimit: 2}]
"""
CONFIG = b"""version = 1
[defaults]
jobs = 4
[variables]
x = { formula = "today()" }
[targets.q]
url = "http://127.0.0.1:9/v1"
timeout = 30
[targets.q.headers]
X-Desk = "east"
[targets.q.credentials.key]
env = "KEY"
[targets.q.system]
start = ["true"]
ready = "http://127.0.0.1:9/ready"
[[contracts.berths.off]]
operation = "*"
kind = "body.format"
reason = "local times"
"""
ENTRY = {
    "startedDateTime": "2026-03-14T06:30:00Z",
    "time": 5,
    "request": {
        "method": "GET",
        "url": "http://quay.test/v1/berths",
        "httpVersion": "HTTP/1.1",
        "headers": [{"name": "A", "value": "b"}],
        "queryString": [],
        "cookies": [],
        "headersSize": -1,
        "bodySize": 0,
    },
    "response": {
        "status": 200,
        "statusText": "OK",
        "httpVersion": "HTTP/1.1",
        "headers": [{"name": "Content-Type", "value": "application/json"}],
        "cookies": [],
        "content": {"size": 2, "mimeType": "application/json", "text": "[]"},
        "redirectURL": "",
        "headersSize": -1,
        "bodySize": 2,
    },
    "cache": {},
    "timings": {"send": 1, "wait": 1, "receive": 1},
}
MESSAGE = (
    b"PUT /v1/berths/B2?state=free&state=held HTTP/1.1\r\nHost: h\r\nContent-Type:"
    b" application/json\r\nAuthorization: Bearer x\r\n\r\n" + b'{"a": {"b": [1, 2, {"c": "d"}]}}'
)
ENVELOPE = (
    b'<e:Envelope xmlns:e="http://schemas.xmlsoap.org/soap/envelope/"><e:Body><p:GetJobAnswer'
    b' xmlns:p="urn:merrow:pilotage"'
    b' xmlns:h="urn:merrow:harbour"><p:job><h:jobId>PJ-1001</h:jobId><h:state>planned</h:state></p:job></p:GetJobAnswer></e:Body></e:Envelope>'
)


def _zip() -> bytes:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as archive:
        archive.writestr("api/berths.yaml", DEMO.joinpath("berths.yaml").read_bytes())
    return out.getvalue()


def _sheet() -> bytes:
    import openpyxl

    book, out = openpyxl.Workbook(), io.BytesIO()
    for row in (("name", "length"), ("Tern", 90.5), ("Skerry", None)):
        book.active.append(row)
    book.save(out)
    return out.getvalue()


def _book(folder: Path) -> bytes:
    """A ledger with something in it."""
    from juxtalogos.ledger import CaseRecord, ExchangeRecord
    from juxtalogos.model.verdict import Verdict

    path = folder / "made.sqlite"
    exchange = Exchange(
        Request("GET", "http://quay.test/x", (), None), Response(200, "OK", (), b"{}" * 300), Timings(1, 0, 0)
    )
    with open_ledger(path, write=True) as ledger:
        run = ledger.begin("run", "q", "all")
        records = [
            ExchangeRecord(
                "c",
                f"s{number}",
                "berths",
                "op",
                exchange,
                Verdict.PASSED,
                "",
                suite="a",
                reported=(("x", "y"),),
            )
            for number in range(40)
        ]
        ledger.add(run, records, [CaseRecord("a", "c", Verdict.PASSED, "", 0.1)])
        ledger.end(run, Verdict.PASSED)
    return path.read_bytes()


def kinds(folder: Path) -> dict[str, tuple[bytes, Take]]:
    """By kind a sound input, and what it is put through."""
    return {
        "OpenAPI": (DEMO.joinpath("berths.yaml").read_bytes(), _definition("berths.yaml")),
        "WSDL": (DEMO.joinpath("pilotage.wsdl").read_bytes(), _definition("pilotage.wsdl")),
        "OData metadata": (DEMO.joinpath("registry.edmx").read_bytes(), _definition("registry.edmx")),
        "messages": (MESSAGE, _messages),
        "archives": (_zip(), _archive),
        "suites": (SUITE, _suite),
        "configuration": (CONFIG, _config),
        "CSV tables": (b'name,length\nTern,90.5\n"Sk,erry",12\n' * 5, _table("t.csv")),
        "JSON lines": (b'{"name": "Tern", "length": 90.5}\n' * 5, _table("t.jsonl")),
        "Excel tables": (_sheet(), _table("t.xlsx")),
        "recordings": (
            json.dumps(
                {"log": {"version": "1.2", "creator": {"name": "x", "version": "1"}, "entries": [ENTRY] * 3}}
            ).encode(),
            _har,
        ),
        "ledgers": (_book(folder), _ledger),
        "JSON answers": (
            (
                b'{"vesselId": "V-1001", "name": "Tern", "kind": "bulk", "lengthMetres": 90.5, "owner":'
                b' {"name": "x"}}'
            ),
            _answer("berths", "getVessel", "application/json"),
        ),
        "live answers": (_live_answer(), _live),
        "SOAP answers": (ENVELOPE, _answer("pilotage", "getJob", "text/xml")),
    }


def prepared(folder: Path) -> None:
    home = init_workspace(folder / "w")
    for name in ("berths.yaml", "pilotage.wsdl"):
        for imported in read_source(str(DEMO.joinpath(name)), Access()):
            keep(home, imported)


def one_input(
    kind: str, number: int, folder: Path, table: dict[str, tuple[bytes, Take]]
) -> tuple[str, float]:
    """(`used`, `refused`, or what fault of ours it was; processor seconds) of the generator's input of that
    number.
    """
    rng = random.Random(f"{kind} {number}")
    sound, take = table[kind]
    if (number % 2 or (kind == "Excel tables" and number % 3)) and kind in _INSIDE:
        data = _INSIDE[kind](rng, sound)
        return _taken(take, data, folder)
    soft = kind not in ("archives", "Excel tables", "ledgers") and number % (
        4 if sound.lstrip()[:1] == b"<" else 2
    )
    return _taken(take, gentle(rng, sound) if soft else damaged(rng, sound), folder)


def _rezipped(rng: random.Random, data: bytes) -> bytes:
    """An archive of whose files one is damaged, packed soundly."""
    out = io.BytesIO()
    with (
        zipfile.ZipFile(io.BytesIO(data)) as archive,
        zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as fresh,
    ):
        names = archive.namelist()
        cells = [name for name in names if "sheet1" in name or "sharedStrings" in name]
        hurt = rng.choice(cells) if cells and rng.random() < 0.7 else rng.choice(names)
        for name in names:
            content = archive.read(name)
            change = (
                _cells if name in cells and rng.random() < 0.6 else gentle if rng.random() < 0.7 else damaged
            )
            fresh.writestr(name, change(rng, content) if name == hurt else content)
    return out.getvalue()


def _cells(rng: random.Random, content: bytes) -> bytes:
    """A sheet in whose cells other texts stand."""
    import re

    return re.sub(
        rb"(?<=>)[^<>]+(?=</(?:v|t)>)",
        lambda found: _other_value(rng, found[0]) if rng.random() < 0.5 else found[0],
        content,
    )


def _rewritten(rng: random.Random, data: bytes) -> bytes:
    """A ledger in whose rows something else stands."""
    with tempfile.TemporaryDirectory() as scratch:
        path = Path(scratch, "x.sqlite")
        path.write_bytes(data)
        with contextlib.closing(sqlite3.connect(path, isolation_level=None)) as db:
            for _ in range(rng.randint(1, 4)):
                table = rng.choice(("exchange", "run", "suite_case", "body", "result_set"))
                column = rng.choice([row[1] for row in db.execute(f"PRAGMA table_info({table})")])
                with contextlib.suppress(sqlite3.Error):
                    db.execute(
                        f"UPDATE {table} SET {column} = ? WHERE rowid IN (SELECT rowid FROM {table} LIMIT 3)",
                        (rng.choice((*_WORDS, 7, -1, "[]", "x", None)),),
                    )
        return path.read_bytes()


_INSIDE = {"archives": _rezipped, "Excel tables": _rezipped, "ledgers": _rewritten}


def _taken(take: Take, data: bytes, folder: Path) -> tuple[str, float]:
    began = time.process_time()
    try:
        told = "used" if take(data, folder) else "refused"
    except (JuxtalogosError, TooDeep, tomllib.TOMLDecodeError, UnicodeDecodeError) as error:
        died = "took more than" in str(error)
        told = "fault: the process apart died" if died else "refused"
    except Exception as error:
        told = f"fault: {type(error).__name__}: {str(error)[:120]}"
    return told, time.process_time() - began


@pytest.mark.parametrize("part", range(2))
def test_a_sample_of_hostile_inputs(part: int, tmp_path: Path) -> None:
    prepared(tmp_path)
    table = kinds(tmp_path)
    for kind in list(table)[part::2]:
        done = [one_input(kind, number, tmp_path, table) for number in range(40)]
        faults = [(kind, number, told) for number, (told, _) in enumerate(done) if told.startswith("fault")]
        assert not faults
        assert max(seconds for _, seconds in done) < SECONDS
        assert sum(told == "used" for told, _ in done) * 3 >= len(done), (
            kind,
            Counter(told for told, _ in done),
        )


# The whole.


def _work(task: tuple[str, int, int]) -> list[tuple[str, int, str, float, int]]:
    kind, first, last = task
    sys.setrecursionlimit(12_000)
    with tempfile.TemporaryDirectory() as scratch:
        folder = Path(scratch)
        prepared(folder)
        table = kinds(folder)
        found = []
        for number in range(first, last):
            told, seconds = one_input(kind, number, folder, table)
            found.append(
                (kind, number, told, seconds, resource.getrusage(resource.RUSAGE_SELF).ru_maxrss // 1024)
            )
        return found


def main(count: int) -> None:
    with tempfile.TemporaryDirectory() as scratch:
        prepared(Path(scratch))
        names = list(kinds(Path(scratch)))
    each = -(-count // len(names))
    tasks = [(name, first, min(first + 60, each)) for name in names for first in range(0, each, 60)]
    rows: list[tuple[str, int, str, float, int]] = []
    with multiprocessing.get_context("spawn").Pool(2, maxtasksperchild=1) as pool:
        for found in pool.imap_unordered(_work, tasks):
            rows += found
    print(
        "| kind | inputs | past parsing | faults of ours | most seconds | most MB"
        " |\n|---|---|---|---|---|---|"
    )
    for name in names:
        mine = [row for row in rows if row[0] == name]
        faults = [row for row in mine if row[2].startswith("fault")]
        print(
            f"| {name} | {len(mine)} | {sum(row[2] == 'used' for row in mine)} | {len(faults)} |"
            f" {max(row[3] for row in mine):.1f} | {max(row[4] for row in mine)} |"
        )
        for row in faults[:5]:
            print(row, file=sys.stderr)


if __name__ == "__main__":
    main(int(sys.argv[1]) if len(sys.argv) > 1 else 5_000)
