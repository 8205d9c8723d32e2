"""Tables: rows of inputs for a case, from CSV, JSON lines, Excel and Parquet files of the workspace, or a
query of the trusted configuration.
"""

from __future__ import annotations

import csv
import sqlite3
from collections.abc import Callable, Mapping
from contextlib import closing
from datetime import date, datetime, time
from decimal import Decimal
from pathlib import Path
from typing import Any
from urllib.parse import quote
from zipfile import BadZipFile

from juxtalogos.documents.jsontext import NotJson, parse_json
from juxtalogos.extras import extra
from juxtalogos.model.errors import SuiteError, nearest, quoted
from juxtalogos.plugins import Table
from juxtalogos.suite.apart import NotDone, TooMuch, apart
from juxtalogos.suite.inputs import wrong_inputs
from juxtalogos.suite.model import Case, Suite, TableSource
from juxtalogos.workspace.config import Config, Query
from juxtalogos.workspace.workspace import Workspace

MAX_BYTES = 256 * 1024 * 1024
MAX_ROWS = 1_000_000
MAX_COLUMNS = 2_000
MAX_CELL = 16 * 1024 * 1024
"""Characters of one cell."""
Row = dict[str, Any]
TableReader = Callable[[Path], list[Row]]
"""Returns the rows of a file; ValueError when it is none of its kind."""


def read_table(workspace: Workspace, suite: Suite, case: Case) -> tuple[Row, ...]:
    """The rows of a case's table; an empty cell leaves its input as it is without. SuiteError when it cannot
    be used.
    """
    assert case.table is not None
    rows = (
        _file(workspace, suite, case.table)
        if case.table.kind == "file"
        else _query(workspace, suite, case.table)
    )
    if len(rows) > MAX_ROWS:
        raise SuiteError(
            f"a table of more than {MAX_ROWS:,} rows",
            where=case.table.name,
            mend="split it over several tables",
        )
    return tuple({str(name): value for name, value in row.items() if not _is_empty(value)} for row in rows)


def check_columns(case: Case, rows: tuple[Row, ...], columns_known: Mapping[str, Any]) -> None:
    """SuiteError when an input that the case needs is neither in the table nor given otherwise."""
    for number, row in enumerate(rows[:1]):
        reason = wrong_inputs(
            case, {**case.inputs, **dict.fromkeys(case.formulas, ""), **columns_known, **row}
        )
        if "missing" in reason:
            name = reason.removeprefix("input ").partition(":")[0]
            have = ", ".join(row) or "none"
            assert case.table is not None
            raise SuiteError(
                f"the table {case.table.name} has no column {quoted(name)} (row {number + 1} has {have})",
                where=case.id,
                mend=nearest(name, row) or f"add the column {name}",
            )


def rows_of(path: Path) -> list[Row]:
    """The rows of a table file; SuiteError when it cannot be read or has none."""
    rows = _read(path)
    if not rows:
        raise SuiteError("the table has no rows", where=str(path), mend="add a row for each turn of the case")
    return rows


def _is_empty(value: Any) -> bool:
    return value is None or value == "" or (isinstance(value, float) and value != value)


def table_path(workspace: Workspace, suite: Path, name: str) -> Path | None:
    """The file of a table: beside the suite, from the workspace's root, or in `tables/`; None when there is
    none.

    SuiteError when it lies outside the workspace.
    """
    places = (suite.parent / name, workspace.root / name, workspace.root / "tables" / name)
    path = next((place for place in places if place.is_file()), None)
    if path is not None and not path.resolve().is_relative_to(workspace.root.resolve()):
        raise SuiteError(
            f"the table {quoted(name)} lies outside the workspace",
            where=str(suite),
            mend="put it into tables/",
        )
    return path


def _file(workspace: Workspace, suite: Suite, table: TableSource) -> list[Row]:
    path = table_path(workspace, suite.path, table.name)
    if path is None:
        have = sorted(one.name for one in (workspace.root / "tables").glob("*") if one.is_file())
        raise SuiteError(
            f"there is no table {quoted(table.name)}",
            where=str(suite.path),
            mend=nearest(table.name, have) or "put it into tables/",
        )
    return _read(path)


def _read(path: Path) -> list[Row]:
    if path.stat().st_size > MAX_BYTES:
        raise SuiteError(
            f"a table of more than {MAX_BYTES:,} bytes", where=str(path), mend="split it over several tables"
        )
    reader = TABLE_SOURCES.get(path.suffix.lower())
    if reader is None:
        raise SuiteError(
            f"the table {path.name} is of no known kind",
            where=str(path),
            mend="known: " + ", ".join(TABLE_SOURCES),
        )
    try:
        return reader(path)
    except (OSError, ValueError, KeyError, TypeError, csv.Error) as error:
        raise SuiteError(
            f"the table cannot be read: {' '.join(str(error).split())[:200]}",
            where=str(path),
            mend="correct the file",
        ) from None


def _csv(path: Path) -> list[Row]:
    """RFC 4180, a header row first; ValueError tells the row that does not fit it."""
    csv.field_size_limit(MAX_CELL)
    rows: list[Row] = []
    with path.open(encoding="utf-8-sig", newline="") as file:
        cells = csv.reader(file, delimiter="\t" if path.suffix == ".tsv" else ",", strict=True)
        header = next(cells, [])
        if len(set(header)) < len(header):
            raise ValueError("a column stands twice in the header")
        for row in cells:
            if len(row) > len(header):
                raise ValueError(f"line {cells.line_num} has {len(row)} cells, the header {len(header)}")
            if row:
                rows.append(dict(zip(header, row)))
    return rows


def _excel(path: Path) -> list[Row]:
    """The first sheet, a header row first; read apart, since the library takes what memory a sheet makes it
    take.
    """
    extra("openpyxl", "excel", "Excel tables")
    return _apart("excel_rows", path)


def _apart(reader: str, path: Path) -> list[Row]:
    """What a reader of this module gives, in a process with limits; ValueError when it goes over them."""
    try:
        found: list[Row] = apart(f"{__name__}:{reader}", str(path))
    except TooMuch as error:
        raise ValueError(f"the table is too large: {error}") from None
    except NotDone as error:
        raise ValueError(str(error)) from None
    return found


def excel_rows(name: str) -> list[dict[str, Any]]:
    """The rows of a spreadsheet; ValueError when it is none, or has more than a table may."""
    path = Path(name)
    openpyxl = extra("openpyxl", "excel", "Excel tables")
    try:
        book = openpyxl.load_workbook(path, read_only=True, data_only=True)
    except (KeyError, TypeError, AttributeError, BadZipFile) as error:
        raise ValueError(f"it is no Excel file ({type(error).__name__})") from None
    try:
        rows = book.worksheets[0].iter_rows(values_only=True, max_col=MAX_COLUMNS)
        header = [str(name) if name is not None else "" for name in next(rows, ())]
        while header and not header[-1]:
            header.pop()
        found: list[dict[str, Any]] = []
        for count, row in enumerate(rows):
            if count > MAX_ROWS:
                raise ValueError(f"more than {MAX_ROWS:,} rows")
            if any(cell is not None for cell in row):
                found.append(dict(zip(header, map(_plain, row))))
    finally:
        book.close()
    return [{name: value for name, value in row.items() if name} for row in found]


def _parquet(path: Path) -> list[Row]:
    extra("pyarrow.parquet", "parquet", "Parquet tables")
    return _apart("parquet_rows", path)


def parquet_rows(name: str) -> list[dict[str, Any]]:
    """The rows of a Parquet file; ValueError when it is none, or has more than a table may."""
    parquet = extra("pyarrow.parquet", "parquet", "Parquet tables")
    try:
        with parquet.ParquetFile(name) as file:
            if file.metadata.num_rows > MAX_ROWS:
                raise ValueError(f"more than {MAX_ROWS:,} rows")
            rows = file.read(use_threads=False).to_pylist()
    except (OSError, MemoryError) as error:
        raise ValueError(
            f"no Parquet file that can be read: {error or 'it takes more memory than a table may'}"
        ) from None
    return [{name: _plain(value) for name, value in row.items()} for row in rows]


def _lines(path: Path) -> list[Row]:
    rows = []
    # A text of JSON may hold other line ends than this one (U+2028) as they are.
    for number, line in enumerate(path.read_text("utf-8-sig").split("\n"), 1):
        if line.strip():
            try:
                row = parse_json(line)
            except NotJson as error:
                raise ValueError(f"line {number} is no JSON: {error}") from None
            if not isinstance(row, dict):
                raise ValueError(f"line {number} is no object")
            rows.append(row)
    return rows


TABLE_SOURCES: Table[TableReader] = Table("juxtalogos.table_sources")
"""Readers of table files, by the ending of their names in lower case."""
for _ending, _reader in (
    (".csv", _csv),
    (".tsv", _csv),
    (".jsonl", _lines),
    (".ndjson", _lines),
    (".xlsx", _excel),
    (".parquet", _parquet),
):
    TABLE_SOURCES.register(_ending, _reader)


def _plain(value: Any) -> Any:
    """Dates as RFC 3339 texts, numbers and texts as they are."""
    if isinstance(value, datetime | date | time):
        return value.isoformat().removesuffix("T00:00:00")
    return float(value) if isinstance(value, Decimal) else value


def _query(workspace: Workspace, suite: Suite, table: TableSource) -> list[Row]:
    queries: Mapping[str, Query] = workspace.config.queries
    query = queries.get(table.name)
    if query is None:
        raise SuiteError(
            f"there is no query {quoted(table.name)}",
            where=str(suite.path),
            mend=nearest(table.name, queries) or "add [queries.NAME] to juxtalogos.toml",
        )
    try:
        return _from_sqlite(workspace, query) if query.file else _from_database(workspace, query)
    except (sqlite3.Error, ValueError) as error:
        reason = " ".join(str(error).split("\n")[0].split())[:160]
        raise SuiteError(
            f"the query {table.name} cannot be made: {reason}",
            where=str(workspace.config.path),
            mend="correct it in juxtalogos.toml",
        ) from None


def _from_sqlite(workspace: Workspace, query: Query) -> list[Row]:
    path = (workspace.root / query.file).resolve()
    with closing(sqlite3.connect(f"file:{quote(str(path))}?mode=rw", uri=True)) as database:
        database.row_factory = sqlite3.Row
        found = [dict(row) for row in database.execute(query.sql)]
        database.commit()
        return found


def _from_database(workspace: Workspace, query: Query) -> list[Row]:
    """By SQLAlchemy, whatever database the connection's URL names. ValueError when it cannot be asked."""
    sqlalchemy = extra("sqlalchemy", "sql", "queries of databases other than SQLite")
    try:
        engine = sqlalchemy.create_engine(query.connection_url())
        try:
            with engine.connect() as connection:
                rows = connection.execute(sqlalchemy.text(query.sql)).mappings()
                return [{name: _plain(value) for name, value in row.items()} for row in rows]
        finally:
            engine.dispose()
    except (sqlalchemy.exc.SQLAlchemyError, ImportError) as error:
        raise ValueError(str(error)) from None


def needs_trust(config: Config, cases: list[Case]) -> bool:
    """Whether something of the configuration would run that must be trusted first."""
    return any(case.table is not None and case.table.kind == "query" for case in cases)
