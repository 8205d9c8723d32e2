"""Reports: a finished run in a form for people or pipelines.

A reporter is a name, an ending and a function.
"""

from __future__ import annotations

import sys
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

from juxtalogos.plugins import Table
from juxtalogos.report.junit import junit
from juxtalogos.report.page import page
from juxtalogos.report.view import RunView, narrowed, run_view, with_coverage


@dataclass(frozen=True, slots=True)
class Reporter:
    ending: str
    write: Callable[[RunView], bytes]


HTML = Reporter("html", page)
JUNIT = Reporter("xml", junit)

REPORTERS: Table[Reporter] = Table("juxtalogos.reporters")
"""Forms of reports by name; they see only what is redacted."""
REPORTERS.register("html", HTML)
REPORTERS.register("junit", JUNIT)


def write_report(name: str, data: RunView, output: Path | None, folder: Path) -> Path | None:
    """Writes the file whole; `-` is stdout. Gives the path, or None for stdout."""
    from juxtalogos.workspace.files import write_whole

    reporter = REPORTERS[name]
    content = reporter.write(data)
    if output is not None and str(output) == "-":
        sys.stdout.buffer.write(content)
        return None
    path = output or folder / f"run-{data.run.id}{data.part}.{reporter.ending}"
    write_whole(path, content, private=True)
    return path


__all__ = ["REPORTERS", "RunView", "narrowed", "run_view", "with_coverage", "write_report"]
