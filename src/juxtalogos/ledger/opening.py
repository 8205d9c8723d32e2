"""The one place where ledgers are opened."""

from __future__ import annotations

from pathlib import Path

from juxtalogos.ledger.sqlite import rescue
from juxtalogos.ledger.sqlite.store import SqliteLedger


def open_ledger(path: Path, *, write: bool = False) -> SqliteLedger:
    """A ledger, to be used as a context. For reading, nothing is made or changed: one that is not there is an
    empty one.

    LedgerError when it cannot be used.
    """
    return SqliteLedger(path, write=write)


def ledger_faults(path: Path) -> list[str]:
    """What is wrong with a ledger's file; nothing when it is whole. LedgerError when it is none."""
    return rescue.faults(path)


def rescue_ledger(path: Path, target: Path) -> dict[str, tuple[int, int]]:
    """Copies what can be read into a new file; by table (rows copied, rows that cannot be read)."""
    return rescue.rescue(path, target)
