"""Work of libraries that cannot be bounded from outside, done in a child process with a limit of memory and
of processor time.

The child is started when it is first needed and kept; one that was killed is replaced at the next call.
"""

from __future__ import annotations

import atexit
import json
import select
import subprocess
import sys
import threading
import time
from importlib import import_module
from typing import Any

MEMORY = 1024 * 1024 * 1024
SECONDS = 15.0
"""Of processor time for one piece of work; so much more by the clock, where the machine is busy."""
_PATIENCE = 2.0


class TooMuch(Exception):
    """The work took more than it may."""


class NotDone(Exception):
    """The work itself said that it cannot be done."""


_lock = threading.Lock()
_child: subprocess.Popen[bytes] | None = None


def apart(place: str, *arguments: Any) -> Any:
    """What the function at `module:name` gives for these arguments, all of them values of JSON.

    TooMuch, or NotDone with its words.
    """
    global _child
    with _lock:
        if _child is None or _child.poll() is not None:
            _child = subprocess.Popen(
                [sys.executable, "-m", "juxtalogos.suite.apart"],
                stdin=subprocess.PIPE,
                stdout=subprocess.PIPE,
                stderr=subprocess.DEVNULL,
            )
            atexit.register(_child.kill)
        child = _child
        assert child.stdin is not None and child.stdout is not None
        try:
            child.stdin.write(json.dumps([place, arguments]).encode() + b"\n")
            child.stdin.flush()
            answer = _line(child)
        except (BrokenPipeError, OSError):
            answer = b""
        if not answer:
            child.kill()
            child.wait()
            raise TooMuch(f"it took more than {SECONDS:g} seconds or {MEMORY // 1024 // 1024} MB")
    kind, value = json.loads(answer)
    if kind == "refused":
        raise NotDone(value)
    return value


def _line(child: subprocess.Popen[bytes]) -> bytes:
    """The next line that the child writes; empty where it ends, or none comes in time."""
    assert child.stdout is not None
    deadline, parts = time.monotonic() + SECONDS * _PATIENCE, []
    while True:
        left = deadline - time.monotonic()
        if left <= 0 or not select.select([child.stdout], [], [], left)[0]:
            return b""
        part = child.stdout.read1(1 << 20)  # type: ignore[attr-defined]
        if not part:
            return b""
        parts.append(part)
        if part.endswith(b"\n"):
            return b"".join(parts)


def _serve() -> None:
    """Reads pieces of work from its input, one a line, and writes what comes of each."""
    import contextlib

    with contextlib.suppress(ImportError):
        import resource

        hard = resource.getrlimit(resource.RLIMIT_AS)[1]
        most = MEMORY if hard < 0 else min(MEMORY, hard)
        resource.setrlimit(resource.RLIMIT_AS, (most, most))
    sys.setrecursionlimit(12_000)
    for line in sys.stdin.buffer:
        place, arguments = json.loads(line)
        _limit_time()
        module, _, name = place.partition(":")
        try:
            told: Any = ("done", getattr(import_module(module), name)(*arguments))
            answer = json.dumps(told)
        except ValueError as error:
            answer = json.dumps(("refused", " ".join(str(error).split())[:300]))
        except RecursionError:
            answer = json.dumps(("refused", "nested too deep"))
        except MemoryError:
            raise  # the process ends: what it would still do is not to be trusted
        except Exception as error:  # a library's own stumbling over what it was given
            answer = json.dumps(
                (
                    "refused",
                    f"it cannot be read ({type(error).__name__}: {' '.join(str(error).split())[:200]})",
                )
            )
        sys.stdout.write(answer + "\n")
        sys.stdout.flush()


def _limit_time() -> None:
    """The child ends when this piece of work has taken its processor time."""
    try:
        import resource
    except ImportError:
        return
    used = resource.getrusage(resource.RUSAGE_SELF)
    most = int(used.ru_utime + used.ru_stime + SECONDS) + 1
    hard = resource.getrlimit(resource.RLIMIT_CPU)[1]  # a process may not raise its own
    resource.setrlimit(resource.RLIMIT_CPU, (most if hard < 0 else min(most, hard), hard))


if __name__ == "__main__":
    _serve()
