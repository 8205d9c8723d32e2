"""An error that nobody foresaw: told as a fault of ours, in one line that can be reported."""

from __future__ import annotations

import traceback
from pathlib import Path

from juxtalogos._version import VERSION

MAX_TEXT = 200


def told(error: BaseException, *, bare: bool = False) -> str:
    """What went wrong and where in our code.

    The text may hold data of the exchange: it is redacted like any reason, or left out (`bare`).
    """
    where = "somewhere"
    for frame in reversed(traceback.extract_tb(error.__traceback__)):
        parts = Path(frame.filename).parts
        if "juxtalogos" in parts:
            where = "/".join(parts[len(parts) - parts[::-1].index("juxtalogos") :]) + f":{frame.lineno}"
            break
    text = "" if bare else " ".join(str(error).split())[:MAX_TEXT]
    what = f"{type(error).__name__}: {text}" if text else type(error).__name__
    return (
        f"a fault of juxtalogos {VERSION} itself, not of the service ({what} at {where}); please report this"
        " line"
    )
