"""The one family of errors that a person can mend: what is wrong, where, and how to mend it."""

from __future__ import annotations

from collections.abc import Iterable
from difflib import get_close_matches


class JuxtalogosError(Exception):
    """Base of every error shown to a user without a traceback."""

    def __init__(self, what: str, *, where: str = "", mend: str = "") -> None:
        super().__init__(what)
        self.what = what
        self.where = where
        self.mend = mend

    def __str__(self) -> str:
        text = f"{self.where}: {self.what}" if self.where else self.what
        return f"{text}\n  {self.mend}" if self.mend else text


class UsageError(JuxtalogosError):
    """The call itself cannot be used."""


class ConfigError(JuxtalogosError):
    """`juxtalogos.toml` or a target in it cannot be used."""


class LedgerError(ConfigError):
    """The ledger cannot be read or written: a run that cannot be kept ends."""


class DocumentError(JuxtalogosError):
    """A document cannot be read or is not what it should be."""


class SuiteError(JuxtalogosError):
    """A suite file cannot be used."""


class TrustError(JuxtalogosError):
    """Something would run or be reached that nobody has trusted."""


class NoAnswer(JuxtalogosError):
    """The service gave no answer: refused, timed out, broken TLS, or not HTTP."""


class Withheld(JuxtalogosError):
    """A request was not sent: it could have changed what this run did not make."""


class Unsampleable(JuxtalogosError):
    """No valid sample of a schema was found."""


def quoted(value: object, limit: int = 60) -> str:
    """A value for a message: one line, truncated."""
    text = value if isinstance(value, str) else repr(value)
    text = " ".join(text.split())
    return text if len(text) <= limit else text[: limit - 1] + "…"


def nearest(word: str, known: Iterable[str], count: int = 3) -> str:
    """A remedy that names the nearest known words; all of them when they are few."""
    names = list(known)
    close = get_close_matches(word, names, n=count, cutoff=0.5)
    if not close:
        lowered = word.lower()
        close = [name for name in names if lowered and lowered in name.lower()][:count]
    if close:
        return "did you mean " + " or ".join(close) + "?"
    if not names:
        return ""
    shown = ", ".join(names[:8])
    return f"known: {shown}" + (" …" if len(names) > 8 else "")
