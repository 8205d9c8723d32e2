"""Values of common shapes: those whose words stand in a refusal, then the ones that are asked for most."""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import Any

_SHAPES: tuple[tuple[str, tuple[str, ...]], ...] = (
    ("dns|domain|canonical|fqdn|host ?name|zone", ("????????.harbour.test.", "????????.harbour.test")),
    ("cidr|subnet|netmask|network prefix", ("192.0.2.0/24",)),
    ("ipv6", ("2001:db8::10",)),
    ("https?|url|uri|endpoint|webhook", ("https://harbour.test/merrow",)),
    ("ip|ipv4|inet", ("192.0.2.10",)),
    ("e-?mail", ("????????@harbour.test",)),
    ("uuid|guid", ("########-####-4###-8###-############",)),
    ("base-?64", ("cXVheQ==",)),
    ("phone", ("+441632960961",)),
    ("cron", ("0 6 * * *",)),
    ("duration|interval|timedelta", ("PT1H", "1h", "3600")),
    ("time ?zone|tz", ("UTC",)),
    ("iso 8601|rfc 3339|date", ("2030-03-14", "2030-03-14T06:30:00Z")),
    ("semver|semantic version|version", ("1.0.0",)),
    ("colou?r", ("#336699",)),
    ("regex|regular expression", ("quay.*",)),
    ("media type|mime|content type", ("text/plain",)),
    ("json", ("{}",)),
    ("slug|lower ?case|alphanumeric|letters|identifier", ("????????", "????????1")),
    ("upper ?case|capitals?", ("^^^^^^^^",)),
    ("numeric|integer|number|digits?", ("1", "1########")),
    ("country", ("GB",)),
    ("currency", ("EUR",)),
    ("language|locale", ("en", "en-GB")),
    ("path", ("/quay/merrow",)),
    ("boolean|true|false", ("true",)),
    ("address", ("192.0.2.10", "desk@harbour.test")),
)
"""Words of a refusal, as a pattern, and what may be taken; `?`, `^` and `#` as in `unique()`."""
_USUAL = ("????????.harbour.test.", "192.0.2.10", "cXVheQ==", "????????", "1")
"""Where no word tells the shape."""


def shaped_values(text: str, *, plain_choice: bool) -> Iterator[tuple[str, Any]]:
    """(`value` or `formula`, what) of texts in a shape that a refusal may want. `plain_choice`: whether it
    told values itself, so that one of the usual shapes is not what it wants.
    """
    fitting = (some for words, some in _SHAPES if re.search(rf"\b(?:{words})s?\b", text, re.IGNORECASE))
    found = [one for some in fitting for one in some]
    for one in dict.fromkeys((*found, *(() if plain_choice else _USUAL))):
        if any(sign in one for sign in ("????", "^^^^", "####")):
            yield "formula", f"unique('{one}')"
        else:
            yield "value", one
