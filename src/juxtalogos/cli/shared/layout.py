"""Tables that fit a width: prose wraps between words, what people copy is never broken. Of a table that is
too wide the widest columns stand below their rows, in each row alike.
"""

from __future__ import annotations

import textwrap
from collections.abc import Iterable, Iterator, Sequence
from itertools import zip_longest

Cell = tuple[str, str]
"""(text, style name, which may be empty)."""
Line = list[Cell]
GAP = 2
WIDEST_PROSE = 80


def counted(count: int, noun: str) -> str:
    """A number with its noun: `1 case`, `2 cases`; the plural of the noun ends in s."""
    return f"{count} {noun}{'' if count == 1 else 's'}"


def table_lines(
    headings: Sequence[str], rows: Sequence[Sequence[Cell]], width: int, right: frozenset[int]
) -> Iterator[Line]:
    """The lines of a table as wide as it has to be, at most `width`. Columns whose words leave the others no
    room stand on lines of their own, below every row.
    """
    texts = [[cell[0] for cell in row] for row in rows]
    natural = [max(map(len, column)) for column in zip(headings, *texts)]
    total = sum(natural) + GAP * (len(natural) - 1)
    if total <= width:
        yield from _aligned(headings, rows, natural, right)
        return
    least = [max(map(_longest, column)) for column in zip(headings, *texts)]
    beside = list(range(len(least)))
    while sum(least[at] for at in beside) + GAP * (len(beside) - 1) > width and len(beside) > 1:
        beside.remove(max(beside[1:], key=lambda at: least[at]))
    below = [at for at in range(len(least)) if at not in beside]
    room = max(width - GAP * (len(beside) - 1), sum(least[at] for at in beside))
    widths = _shared([natural[at] for at in beside], [least[at] for at in beside], room)
    numbers = frozenset(place for place, at in enumerate(beside) if at in right)
    if len(beside) > 1:
        yield from _row([(headings[at], "head") for at in beside], widths, numbers)
    for row in rows:
        first = row[0] if len(beside) > 1 else (row[0][0], row[0][1] or "head")
        yield from _row([first, *(row[at] for at in beside[1:])], widths, numbers)
        yield from _below([(headings[at], row[at]) for at in below], width)


def _longest(text: str) -> int:
    return max(map(len, text.split()), default=0)


def _shared(natural: list[int], least: list[int], room: int) -> list[int]:
    """Widths that together fill the room: the widest columns give, down to their longest word."""
    widths = list(natural)
    over = sum(widths) - room
    while over > 0:
        at = max(
            (index for index in range(len(widths)) if widths[index] > least[index]),
            key=lambda index: widths[index],
        )
        others = [width for index, width in enumerate(widths) if index != at and width > least[index]]
        floor = max([least[at], *(width for width in others if width < widths[at])])
        step = max(1, min(over, widths[at] - floor))
        widths[at] -= step
        over -= step
    return widths


def _aligned(
    headings: Sequence[str], rows: Sequence[Sequence[Cell]], widths: list[int], right: frozenset[int]
) -> Iterator[Line]:
    for row in ([(heading, "head") for heading in headings], *rows):
        yield from _row(row, widths, right)


def _row(row: Sequence[Cell], widths: list[int], right: frozenset[int]) -> Iterator[Line]:
    """The lines of one row, its cells wrapped to the widths."""
    wrapped = [_wrapped(cell[0], width) for cell, width in zip(row, widths)]
    for parts in zip_longest(*wrapped, fillvalue=""):
        line: Line = []
        for index, (part, width, cell) in enumerate(zip(parts, widths, row)):
            padded = part.rjust(width) if index in right else part.ljust(width)
            line += [(padded, cell[1]), (" " * GAP, "")]
        yield _trimmed(line[:-1])


def _wrapped(text: str, width: int) -> list[str]:
    if len(text) <= width:
        return [text]
    lead = len(text) - len(text.lstrip(" "))  # a tree's indent
    return textwrap.wrap(
        text.strip(),
        width,
        initial_indent=" " * lead,
        subsequent_indent=" " * lead,
        break_long_words=False,
        break_on_hyphens=False,
    ) or [""]


def _trimmed(line: Line) -> Line:
    """Without blanks at the end."""
    while line and not line[-1][0].strip():
        line.pop()
    if line:
        line[-1] = line[-1][0].rstrip(), line[-1][1]
    return line


def _below(cells: Iterable[tuple[str, Cell]], width: int) -> Iterator[Line]:
    """Cells of one row under it, each by the name of its column, prose wrapped."""
    for heading, (text, style) in cells:
        if not text.strip():
            continue
        name = f"{heading.strip()}: " if heading.strip() else ""
        for number, part in enumerate(_wrapped(text.strip(), max(20, min(width, 120) - 4 - len(name)))):
            yield [("    ", ""), (name if not number else " " * len(name), "note"), (part, style)]


def prose_lines(text: str, width: int, indent: int = 0) -> list[str]:
    """A sentence in lines, never broken within a word."""
    lead = " " * indent
    return textwrap.wrap(
        text,
        max(20, width),
        initial_indent=lead,
        subsequent_indent=lead,
        break_long_words=False,
        break_on_hyphens=False,
    ) or [lead]
