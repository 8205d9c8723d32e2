"""The one place where ledgers are opened."""

from __future__ import annotations

from pathlib import Path

from juxtalogos.ledger.sqlite.store import SqliteLedger


def open_ledger(path: Path, *, write: bool = False) -> SqliteLedger:
    """A ledger, to be used as a context. For reading, nothing is made or changed: one that is not there is an empty one.

    LedgerError when it cannot be used.
    """
    return SqliteLedger(path, write=write)
