"""An older ledger becomes one of today's form, in the transaction that is under way; what fails leaves it as
it was.
"""

from __future__ import annotations

import os
import sqlite3
from pathlib import Path

from juxtalogos.ledger.sqlite.rows import Batch, exchange_record, store_batch
from juxtalogos.ledger.sqlite.schema import STORED_COLUMNS, TABLES, VERSION, stored_before

KEPT = ("run", "suite_case", "hit")
"""Tables that stay, and gain columns."""
PAGE = 500


def migrate(db: sqlite3.Connection, path: Path, version: int) -> None:
    """From version 1 or 2.

    The old rows are read by a second connection, which sees the file as it was before.
    """
    key = os.urandom(32)
    for name in ("exchange", "check_result"):
        db.execute(f"ALTER TABLE {name} RENAME TO old_{name}")
    for name in ("exchange_run", "check_exchange"):
        db.execute(f"DROP INDEX IF EXISTS {name}")
    db.execute("ALTER TABLE run ADD COLUMN token TEXT NOT NULL DEFAULT ''")
    for statement in TABLES.split(";"):
        words = statement.split()
        if words and words[2] not in (*KEPT, "case_run"):
            db.execute(statement)
    db.execute("INSERT INTO meta VALUES ('key', ?)", (key,))
    before = sqlite3.connect(path, isolation_level=None)
    try:
        before.executescript(stored_before(version))
        at = 0
        while rows := before.execute(
            f"SELECT {STORED_COLUMNS} FROM stored WHERE id > ? ORDER BY id LIMIT ?", (at, PAGE)
        ).fetchall():
            batch = Batch(0, key, 1)
            for row in rows:
                record = exchange_record(row)
                batch.add(record, record.id, record.run)
            store_batch(db, batch)
            at = rows[-1][0]
    finally:
        before.close()
    for name in ("exchange", "check_result"):
        db.execute(f"DROP TABLE old_{name}")
    db.execute(f"PRAGMA user_version={VERSION}")
