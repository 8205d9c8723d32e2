"""What the installed program calls: signals are taken before anything else is loaded."""

from __future__ import annotations

import _signal  # type: ignore[import-not-found]
import sys

from juxtalogos.interrupts import taken

TYPE_CHECKING = False
if TYPE_CHECKING:
    from sys import UnraisableHookArgs
    from types import FrameType
    from typing import NoReturn

_ENDING = (_signal.SIGINT, _signal.SIGTERM)
_SOON = 0.005
"""Seconds."""


def _take(sign: int, frame: FrameType | None) -> None:
    taken.append(sign)
    raise KeyboardInterrupt


def _again(raised: UnraisableHookArgs) -> None:
    """Python drops what is raised while it clears something away: an interrupt comes once more then."""
    if not taken or raised.exc_type is not KeyboardInterrupt or not hasattr(_signal, "setitimer"):
        sys.__unraisablehook__(raised)
        return
    _signal.signal(_signal.SIGALRM, _interrupt)
    _signal.setitimer(_signal.ITIMER_REAL, _SOON)


def _interrupt(sign: int, frame: FrameType | None) -> None:
    raise KeyboardInterrupt


def status_of_interrupt() -> int:
    """130 for SIGINT, 143 for SIGTERM: what a shell makes of the first signal."""
    return 128 + (taken[0] if taken else _signal.SIGINT)


def entry() -> NoReturn:
    """Runs the program; an interrupt at any moment, also while modules load, ends it with a status and no
    traceback.
    """
    status = 130
    try:
        for sign in _ENDING:
            _signal.signal(sign, _take)
        sys.unraisablehook = _again
        from juxtalogos.cli.main import run_program

        status = run_program()
        if status == 130:
            status = status_of_interrupt()
    except (KeyboardInterrupt, Exception):
        if not taken:  # Python may tell an interrupt as an error of what it was just doing
            raise
        status = status_of_interrupt()
        sys.stderr.write("interrupted\n")
    for sign in (*_ENDING, *([_signal.SIGALRM] if hasattr(_signal, "SIGALRM") else [])):
        _signal.signal(sign, _signal.SIG_IGN)
    try:
        if sys.stdout is not None:
            sys.stdout.flush()
    except OSError:  # its reader has gone
        sys.stdout = None
    if taken:  # Python would send itself the signal once more, where it was caught in the middle of an import
        import atexit
        import os

        atexit._run_exitfuncs()
        if sys.stderr is not None:
            sys.stderr.flush()
        os._exit(status)
    raise SystemExit(status)
