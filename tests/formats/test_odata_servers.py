"""Data services that nobody here wrote: their metadata by URL, composed, run; what they really do wrong, told
apart by section.
"""

from __future__ import annotations

import importlib.util
import subprocess
import sys
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import pytest

from conftest import TESTS, Result
from juxtalogos.ledger import ExchangeQuery, open_ledger
from juxtalogos.model.findings import general_path

Jux = Callable[..., Result]


@contextmanager
def running(kind: str, library: str) -> Iterator[str]:
    """The address of one of the services of `odata/serve.py`."""
    if importlib.util.find_spec(library) is None:
        pytest.skip(f"{library} is not installed (pip install -e .[dev])")
    command = [sys.executable, "-W", "ignore", str(TESTS / "odata" / "serve.py"), kind]
    with subprocess.Popen(command, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, text=True) as process:
        try:
            assert process.stdout is not None
            yield process.stdout.readline().strip()
        finally:
            process.kill()


def walked(jux: Jux, home: Path, url: str, name: str) -> tuple[set[tuple[str, str, str]], set[str], set[str]]:
    """(findings, operations of the contract, those answered with success) of a composed and run suite."""
    jux("init", home)
    jux("import", url, "--name", name, "-C", home)
    jux("targets", "set", "local", url, "-C", home)
    jux("compose", name, "-C", home)
    jux("run", name, "-C", home, status=None)
    listed = {one["id"] for one in jux("show", name, "--json", "-C", home).json["operations"]}
    with open_ledger(home / ".juxtalogos" / "ledger.sqlite") as ledger:
        run = ledger.run().id
        found = {
            (one.finding.operation, one.finding.result.kind, general_path(one.finding.result.at))
            for one in ledger.findings(run)
            if one.finding.result.fails
        }
        records = ledger.exchanges(ExchangeQuery(run=run, limit=100_000))
        good = {
            one.operation
            for one in records
            if one.exchange and one.exchange.response and one.exchange.response.status < 300
        }
    return found, listed, good


WRONG_V4 = {
    # JSON 4.0, section 7, and part 1, 11.2.4.1: a declared property that was selected comes, as null where it
    # has no value.
    ("Keepers.list", "option.dropped", "body/value/*/Since"),
    ("Keepers.read", "option.dropped", "body/Since"),
}
WRONG_V2 = {
    # V2 operations, 2.6: MERGE changes what it brings, and nothing else; here it empties what may not be
    # empty.
    ("Bollards.read", "body.type", "body/d/Loose"),
    ("Bollards.read", "body.type", "body/d/Pull"),
    ("Bollards.read", "change.lost", "body/d/Loose"),
    ("Bollards.read", "change.lost", "body/d/Pull"),
    ("Quays.read", "body.type", "body/d/Length"),
    ("Quays.read", "change.lost", "body/d/Length"),
    # V2 JSON, errors: the message is an object with its language.
    ("Bollards.read", "body.type", "body/error/message"),
    ("Quays.read", "body.type", "body/error/message"),
    # V2 JSON, Edm.DateTime: milliseconds since 1970; here another number comes back than was sent.
    ("Quays.create", "change.lost", "body/d/Opened"),
    ("Quays.read", "change.lost", "body/d/Opened"),
}


@pytest.mark.parametrize(
    ("kind", "library", "wrong"), [("v4", "odatapy", WRONG_V4), ("v2", "pyslet", WRONG_V2)], ids=["V4", "V2"]
)
def test_a_service_that_nobody_here_wrote(
    kind: str, library: str, wrong: set[Any], jux: Jux, tmp_path: Path
) -> None:
    with running(kind, library) as url:
        found, listed, good = walked(jux, tmp_path / "work", url, "stores")
    assert found == wrong
    assert len(good) >= 0.9 * len(listed), listed - good
