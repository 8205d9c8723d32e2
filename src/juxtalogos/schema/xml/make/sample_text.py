"""Texts that are values of simple types: candidates by kind, each verified by the type itself."""

from __future__ import annotations

from collections.abc import Iterator
from decimal import Decimal
from itertools import islice

from juxtalogos.model.errors import Unsampleable
from juxtalogos.schema.patterns import matching_texts
from juxtalogos.schema.xml.tree.simple_types import SimpleType
from juxtalogos.schema.xml.tree.value_spaces import Scope

_WORDS = ("quay", "mole", "fairway", "anchorage", "sluice", "breakwater", "tideway")
_TRIES = 400
_MAX_LENGTH = 20_000
_SEEDED: dict[str, tuple[str, ...]] = {
    "boolean": ("true", "false"),
    "float": ("1.5", "2.25", "0.5"),
    "double": ("1.5", "2.25", "0.5"),
    "duration": ("PT2H", "P1D", "PT45M"),
    "dateTime": ("2026-11-25T08:00:00Z", "2026-11-26T09:30:00Z", "2026-12-01T23:15:00+01:00"),
    "date": ("2026-11-25", "2026-11-26", "2026-12-01"),
    "time": ("08:00:00", "09:30:00", "23:15:00"),
    "gYearMonth": ("2026-11", "2026-12"),
    "gYear": ("2026", "2027"),
    "gMonthDay": ("--11-25", "--12-01"),
    "gDay": ("---25", "---01"),
    "gMonth": ("--11", "--12"),
    "hexBinary": ("0a1b", "ff", ""),
    "base64Binary": ("cXVheQ==", "bW9sZQ==", ""),
    "anyURI": ("https://merrow.example/quay", "urn:merrow:mole"),
    "QName": ("quay", "mole"),
    "language": ("en", "da", "nl-BE"),
}


def sample_text(kind: SimpleType, seed: int = 0, scope: Scope | None = None) -> str:
    """A text of the type; the same for the same seed. Unsampleable when none is found."""
    if kind.unread:
        return "quay"
    for text in islice(candidates(kind, seed), _TRIES):
        if kind.accepts(text, scope or {}):
            return text
    raise Unsampleable(f"no value of {kind.name or kind.words()} was found", mend="give the value with --set")


def candidates(kind: SimpleType, seed: int) -> Iterator[str]:
    """Likely values, the best first."""
    if kind.enumeration:
        listed = [facet.text for facet in kind.enumeration]
        yield from (listed[(seed + turn) % len(listed)] for turn in range(len(listed)))
        return
    if kind.variety == "union":
        count = len(kind.members)
        for turn in range(count):
            yield from islice(candidates(kind.members[(seed + turn) % count], seed), 40)
        return
    if kind.variety == "list":
        yield from _lists(kind, seed)
        return
    yield from _matching(kind, seed, own=True)
    if kind.primitive == "decimal":
        yield from _numbers(kind, seed)
    listed_of = _SEEDED.get(kind.kind) or _SEEDED.get(kind.primitive)
    if listed_of:
        yield from (listed_of[(seed + turn) % len(listed_of)] for turn in range(len(listed_of)))
        yield from _within(kind)
    yield from _texts(kind, seed)
    yield from _matching(kind, seed, own=False)


def _matching(kind: SimpleType, seed: int, *, own: bool) -> Iterator[str]:
    """Texts of its patterns: of those that a schema declares, or of those that a built-in type has."""
    least = _count(kind, "minLength", "length")
    for facets, patterns in reversed(kind.patterns):
        if bool(facets) is own:
            for pattern in patterns:
                yield from matching_texts(pattern.tree, least=least, seed=seed)


def _count(kind: SimpleType, *names: str) -> int:
    return max((kind.facets[name].value for name in names if name in kind.facets), default=0)


def _lists(kind: SimpleType, seed: int) -> Iterator[str]:
    assert kind.item is not None
    wanted = max(_count(kind, "minLength", "length"), 0 if "maxLength" in kind.facets else 1)
    for count in dict.fromkeys((max(1, wanted), wanted, wanted + 1)):
        if count <= _MAX_LENGTH:
            yield " ".join(sample_text(kind.item, seed + turn) for turn in range(count))
    for _, patterns in reversed(kind.patterns):
        for pattern in patterns:
            yield from matching_texts(pattern.tree, seed=seed)


def _numbers(kind: SimpleType, seed: int) -> Iterator[str]:
    least = next(
        (kind.facets[name].value for name in ("minInclusive", "minExclusive") if name in kind.facets), None
    )
    most = next(
        (kind.facets[name].value for name in ("maxInclusive", "maxExclusive") if name in kind.facets), None
    )
    whole = any(ancestor.kind == "integer" for ancestor in kind.ancestors()) or _digits(kind) == 0
    liked = (
        (Decimal(3 + seed), Decimal(1 + seed)) if whole else (Decimal("4.5") + seed, Decimal("0.5") + seed)
    )
    for value in liked:
        yield _plain(value)
    step = Decimal(1) if whole else Decimal(1).scaleb(-min(_digits(kind), 12))
    for edge, sign in ((least, 1), (most, -1)):
        if edge is not None:
            for turn in (seed, 0, 1):
                yield _plain(edge + sign * step * turn)
    yield from ("0", "1", "0.5")


def _digits(kind: SimpleType) -> int:
    """Digits of the fraction that are allowed; some where nothing is said."""
    return int(kind.facets["fractionDigits"].value) if "fractionDigits" in kind.facets else 2


def _plain(value: Decimal) -> str:
    text = f"{value:f}"
    return text.rstrip("0").rstrip(".") if "." in text else text


def _within(kind: SimpleType) -> Iterator[str]:
    """The limits themselves, and texts near them."""
    for name in ("minInclusive", "maxInclusive", "minExclusive", "maxExclusive"):
        facet = kind.facets.get(name)
        if facet is None:
            continue
        text = facet.text.strip()
        yield text
        if kind.primitive in ("float", "double"):
            yield from (repr(float(facet.value) + shift) for shift in (1, 0.5, 0.01, -0.01, -0.5, -1))
        for index, char in enumerate(text):
            if char.isdigit():
                yield from (
                    text[:index] + other + text[index + 1 :] for other in "0123456789" if other != char
                )


def _texts(kind: SimpleType, seed: int) -> Iterator[str]:
    least = _count(kind, "minLength", "length")
    most = min(
        (kind.facets[name].value for name in ("maxLength", "length") if name in kind.facets), default=None
    )
    rounds, index = divmod(seed, len(_WORDS))
    word = _WORDS[index] + (str(rounds) if rounds else "")
    if kind.primitive in ("hexBinary", "base64Binary"):
        count = min(least, _MAX_LENGTH)
        yield "0a" * count
        yield "AAAA" * (count // 3) + ("", "AA==", "AAA=")[count % 3]
        return
    if least > _MAX_LENGTH:
        return
    text = word
    while len(text) < least:
        text += word
    yield text[: max(least, len(word))] if most is None else text[: max(least, min(most, len(text)))]
    yield "q" * least
    yield ""
