"""All rendering for the terminal. Data comes in as plain values; control characters go out escaped."""

from __future__ import annotations

import os
import shutil
import sys
from collections.abc import Iterable, Iterator, Sequence
from contextlib import contextmanager
from typing import TYPE_CHECKING, Any

from juxtalogos.cli.shared.layout import table_lines
from juxtalogos.documents.jsontext import dump_json

if TYPE_CHECKING:
    from rich.console import Console
    from rich.progress import Progress

STYLES = {
    # Readable on light and dark ground alike: no bright tones, each with about 4:1 on white and on black.
    "passed": "color(29)",
    "failed": "bold color(160)",
    "error": "bold color(133)",
    "refused": "color(130)",
    "unproven": "color(130)",
    "skipped": "color(244)",
    "deviation": "color(160)",
    "remark": "color(130)",
    "held": "color(29)",
    "head": "bold",
    "note": "color(244)",
    "name": "color(31)",
}
FEW_COLOURS = {
    **STYLES,
    "passed": "green",
    "failed": "bold red",
    "error": "bold magenta",
    "refused": "magenta",
    "unproven": "magenta",
    "skipped": "dim",
    "deviation": "red",
    "remark": "magenta",
    "held": "green",
    "note": "dim",
    "name": "none",
}
"""For terminals of 16 colours, whose yellow, cyan and white nobody reads on light ground,
nor blue on dark."""
WIDTH = 120
"""Columns where nothing says how many there are: in a pipe or a file."""

_BIDI = {*range(0x202A, 0x202F), *range(0x2066, 0x206A), 0x200E, 0x200F, 0x061C}


def clean(text: object, *, keep_lines: bool = False) -> str:
    """Text safe for a terminal: control and bidirectional characters are shown as escapes."""
    out = str(text)
    if out.isascii() and out.isprintable():
        return out
    parts = []
    for char in out:
        code = ord(char)
        if (char in "\n\t" and keep_lines) or (
            code >= 32
            and not 0x7F <= code <= 0x9F
            and code not in _BIDI
            and not 0xD800 <= code <= 0xDFFF
            and code not in (0x2028, 0x2029)
        ):
            parts.append(char)
        else:
            parts.append(f"\\x{code:02x}" if code < 256 else f"\\u{code:04x}")
    return "".join(parts)


class Terminal:
    """Results on `out` (stdout), all else on `err` (stderr)."""

    def __init__(self, *, quiet: bool = False, verbose: bool = False) -> None:
        self.quiet = quiet
        self.verbose = verbose
        self.plain = _is_plain(sys.stdout)
        self._out: Console | None = None
        self._err: Console | None = None

    @property
    def width(self) -> int:
        """Columns to fill: the terminal's, or what COLUMNS says."""
        return shutil.get_terminal_size((WIDTH, 40)).columns

    @property
    def out(self) -> Console:
        """Standard output."""
        if self._out is None:
            self._out = _console(sys.stdout)
        return self._out

    @property
    def err(self) -> Console:
        """Standard error."""
        if self._err is None:
            self._err = _console(sys.stderr)
        return self._err

    def line(self, *parts: str | tuple[object, str], indent: int = 0) -> None:
        """A line of result; a part is a text or (text, style name)."""
        if self.plain:
            sys.stdout.write(_plain(parts, indent))
        else:
            self.out.print(_text(parts, indent, _styles(self.out)), soft_wrap=True)

    def note(self, *parts: str | tuple[object, str]) -> None:
        """A line on stderr, left out when quiet."""
        if not self.quiet:
            if _is_plain(sys.stderr):
                sys.stderr.write(_plain(parts, 0))
            else:
                self.err.print(_text(parts, 0, _styles(self.err)), overflow="ignore")  # between words

    def warn(self, text: str) -> None:
        """What went wrong beside the result: on stderr, also when quiet."""
        sys.stderr.write(clean(text, keep_lines=True) + "\n")

    def json(self, value: Any) -> None:
        sys.stdout.write(dump_json(value, indent=2) + "\n")

    def raw(self, text: str) -> None:
        """Text for another program or for the eye: lines kept, control characters escaped
        on a terminal only.
        """
        sys.stdout.write(clean(text, keep_lines=True) if sys.stdout.isatty() else text)
        sys.stdout.flush()

    def block(self, text: str, indent: int = 2, limit: int = 0) -> None:
        """Lines of a body, indented; `limit` cuts them with a note."""
        lines = clean(text, keep_lines=True).split("\n")
        for line in lines[:limit] if limit else lines:
            self.line(line, indent=indent)
        if limit and len(lines) > limit:
            self.line((f"… {len(lines) - limit} more lines", "note"), indent=indent)

    def table(
        self,
        headings: Sequence[str],
        rows: Iterable[Sequence[object]],
        *,
        styles: Sequence[str] = (),
        right: Sequence[int] = (),
    ) -> None:
        """A table that fits the width; a cell may be (text, style name). `right` lists the columns of
        numbers.
        """
        cells = [
            [
                (
                    (clean(cell[0]), cell[1])
                    if isinstance(cell, tuple)
                    else (clean(cell), styles[index] if index < len(styles) else "")
                )
                for index, cell in enumerate(row)
            ]
            for row in rows
        ]
        found = table_lines(headings, cells, self.width, frozenset(right))
        if self.plain:
            sys.stdout.write("".join("".join(text for text, _ in line) + "\n" for line in found))
            return
        for line in found:
            self.line(*(part if part[1] else part[0] for part in line))

    @contextmanager
    def progress(self, label: str, total: int) -> Iterator[Any]:
        """A progress bar on stderr where that is a terminal; gives a function to call with the count done,
        and what is to be told beside it.
        """
        if self.quiet or _is_plain(sys.stderr) or total < 2:
            yield lambda done, told="": None
            return
        from rich.progress import BarColumn, MofNCompleteColumn, Progress, TextColumn, TimeElapsedColumn

        bar: Progress = Progress(
            TextColumn("{task.description}"),
            BarColumn(),
            MofNCompleteColumn(),
            TimeElapsedColumn(),
            console=self.err,
            transient=True,
        )
        with bar:
            task = bar.add_task(label, total=total)
            yield lambda done, told="": bar.update(
                task, completed=done, description=f"{label}  {clean(told)}".rstrip()
            )


def _is_plain(stream: Any) -> bool:
    """Whether a stream leads to a program or file: then there is no colour, and nothing to load for it."""
    return not stream.isatty() and not os.environ.get("FORCE_COLOR")


def _plain(parts: Sequence[str | tuple[object, str]], indent: int) -> str:
    texts = (clean(part[0] if isinstance(part, tuple) else part) for part in parts)
    return " " * indent + "".join(texts) + "\n"


def _styles(console: Console) -> dict[str, str]:
    return STYLES if console.color_system in ("256", "truecolor") else FEW_COLOURS


def _text(parts: Sequence[str | tuple[object, str]], indent: int, styles: dict[str, str]) -> Any:
    from rich.text import Text

    text = Text(" " * indent)
    for part in parts:
        if isinstance(part, tuple):
            text.append(clean(part[0]), style=styles.get(part[1], part[1]) if len(part) > 1 else None)
        else:
            text.append(clean(part))
    return text


def _console(stream: Any) -> Console:
    from rich.console import Console

    return Console(file=stream, highlight=False, markup=False, emoji=False, legacy_windows=False)
