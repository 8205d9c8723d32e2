"""What `compose` is told."""

from __future__ import annotations

from juxtalogos.cli.shared.options import Arguments


class ComposeArguments(Arguments):
    contract: str | None
    dependencies: bool
    suite: str | None
    folders: bool
    replace: bool
    learn: str
    budget: int
    only_reading: bool
    yes_to: str
    include_destructive: bool
    target: str | None
    role: str
    credential: list[str]
    pace: float
    strict_clean: bool
    header: list[str]
    no_credentials: bool
    trust: str
    sends: list[str]
