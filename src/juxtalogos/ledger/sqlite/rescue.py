"""A damaged ledger: what is wrong with it, and a new one of all that can still be read."""

from __future__ import annotations

import os
import sqlite3
from collections.abc import Iterable, Iterator
from contextlib import closing
from pathlib import Path
from urllib.parse import quote

from juxtalogos.ledger.sqlite.schema import TABLES, VERSION
from juxtalogos.model.errors import LedgerError

_BLOCK = 500
_CONTENTS = {"body": ("request_body", "response_body"), "result_set": ("results",)}
"""Tables whose rows are numbered by what is in them -> the columns of exchanges that name those."""
MOST_FAULTS = 20


def faults(path: Path) -> list[str]:
    """What is wrong with the file, in the words of the database; nothing when it is whole. LedgerError when
    it is no ledger.
    """
    with closing(_reading(path)) as db:
        try:
            found = [str(row[0]) for row in db.execute(f"PRAGMA integrity_check({MOST_FAULTS})")]
        except sqlite3.Error as error:
            return [str(error)]
    return [] if found == ["ok"] else [line for text in found for line in text.splitlines() if line.strip()]


def rescue(path: Path, target: Path) -> dict[str, tuple[int, int]]:
    """Copies what can be read into a new ledger; by table (rows copied, rows lost as far as is known).
    LedgerError when there is such a file.
    """
    if target.exists():
        raise LedgerError("there is such a file already", where=str(target), mend="give another name")
    counts: dict[str, tuple[int, int]] = {}
    os.close(os.open(target, os.O_CREAT | os.O_EXCL | os.O_WRONLY, 0o600))
    with closing(_reading(path)) as source, closing(sqlite3.connect(target, isolation_level=None)) as db:
        for statement in filter(str.strip, TABLES.split(";")):
            db.execute(statement)
        db.execute(f"PRAGMA user_version={VERSION}")
        for statement in filter(str.strip, TABLES.split(";")):
            words = statement.split()
            if words[1] == "TABLE" and words[2] not in _CONTENTS:
                rows = (
                    _in_order(source, words[2])
                    if "WITHOUT ROWID" in statement
                    else _by_number(source, words[2])
                )
                counts[words[2]] = _copied(db, words[2], rows)
        for table, columns in _CONTENTS.items():
            wanted = " UNION ".join(
                f"SELECT {column} FROM exchange WHERE {column} IS NOT NULL" for column in columns
            )
            numbers = [row[0] for row in db.execute(wanted)]
            counts[table] = _copied(db, table, _each(source, table, numbers))
        db.execute(
            "INSERT INTO run (id, started, kind, target, what, verdict) SELECT run, min(sent_at), 'run', '',"
            " 'rescued', '' FROM exchange WHERE run NOT IN (SELECT id FROM run) GROUP BY run"
        )
    return counts


def _reading(path: Path) -> sqlite3.Connection:
    if not path.is_file():
        raise LedgerError("there is no ledger", where=str(path), mend="one is made by the first run")
    return sqlite3.connect(f"file:{quote(str(path))}?mode=ro", uri=True, isolation_level=None)


def _copied(db: sqlite3.Connection, table: str, rows: Iterable[tuple[object, ...] | None]) -> tuple[int, int]:
    copied = lost = 0
    db.execute("BEGIN")
    for row in rows:
        if row is None:
            lost += 1
            continue
        marks = ", ".join("?" * len(row))
        copied += db.execute(f"INSERT OR IGNORE INTO {table} VALUES ({marks})", row).rowcount
    db.execute("COMMIT")
    return copied, lost


def _in_order(source: sqlite3.Connection, table: str) -> Iterator[tuple[object, ...] | None]:
    """Row by row, as far as the table can be read."""
    try:
        yield from source.execute(f"SELECT * FROM {table}")
    except sqlite3.Error:
        yield None


def _by_number(source: sqlite3.Connection, table: str) -> Iterator[tuple[object, ...] | None]:
    """Block by block; within one that cannot be read, row by row."""
    last = _last(source, table)
    for first in range(1, last + 1, _BLOCK):
        end = min(first + _BLOCK, last + 1)
        try:
            yield from source.execute(
                f"SELECT * FROM {table} WHERE rowid >= ? AND rowid < ?", (first, end)
            ).fetchall()
        except sqlite3.Error:
            yield from _each(source, table, range(first, end))


def _each(
    source: sqlite3.Connection, table: str, numbers: Iterable[int]
) -> Iterator[tuple[object, ...] | None]:
    for number in numbers:
        try:
            yield from source.execute(f"SELECT * FROM {table} WHERE rowid = ?", (number,)).fetchall()
        except sqlite3.Error:
            yield None


def _last(source: sqlite3.Connection, table: str) -> int:
    """The highest row number; searched for where the table's end cannot be read."""
    try:
        return int(source.execute(f"SELECT coalesce(max(rowid), 0) FROM {table}").fetchone()[0])
    except sqlite3.Error:
        return 100_000
