"""A process that has the whole program read in and forks for each call of it: every call is a process of its
own, without a start's half second.

Jobs come as JSON lines on stdin; the exit status of each goes to stdout.
"""

from __future__ import annotations

import contextlib
import importlib
import io
import json
import os
import pkgutil
import sys
from typing import Any


def read_in() -> None:
    """Everything but what an extra brings."""
    import juxtalogos

    for module in pkgutil.walk_packages(juxtalogos.__path__, "juxtalogos."):
        if not module.name.endswith("__main__"):
            with contextlib.suppress(ImportError):
                importlib.import_module(module.name)
    for name in (
        "aiohttp",
        "rich.console",
        "rich.text",
        "jinja2",
        "ruamel.yaml",
        "tomlkit",
        "elementpath",
        "jsonpath",
    ):
        importlib.import_module(name)


def done(job: dict[str, Any]) -> int:
    """One call, in the forked process; its exit status."""
    os.environ.clear()
    os.environ.update(job["env"])
    if recorder := sys.modules.get("coverage"):  # which test comes by which line (benchmarks/own_faults.py)
        recorder.Coverage.current().switch_context(os.environ.get("PYTEST_CURRENT_TEST", ""))
    os.chdir(job["cwd"])
    os.dup2(os.open(os.devnull, os.O_RDONLY), 0)
    for number, name in ((1, "out"), (2, "err")):
        os.dup2(os.open(job[name], os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600), number)
    sys.stdin = io.TextIOWrapper(io.BufferedReader(io.FileIO(0, "rb", closefd=False)), encoding="utf-8")
    sys.stdout = io.TextIOWrapper(io.BufferedWriter(io.FileIO(1, "wb", closefd=False)), encoding="utf-8")
    sys.stderr = io.TextIOWrapper(
        io.BufferedWriter(io.FileIO(2, "wb", closefd=False)),
        encoding="utf-8",
        errors="backslashreplace",
        line_buffering=True,
    )
    sys.argv = ["juxtalogos", *job["words"]]
    from juxtalogos.start import entry

    try:
        entry()
    except SystemExit as stop:
        return int(stop.code or 0)
    finally:
        with contextlib.suppress(OSError, ValueError):
            sys.stdout.flush()
            sys.stderr.flush()
    return 0


def main() -> None:
    read_in()
    for line in sys.stdin:
        job = json.loads(line)
        child = os.fork()
        if child == 0:
            status = 70
            try:
                status = done(job)
            finally:
                os._exit(status)
        _, ended = os.waitpid(child, 0)
        print(os.waitstatus_to_exitcode(ended), flush=True)


if __name__ == "__main__":
    main()
