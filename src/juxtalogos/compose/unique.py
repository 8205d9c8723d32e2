"""Names of one's own: a template that the schema allows, from which each run, case and row makes another
text.

In a template `#` stands for a digit, `?` for a small and `^` for a large letter (`unique()` in formulas).
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator
from datetime import UTC, datetime
from random import Random
from typing import Any

from juxtalogos.conventions.naming import words_of
from juxtalogos.conventions.words import word_set
from juxtalogos.suite.language.expressions import Scope
from juxtalogos.suite.language.formulas import FormulaContext, compute, parse_formula
from juxtalogos.suite.language.own_names import SORTS

_naming = word_set("names.unique")
"""Last words of properties that tell one thing from another: what is taken already is refused."""
_TRIALS = 3
ROOMY = 10**6
"""Fewer texts than so many are likely to meet."""


def names_something(name: str) -> bool:
    """Whether a property of that name is likely to be refused where another thing has its value."""
    found = words_of(name)
    return bool(found) and found[-1] in _naming()


def unique_formula(sample: Any, accepts: Callable[[Any], bool]) -> str:
    """A formula that makes values as the sample is one; empty where the schema leaves no room for any."""
    for template in _templates(sample):
        if not any(sign in template for sign in SORTS):
            continue
        text = "unique('" + template.replace("'", "''") + "')"
        formula = f"number({text})" if isinstance(sample, int) else text
        if all(
            accepts(compute(parse_formula(formula), Scope({}), _ground(number))) for number in range(_TRIALS)
        ):
            return formula
    return ""


def room(formula: str) -> int:
    """How many values a formula of this kind can make."""
    found = re.search(r"'(.*)'", formula)
    template = found[1] if found else ""
    return int(10 ** template.count("#") * 23 ** (template.count("?") + template.count("^")))


def _ground(number: int) -> FormulaContext:
    return FormulaContext(datetime(2026, 3, 14, tzinfo=UTC), Random(number), f"token{number}", "trial")


def _templates(sample: Any) -> Iterator[str]:
    """The likeliest first, then those with less room."""
    if isinstance(sample, bool):
        return
    if isinstance(sample, int):
        yield from ("1########", "1######", "4####", "4###", "1##", "##")
        return
    if not isinstance(sample, str):
        return
    plain = re.sub(r"[#?^]", "", sample)
    if "@" in plain:
        yield "q???????-" + plain
    yield "????????-####"
    if plain:
        yield from ("??????? " + plain, "???????-" + plain, "???????" + plain)
        yield from ((("???????" + plain)[:size]) for size in (30, 24, 20, 16, 12, 10))
    yield from ("????????", "?######", "^^^^^^^^", "^^^####", "########", "??????", "^^^^^^")
    yield "########-####-4###-8###-############"
    if any(char.isalnum() for char in plain):
        yield (
            re.sub(r"\d", "#", plain)
            if re.search(r"\d{3}", plain)
            else re.sub(r"[a-z]", "?", re.sub(r"[A-Z]", "^", re.sub(r"\d", "#", plain)))
        )
        yield re.sub(r"\d", "#", re.sub(r"[a-z]", "?", re.sub(r"[A-Z]", "^", plain)))
        yield re.sub(r"\d", "#", plain)
    yield from ("????", "^^^^", "####", "???", "^^^", "###", "??", "^^")
