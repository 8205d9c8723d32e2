"""The ledger in SQLite."""
