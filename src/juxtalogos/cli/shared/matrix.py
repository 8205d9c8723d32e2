"""Operations that are named SUBJECT.WORD, as the sets of an OData service and what each allows: a matrix of
subjects and words in place of a long list that says the same of each subject.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Container, Iterable, Sequence
from dataclasses import dataclass

from juxtalogos.cli.shared.layout import GAP
from juxtalogos.cli.shared.terminal import Terminal
from juxtalogos.model.contract import Contract, Intent, Operation

ITSELF = "itself"
MARK = "x"
_OF_ITEMS = (Intent.READ, Intent.UPDATE, Intent.REPLACE, Intent.DELETE)


@dataclass(frozen=True, slots=True)
class Matrix:
    """Subjects with the words that each has."""

    heading: str
    words: tuple[str, ...]
    rows: tuple[tuple[str, frozenset[str]], ...]


def show_matrices(out: Terminal, contract: Contract) -> list[Operation]:
    """Prints the matrices of a contract; gives the operations that stand in none."""
    found, rest = matrices(contract.operations, out.width)
    plainly = (
        f"{row}.{word}" for one in found for row, words in one.rows for word in one.words if word in words
    )
    example = next((name for name in plainly if not name.endswith(f".{ITSELF}")), "")
    if example:
        out.line(("an operation is named ROW.COLUMN, such as ", "note"), (example, "name"))
    if any(ITSELF in one.words for one in found):
        out.line((f"below {ITSELF!r} it is named as its row", "note"))
    for matrix in found:
        out.line()
        rows = [
            (subject, *(MARK.center(len(word)).rstrip() if word in words else "" for word in matrix.words))
            for subject, words in matrix.rows
        ]
        out.table((matrix.heading, *matrix.words), rows, styles=("name",))
    if found and rest:
        out.line()
    return rest


def matrices(operations: Sequence[Operation], width: int) -> tuple[list[Matrix], list[Operation]]:
    """(the matrices, the operations that stand in none): first the subjects that are no operation themselves,
    then those that are, such as what an entity leads to. A word is a column where two subjects have it and
    the width has room for it.
    """
    ids = {one.id for one in operations}
    by_subject: dict[str, list[str]] = {}
    for one in operations:
        subject, _, word = one.id.rpartition(".")
        if subject:
            by_subject.setdefault(subject, []).append(word)
    for one in operations:
        if one.id in by_subject:
            by_subject[one.id].insert(0, ITSELF)
    acts_on_items = {
        one.id.rpartition(".")[0] for one in operations if one.on_item and one.intent in _OF_ITEMS
    }
    groups: tuple[dict[str, list[str]], dict[str, list[str]]] = {}, {}
    for subject, words in by_subject.items():
        groups[subject in ids and subject not in acts_on_items][subject] = words
    found: list[Matrix] = []
    shown: set[str] = set()
    for heading, group in zip(("what it has", "what it leads to"), groups):
        matrix = _matrix(heading, group, by_subject, width)
        if len(matrix.rows) > 1:
            found.append(matrix)
            shown |= {name for subject, words in matrix.rows for name in _ids(subject, words)}
    return found, [one for one in operations if one.id not in shown]


def _matrix(heading: str, by_subject: dict[str, list[str]], subjects: Container[str], width: int) -> Matrix:
    counts = Counter(word for words in by_subject.values() for word in words)
    order = list(counts)
    room = width - max(map(len, (heading, *by_subject)))
    columns: list[str] = []
    for word in sorted(counts, key=lambda word: -counts[word]):
        named = any(f"{subject}.{word}" in subjects for subject in by_subject)  # a row of its own
        if (counts[word] > 1 or word == ITSELF) and not named and len(word) + GAP <= room:
            columns.append(word)
            room -= len(word) + GAP
    columns.sort(key=order.index)
    rows = [(subject, frozenset(columns).intersection(words)) for subject, words in by_subject.items()]
    return Matrix(heading, tuple(columns), tuple((subject, words) for subject, words in rows if words))


def _ids(subject: str, words: Iterable[str]) -> list[str]:
    return [subject if word == ITSELF else f"{subject}.{word}" for word in words]
