"""Reports: a finished run in a form for people or pipelines. A reporter is a name, an ending and a function."""

from __future__ import annotations

import sys
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

from juxtalogos.report.data import ReportData, report_data
from juxtalogos.report.junit import junit
from juxtalogos.report.page import page


@dataclass(frozen=True, slots=True)
class Reporter:
    ending: str
    write: Callable[[ReportData], bytes]


REPORTERS: dict[str, Reporter] = {"html": Reporter("html", page), "junit": Reporter("xml", junit)}


def write_report(name: str, data: ReportData, output: Path | None, folder: Path) -> Path | None:
    """Writes the file whole; `-` is stdout. Gives the path, or None for stdout."""
    from juxtalogos.workspace.files import write_whole

    reporter = REPORTERS[name]
    content = reporter.write(data)
    if output is not None and str(output) == "-":
        sys.stdout.buffer.write(content)
        return None
    path = output or folder / f"run-{data.run.id}.{reporter.ending}"
    write_whole(path, content)
    return path


__all__ = ["REPORTERS", "ReportData", "report_data", "write_report"]
