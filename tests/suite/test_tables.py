"""Tables on their own: what each kind gives, what is wrong with a file, libraries that are not installed."""

from __future__ import annotations

import builtins
import csv
import json
import sqlite3
import tempfile
from datetime import date, datetime
from pathlib import Path
from typing import Any

import openpyxl
import pyarrow
import pyarrow.parquet
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from juxtalogos.extras import extra
from juxtalogos.model.errors import SuiteError, UsageError
from juxtalogos.suite import tables
from juxtalogos.suite.tables import TABLE_SOURCES, read_table
from scripted import Bench, case, step

INPUTS = {"inputs": {"type": "object", "properties": {"line": {}, "at": {}}}}


@pytest.fixture
def bench(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Bench:
    made = Bench(tmp_path / "work", monkeypatch)
    (made.home.root / "tables").mkdir()
    return made


def rows(bench: Bench, **table: str) -> Any:
    bench.suite(
        case("c", step("read", "readLine", line="$inputs.line"), **INPUTS, **{"x-juxtalogos-table": table})
    )
    from juxtalogos.suite.document.reader import read_suites, suite_paths

    (suite,), _ = read_suites(bench.home, suite_paths(bench.home))
    return read_table(bench.home, suite, suite.cases[0])


def test_texts(bench: Bench) -> None:
    folder = bench.home.root / "tables"
    (folder / "t.csv").write_bytes(b'\xef\xbb\xbfline,at\r\n1,"a, ""b""\nc"\r\n\r\n2\r\n,x\r\n')
    assert rows(bench, file="t.csv") == ({"line": "1", "at": 'a, "b"\nc'}, {"line": "2"}, {"at": "x"})
    (folder / "t.tsv").write_text("line\tat\n1\ta,b\n")
    assert rows(bench, file="t.tsv") == ({"line": "1", "at": "a,b"},)
    (folder / "t.csv").write_text("")
    assert rows(bench, file="t.csv") == ()
    for text, words in (
        ("line,line\n1,2\n", "stands twice"),
        ("line\n1,2\n", "line 2 has 2 cells"),
        ('line\n"1', "unexpected end"),
        ("line\n\udcff", ""),
    ):
        (folder / "t.csv").write_bytes(text.encode("utf-8", "surrogateescape"))
        with pytest.raises(SuiteError, match=words or "cannot be read"):
            rows(bench, file="t.csv")


def test_books(bench: Bench) -> None:
    book = openpyxl.Workbook()
    for row in (
        ["line", None, "at", None],
        [1, "no name", datetime(2026, 5, 1), None],
        [None] * 4,
        [2.5, None, datetime(2026, 5, 1, 6, 30), 7],
        [True, None, date(2026, 5, 2)],
    ):
        book.active.append(row)
    book.save(bench.home.root / "tables" / "t.xlsx")
    assert rows(bench, file="t.xlsx") == (
        {"line": 1, "at": "2026-05-01"},
        {"line": 2.5, "at": "2026-05-01T06:30:00"},
        {"line": True, "at": "2026-05-02"},
    )
    for data in (b"PK\x03\x04 and nothing more", b"no zip at all"):
        (bench.home.root / "tables" / "t.xlsx").write_bytes(data)
        with pytest.raises(SuiteError, match="no Excel file"):
            rows(bench, file="t.xlsx")


def test_columns(bench: Bench) -> None:
    path = bench.home.root / "tables" / "t.parquet"
    values = [{"line": 1, "at": datetime(2026, 5, 1)}, {"line": None, "at": datetime(2026, 5, 1, 6)}]
    pyarrow.parquet.write_table(pyarrow.Table.from_pylist(values), path)
    assert rows(bench, file="t.parquet") == ({"line": 1, "at": "2026-05-01"}, {"at": "2026-05-01T06:00:00"})
    path.write_bytes(b"PAR1 broken")
    with pytest.raises(SuiteError, match="cannot be read"):
        rows(bench, file="t.parquet")


def test_queries(bench: Bench, monkeypatch: pytest.MonkeyPatch) -> None:
    path = bench.home.root / "lines.db"
    with sqlite3.connect(path) as database:
        database.execute("CREATE TABLE t (line INTEGER, at TEXT)")
        database.executemany("INSERT INTO t VALUES (?, ?)", [(1, "a"), (2, None)])
    database.close()
    config = bench.home.root / "juxtalogos.toml"
    text = config.read_text("utf-8")
    for more in (
        '[queries.q]\nfile = "lines.db"\nsql = "SELECT * FROM t"\n',
        '[queries.q]\nenv = "LINES_DB"\nsql = "SELECT * FROM t"\n',
    ):
        monkeypatch.setenv("LINES_DB", f"sqlite:///{path}")
        bench.configure(more)
        assert rows(bench, query="q") == ({"line": 1, "at": "a"}, {"line": 2})
        bench.configure(more.replace("FROM t", "FROM nowhere"))
        with pytest.raises(SuiteError, match="no such table"):
            rows(bench, query="q")
    config.write_text(text, "utf-8")
    bench.configure("")
    with pytest.raises(SuiteError, match="there is no query"):
        rows(bench, query="q")


@pytest.mark.parametrize(("ending", "name"), [(".xlsx", "excel"), (".parquet", "parquet")])
def test_a_library_that_is_not_installed_is_named_with_its_extra(
    ending: str, name: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    def missing(module: str, *_: object) -> Any:
        raise ImportError(module)

    monkeypatch.setattr("juxtalogos.extras.import_module", missing)
    with pytest.raises(UsageError, match="which is not installed") as caught:
        TABLE_SOURCES[ending](tmp_path / f"t{ending}")
    assert caught.value.mend == f"pip install 'juxtalogos[{name}]'"
    monkeypatch.undo()
    assert extra("builtins", "x", "y") is builtins and tables.MAX_COLUMNS


CELLS = st.text(
    st.characters(codec="utf-8", exclude_categories=["Cs"], exclude_characters="\x00\r"), max_size=6
)


@settings(max_examples=80, deadline=None)
@given(
    st.lists(st.fixed_dictionaries({"line": CELLS, "at": CELLS | st.integers() | st.booleans()}), max_size=4),
    st.sampled_from(["\n", "\r\n"]),
)
def test_every_cell_comes_back_as_it_was_written(written: list[dict[str, Any]], end: str) -> None:
    with tempfile.TemporaryDirectory() as folder:
        lines = Path(folder, "t.jsonl")
        lines.write_bytes(b"".join((json.dumps(row, ensure_ascii=False) + end).encode() for row in written))
        assert TABLE_SOURCES[".jsonl"](lines) == written
        for suffix, delimiter in ((".csv", ","), (".tsv", "\t")):
            cells = Path(folder, f"t{suffix}")
            with cells.open("w", encoding="utf-8-sig", newline="") as file:
                writer = csv.DictWriter(
                    file, ["line", "at"], delimiter=delimiter, lineterminator=end, quoting=csv.QUOTE_ALL
                )
                writer.writeheader()
                writer.writerows(written)
            assert TABLE_SOURCES[suffix](cells) == [
                {name: str(cell) for name, cell in row.items()} for row in written
            ]


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("{}\n\n[1]\n", "line 3 is no object"),
        ('{"line": 1}\n{"line": NaN}\n', "line 2 is no JSON: NaN"),
        ("{}\n" + '{"line": ' + "[" * 90_000, "line 2 is no JSON: nested too deep"),
        ("\n{'a': 1}", "line 2 is no JSON"),
    ],
)
def test_what_is_wrong_with_a_line(bench: Bench, text: str, words: str) -> None:
    (bench.home.root / "tables" / "t.jsonl").write_text(text)
    with pytest.raises(SuiteError, match=words):
        rows(bench, file="t.jsonl")
