"""YAML 1.2 text into JSON values: the C parser, the core schema, bounded depth and expansion.

PyYAML resolves by YAML 1.1 (`no`, `on`, dates become other values), so the resolvers of the 1.2 core schema
(YAML 1.2.2, section 10.3.2) stand here instead.
"""

from __future__ import annotations

import re
from dataclasses import dataclass
from typing import Any

import yaml

from juxtalogos.documents.collector import collector_paused
from juxtalogos.model.location import Marks, join_pointer

MAX_DEPTH = 400
MAX_NODES = 20_000_000
"""Nodes after expanding aliases."""
MAX_COPIED = 1_000_000
"""Nodes that aliases stand for and that are copied; beyond that they are shared."""

_Base: Any = getattr(yaml, "CSafeLoader", yaml.SafeLoader)


class NotYaml(ValueError):
    """The text is not YAML that can be used; line and column count from 1 (0: unknown)."""

    def __init__(self, what: str, line: int = 0, column: int = 0) -> None:
        super().__init__(what)
        self.line = line
        self.column = column


class CoreLoader(_Base):  # type: ignore[misc]
    """The C loader with the resolvers of the YAML 1.2 core schema."""

    yaml_implicit_resolvers: dict[str, Any] = {}  # noqa: RUF012  (PyYAML's own way to say it)


_NULL, _BOOL, _INT, _FLOAT = (f"tag:yaml.org,2002:{name}" for name in ("null", "bool", "int", "float"))
CoreLoader.add_implicit_resolver(_NULL, re.compile(r"^(?:~|null|Null|NULL|)$"), ["~", "n", "N", ""])
CoreLoader.add_implicit_resolver(_BOOL, re.compile(r"^(?:true|True|TRUE|false|False|FALSE)$"), list("tTfF"))
CoreLoader.add_implicit_resolver(
    _INT, re.compile(r"^(?:[-+]?[0-9]+|0o[0-7]+|0x[0-9a-fA-F]+)$"), list("-+0123456789")
)
CoreLoader.add_implicit_resolver(
    _FLOAT,
    re.compile(
        r"^(?:[-+]?(?:\.[0-9]+|[0-9]+(?:\.[0-9]*)?)(?:[eE][-+]?[0-9]+)?|[-+]?\.(?:inf|Inf|INF)|\.(?:nan|NaN|NAN))$"
    ),
    list("-+.0123456789"),
)


def read_yaml(text: str) -> tuple[Any, Marks]:
    """(JSON value, marks) of a YAML text.

    Keys are texts as written (`200:` is "200"); NotYaml for duplicates and all else that is wrong.
    """
    builder = _Builder()
    with collector_paused():
        try:
            loader = CoreLoader(text)
            try:
                builder.build(loader)
            finally:
                loader.dispose()
        except yaml.YAMLError as error:
            mark = getattr(error, "problem_mark", None)
            what = str(getattr(error, "problem", None) or error).split("\n")[0]
            if mark is None:
                raise NotYaml(what) from None
            raise NotYaml(what, mark.line + 1, mark.column + 1) from None
    return builder.root, builder.marks


_NO_KEY = object()
MERGE = "<<"
"""A key of YAML 1.1, which hand-written documents are full of."""


@dataclass(slots=True)
class _Frame:
    """A mapping or list under way."""

    value: Any
    anchor: str | None
    before: int
    """How many values there were before it."""
    first: int
    """The number of its mark."""
    key: Any = _NO_KEY
    key_mark: Any = None
    merges: bool = False
    """Whether it has a merge key."""


class _Builder:
    """Builds values from events, without recursion; an alias shares its value, and its expanded size is
    counted.
    """

    def __init__(self) -> None:
        self.root: Any = None
        self.marks = Marks()
        self.anchors: dict[str, tuple[Any, int, int | None]] = {}
        """(value, how many values it is, number of its mark where each of them has one)."""
        self.copied = 0
        self.open: set[str] = set()
        self.frames: list[_Frame] = []
        self.size = 0
        self.documents = 0
        self.gone_over = 0
        """Values gone over for merge keys."""
        self.plain: dict[str, Any] = {}
        """Values of plain scalars met; most are met again."""

    def build(self, loader: Any) -> None:
        while loader.check_event():
            event = loader.get_event()
            kind = type(event)
            if kind is yaml.ScalarEvent:
                self.scalar(event)
            elif kind is yaml.MappingStartEvent or kind is yaml.SequenceStartEvent:
                self.start(event, {} if kind is yaml.MappingStartEvent else [])
            elif kind is yaml.MappingEndEvent or kind is yaml.SequenceEndEvent:
                self.end()
            elif kind is yaml.AliasEvent:
                self.alias(event)
            elif kind is yaml.DocumentStartEvent:
                self.documents += 1
                if self.documents > 1:
                    raise _refuse("a second document begins here; one is expected", event.start_mark)

    def scalar(self, event: Any) -> None:
        frame = self.frames[-1] if self.frames else None
        if frame is not None and frame.key is _NO_KEY and type(frame.value) is dict:
            if event.anchor:
                self.anchors[event.anchor] = event.value, 1, None
            self.key(frame, event.value, event.start_mark)
            frame.merges |= event.value == MERGE and event.implicit[0]
            return
        text = event.value
        if event.implicit[0] and event.tag is None:
            value = self.plain.get(text, _NO_KEY)
            if value is _NO_KEY:
                value = self.plain[text] = _plain(text, event.start_mark)
        else:
            value = _tagged(event) if event.tag not in (None, "!") else text
        if event.anchor:
            self.anchors[event.anchor] = value, 1, None
        self.put(value, event.start_mark, 1)

    def key(self, frame: _Frame, text: str, mark: Any) -> None:
        if text in frame.value:
            raise _refuse(f"the key {text!r} stands twice in one mapping", mark)
        frame.key, frame.key_mark = text, mark

    def put(self, value: Any, mark: Any, size: int) -> None:
        """A value in its place, with its mark."""
        self.size += size
        if self.size > MAX_NODES:
            raise _refuse(f"aliases expand to more than {MAX_NODES:,} values", mark)
        if not self.frames:
            self.root = value
            self.marks.add(mark.line + 1, mark.column + 1)
            return
        frame = self.frames[-1]
        if type(frame.value) is list:
            frame.value.append(value)
            self.marks.add(mark.line + 1, mark.column + 1)
        else:
            frame.value[frame.key] = value
            self.marks.add(frame.key_mark.line + 1, frame.key_mark.column + 1)
            frame.key = _NO_KEY

    def start(self, event: Any, value: Any) -> None:
        frame = self.frames[-1] if self.frames else None
        if frame is not None and frame.key is _NO_KEY and type(frame.value) is dict:
            raise _refuse("a mapping or list cannot be a key", event.start_mark)
        if len(self.frames) >= MAX_DEPTH:
            raise _refuse(f"nested deeper than {MAX_DEPTH} levels", event.start_mark)
        self.put(value, event.start_mark, 1)
        if event.anchor:
            self.open.add(event.anchor)
        self.frames.append(_Frame(value, event.anchor, self.size - 1, len(self.marks.lines) - 1))

    def end(self) -> None:
        frame = self.frames.pop()
        if frame.merges and not self.marks.aliased:
            self.merge(frame)
        if frame.anchor:
            self.open.discard(frame.anchor)
            whole = self.size - frame.before == len(self.marks.lines) - frame.first
            self.anchors[frame.anchor] = frame.value, self.size - frame.before, frame.first if whole else None

    def merge(self, frame: _Frame) -> None:
        """Puts the members of merged mappings in the place of the merge key; those of the mapping itself
        stand over them.
        """
        self.gone_over += self.size - frame.before
        if self.gone_over > MAX_NODES:
            line, column = self.marks.lines[frame.first], self.marks.columns[frame.first]
            raise NotYaml(f"merge keys within one another make more than {MAX_NODES:,} values", line, column)
        parts = _members(frame.value, frame.first + 1)
        sources = [part for part in parts if part[0] == MERGE]
        found = frame.value[MERGE]
        listed = found if isinstance(found, list) else [found]
        if not all(isinstance(item, dict) for item in listed):
            return  # no merge: `<<` is a key like others then
        at = sources[0][2] + (1 if isinstance(found, list) else 0)
        merged: dict[str, tuple[Any, int, int]] = {}
        for one in listed:
            for key, value, first, count in _members(one, at + 1):
                if key not in frame.value:
                    merged.setdefault(key, (value, first, count))
            at += _count(one)
        whole: list[tuple[str, Any, int, int]] = []
        for key, value, first, count in parts:
            if key == MERGE:
                whole += [(name, *rest) for name, rest in merged.items()]
            else:
                whole.append((key, value, first, count))
        lines, columns = self.marks.lines, self.marks.columns
        kept = [
            (lines[first : first + count], columns[first : first + count]) for _, _, first, count in whole
        ]
        before = len(lines)
        del lines[frame.first + 1 :], columns[frame.first + 1 :]
        for some_lines, some_columns in kept:
            lines.extend(some_lines)
            columns.extend(some_columns)
        frame.value.clear()
        frame.value.update((key, value) for key, value, _, _ in whole)
        self.size -= before - len(lines)
        if self.marks.merged is None:
            self.marks.merged = join_pointer(
                next(reversed(one.value)) if isinstance(one.value, dict) else len(one.value) - 1
                for one in self.frames
            )

    def alias(self, event: Any) -> None:
        if event.anchor in self.open:
            raise _refuse("an alias stands inside its own anchor", event.start_mark)
        if event.anchor not in self.anchors:
            raise _refuse(f"no anchor {event.anchor!r} stands before this", event.start_mark)
        value, size, first = self.anchors[event.anchor]
        frame = self.frames[-1] if self.frames else None
        if frame is not None and frame.key is _NO_KEY and type(frame.value) is dict:
            if not isinstance(value, str):
                raise _refuse("a mapping or list cannot be a key", event.start_mark)
            self.key(frame, value, event.start_mark)
            return
        if not isinstance(value, dict | list):
            self.put(value, event.start_mark, 1)
        elif first is None or self.copied + size > MAX_COPIED:
            self.marks.aliased = True
            self.put(value, event.start_mark, size)
        else:
            # What an alias stands for is small mostly: as a copy it has places of its own, and can be cached.
            self.copied += size
            self.put(_copy(value), event.start_mark, size)
            self.marks.lines += self.marks.lines[first + 1 : first + size]
            self.marks.columns += self.marks.columns[first + 1 : first + size]


def _count(value: Any) -> int:
    """How many values a value is."""
    inner = value.values() if isinstance(value, dict) else value if isinstance(value, list) else ()
    return 1 + sum(map(_count, inner))


def _members(value: dict[str, Any], at: int) -> list[tuple[str, Any, int, int]]:
    """(key, value, number of its first mark, how many it has) of each member, the first one's mark being at a
    number.
    """
    found = []
    for key, item in value.items():
        count = _count(item)
        found.append((key, item, at, count))
        at += count
    return found


def _copy(value: Any) -> Any:
    if isinstance(value, dict):
        return {key: _copy(item) for key, item in value.items()}
    return [_copy(item) for item in value] if isinstance(value, list) else value


def _refuse(what: str, mark: Any) -> NotYaml:
    return NotYaml(what, mark.line + 1, mark.column + 1)


_WORDS: dict[str, Any] = {"": None, "~": None, "null": None, "Null": None, "NULL": None}
_WORDS |= dict.fromkeys(("true", "True", "TRUE"), True) | dict.fromkeys(("false", "False", "FALSE"), False)
_INTEGER = re.compile(r"[-+]?[0-9]+|0o[0-7]+|0x[0-9a-fA-F]+")
_REAL = re.compile(
    r"[-+]?(?:\.[0-9]+|[0-9]+(?:\.[0-9]*)?)(?:[eE][-+]?[0-9]+)?|[-+]?\.(?:inf|Inf|INF)|\.(?:nan|NaN|NAN)"
)


def _plain(text: str, mark: Any) -> Any:
    """A plain scalar by the core schema (YAML 1.2.2, section 10.3.2)."""
    if text in _WORDS:
        return _WORDS[text]
    if text[0] in "-+.0123456789":
        if _INTEGER.fullmatch(text):
            return _integer(text, mark)
        if _REAL.fullmatch(text):
            return float(text.lower().replace(".inf", "inf").replace(".nan", "nan"))
    return text


def _integer(text: str, mark: Any) -> int:
    try:
        return int(text, 0) if text.startswith(("0x", "0o")) else int(text)
    except ValueError:
        raise _refuse("a number of too many digits", mark) from None


def _tagged(event: Any) -> Any:
    """A scalar with a tag of its own: the core schema's tags count, others are left aside."""
    text, mark = event.value, event.start_mark
    match event.tag:
        case "tag:yaml.org,2002:null":
            return None
        case "tag:yaml.org,2002:bool":
            return text in ("true", "True", "TRUE")
        case "tag:yaml.org,2002:int" if _INTEGER.fullmatch(text):
            return _integer(text, mark)
        case "tag:yaml.org,2002:float" if _REAL.fullmatch(text):
            return float(text.lower().replace(".inf", "inf").replace(".nan", "nan"))
    return text
