"""ProtocolRules that only OData knows: what a request's options asked for was done, control information fits,
versions are in bounds.
"""

from __future__ import annotations

import itertools
from collections.abc import Iterator
from datetime import datetime
from decimal import Decimal
from typing import Any

from juxtalogos.documents.jsontext import dump_json
from juxtalogos.exchange.media import parse_media_type
from juxtalogos.formats.odata.csdl import Model
from juxtalogos.formats.odata.wire.filters import holds
from juxtalogos.formats.odata.wire.items import (
    comparable,
    count_of,
    entities,
    has_more,
    inner,
    path_to,
    plain,
)
from juxtalogos.formats.odata.wire.literals import split_arguments, value_of
from juxtalogos.formats.odata.wire.match import options, segments
from juxtalogos.model.contract import Operation
from juxtalogos.model.exchange import Exchange, header
from juxtalogos.model.findings import CheckResult, Severity
from juxtalogos.model.location import Location
from juxtalogos.model.schema import ABSENT
from juxtalogos.model.wire import Answer

DROPPED = "option.dropped"
MAX_TOLD = 20


class ProtocolRules:
    """The rules of one model on one exchange after another."""

    def __init__(self, model: Model) -> None:
        self.model = model

    def check(
        self, contract: object, operation: Operation, answer: Answer, exchange: Exchange
    ) -> Iterator[CheckResult]:
        """Every rule that says something of this answer."""
        response = exchange.response
        if response is None or answer.declared is None:
            return
        look = _Look(self.model, operation, answer, exchange)
        if not 200 <= response.status < 300:
            if response.body and answer.media is not None and answer.media.media_type == "*/*":
                actual = header(response.headers, "content-type") or "no media type"
                yield look.result(
                    "body.other",
                    False,
                    "body",
                    "an error in the protocol's form (V4 part 1, 9; JSON 4.0, 19)",
                    actual,
                    remark=True,
                )
            return
        yield from look.version()
        yield from look.format()
        if answer.value is ABSENT or answer.media is None:
            return
        yield from look.context()
        yield from look.asked_key()
        yield from look.selected()
        yield from look.expanded()
        found = look.rows
        if found is not None:
            yield from look.top(found)
            yield from look.counted(found)
            yield from look.ordered(found)
            yield from look.filtered(found)


class _Look:
    def __init__(self, model: Model, operation: Operation, answer: Answer, exchange: Exchange) -> None:
        self.model = model
        self.v4 = model.is_v4
        self.operation = operation
        self.answer = answer
        self.exchange = exchange
        self.options = options(exchange.request.url)
        self.type = operation.fact("type")
        self.place: Location = operation.location
        structured = model.structured(self.type)
        self.rows = (
            entities(answer.value)
            if structured is not None and operation.fact("does") in ("list", "navigate", "action", "function")
            else None
        )

    def result(
        self, kind: str, held: bool, at: str, declared: str, observed: str, *, remark: bool = False
    ) -> CheckResult:
        severity = Severity.REMARK if remark else Severity.DEVIATION
        return CheckResult(kind, held, at, declared, observed, self.place, severity)

    def section(self, v4: str, v2: str) -> str:
        return f" (V4 {v4})" if self.v4 else f" (V2 {v2})"

    def version(self) -> Iterator[CheckResult]:
        """V2 overview, 3: no newer version than the request can take. That of V4 is a declared header."""
        if self.v4 or self.exchange.response is None:
            return
        told = (header(self.exchange.response.headers, "dataserviceversion") or "").partition(";")[0].strip()
        most = (
            (header(self.exchange.request.headers, "maxdataserviceversion") or "").partition(";")[0].strip()
        )
        if told and most and told.replace(".", "").isdigit():
            yield self.result(
                "version.protocol",
                told <= most,
                "header.DataServiceVersion",
                f"at most {most} (V2 overview, MaxDataServiceVersion)",
                told,
            )

    def format(self) -> Iterator[CheckResult]:
        """4.0 part 1, 11.2.10: $format stands over Accept."""
        asked = self.options.get("$format", "")
        actual = (
            parse_media_type(header(self.exchange.response.headers, "content-type") or "")
            if self.exchange.response
            else None
        )
        if asked not in ("json", "atom") or actual is None:
            return
        held = actual.is_json if asked == "json" else actual.is_xml
        yield self.result(
            DROPPED,
            held,
            "header.Content-Type",
            f"$format={asked}{self.section('part 1, 11.2.10', 'URI conventions, 4.7')}",
            str(actual),
        )

    def context(self) -> Iterator[CheckResult]:
        """JSON 4.0, section 4.5.1, and 4.0 part 1, 10: answers with metadata name what they are."""
        media = (
            parse_media_type(header(self.exchange.response.headers, "content-type") or "")
            if self.exchange.response
            else None
        )
        if not self.v4 or media is None or not media.is_json or not isinstance(self.answer.value, dict):
            return
        level = media.parameter("odata.metadata") or media.parameter("metadata") or ""
        told = self.answer.value.get("@odata.context", ABSENT)
        if level == "none":
            return
        if told is ABSENT:
            yield self.result(
                "control.untrue", False, "body/@odata.context", "a context URL (JSON 4.0, 4.5.1)", "missing"
            )
            return
        name, does = self.operation.fact("set"), self.operation.fact("does")
        if (
            not isinstance(told, str)
            or does not in ("list", "read", "create")
            or "." in self.operation.id.removesuffix(f".{does}")
        ):
            return
        fragment = told.rpartition("#")[2] if "#" in told else ""
        fits = fragment.startswith(name) and fragment[len(name) : len(name) + 1] in ("", "(", "/")
        single = does != "list" and self.model.sets[name].singleton is False
        fits = fits and (not single or fragment.endswith("/$entity"))
        wanted = f"a context URL that ends in #{name}{'/$entity' if single else ''} (V4 part 1, 10)"
        yield self.result("control.untrue", fits, "body/@odata.context", wanted, told)

    def asked_key(self) -> Iterator[CheckResult]:
        """4.0 part 1, 11.2.2: the entity with the key that was asked for."""
        one = inner(self.answer.value)
        if self.operation.fact("does") != "read" or not isinstance(one, dict):
            return
        parts = segments(self.exchange.request.url.partition("?")[0].rpartition("://")[2].partition("/")[2])
        given = dict(parts[-1].arguments or ()) if parts else {}
        wrapped = "body" if one is self.answer.value else "body/d"
        section = self.section("part 1, 11.2.2", "URI conventions, 3.1")
        for part, declared in self.model.key_types(self.type):
            text = given.get(part.name, given.get("", "") if len(given) == 1 else "")
            came = plain(self.model, self.type, one, part.path)
            if not text or came is ABSENT:
                continue
            wanted = comparable(value_of(text), self.model.underlying(declared.type))
            same = came == wanted or str(came).casefold() == str(wanted).casefold()
            yield self.result(
                "body.other",
                same,
                f"{wrapped}/{part.path}",
                f"the entity with {part.name} = {text}{section}",
                str(came),
            )

    def own(self) -> list[tuple[str, dict[str, Any]]]:
        """(place, entity) of all entities that the answer is about."""
        if self.rows is not None:
            base = path_to(self.answer.value)
            return [(f"{base}/{index}", one) for index, one in enumerate(self.rows)]
        one = inner(self.answer.value)
        wrapped = "body" if one is self.answer.value else "body/d"
        return (
            [(wrapped, one)]
            if isinstance(one, dict) and self.operation.fact("does") in ("read", "navigate")
            else []
        )

    def selected(self) -> Iterator[CheckResult]:
        """4.0 part 1, 11.2.4.1: what is selected comes; more may come."""
        text = self.options.get("$select")
        if text is None or self.model.structured(self.type) is None or "*" in text or "(" in text:
            return
        names = [name.strip() for name in text.split(",")]
        # A stream shows by its annotations only (JSON 4.0, section 9).
        declared = {prop.name for prop in self.model.properties(self.type) if prop.type.name != "Edm.Stream"}
        wanted = [name for name in names if name in declared]
        section = self.section("part 1, 11.2.4.1", "URI conventions, 4.8")
        rows = self.own()
        missing = next(((at, name) for at, one in rows for name in wanted if name not in one), None)
        asked = f"$select={text}{section}"
        if missing:
            yield self.result(
                DROPPED, False, f"{missing[0]}/{missing[1]}", f"{asked}: {missing[1]}", "missing"
            )
        keys = {part.path for part in self.model.key(self.type)}
        extra = next(
            ((at, name) for at, one in rows for name in one if name in declared - keys and name not in names),
            None,
        )
        if extra:
            yield self.result(
                DROPPED,
                False,
                f"{extra[0]}/{extra[1]}",
                f"{asked}; more may come",
                f"{extra[1]}, which was not asked for",
                remark=True,
            )
        if rows and not missing and not extra:
            yield self.result(DROPPED, True, "body", asked, f"{len(rows)} entities with these properties")

    def expanded(self) -> Iterator[CheckResult]:
        """4.0 part 1, 11.2.4.2: related entities must be inline."""
        text = self.options.get("$expand")
        if text is None or self.model.structured(self.type) is None:
            return
        ways = {one.name: one for one in self.model.navigation(self.type)}
        names = [name for name in _expanded_names(text) if name in ways]
        asked = f"$expand={text}{self.section('part 1, 11.2.4.2', 'URI conventions, 4.6')}"
        rows = self.own()
        for name in names:
            missing = next((at for at, one in rows if name not in one or _deferred(one[name])), None)
            if missing is not None:
                yield self.result(
                    DROPPED, False, f"{missing}/{name}", f"{asked}: {name} inline", "not inline"
                )
            elif rows:
                yield self.result(DROPPED, True, "body", asked, f"{name} inline in {len(rows)} entities")

    def top(self, rows: list[dict[str, Any]]) -> Iterator[CheckResult]:
        """4.0 part 1, 11.2.5.3."""
        most = self.options.get("$top", "")
        if most.isdigit() and len(most) < 10:
            yield self.result(
                DROPPED,
                len(rows) <= int(most),
                path_to(self.answer.value),
                f"$top={most}: at most {most}"
                f" entities{self.section('part 1, 11.2.5.3', 'URI conventions, 4.3')}",
                f"{len(rows)} entities",
            )

    def counted(self, rows: list[dict[str, Any]]) -> Iterator[CheckResult]:
        """4.0 part 1, 11.2.5.5 and 11.2.5.4: the number of all that fit, before $top and $skip."""
        asked = self.options.get("$count") == "true" or self.options.get("$inlinecount") == "allpages"
        if not asked:
            return
        count, base = count_of(self.answer.value), path_to(self.answer.value).rpartition("/")[0]
        name = "@odata.count" if self.v4 else "__count"
        option = f"{'$count=true' if self.v4 else '$inlinecount=allpages'}{self.section('part 1, 11.2.5.5', 'URI conventions, 4.9')}"  # noqa: E501
        if count is ABSENT:
            yield self.result(DROPPED, False, f"{base}/{name}", option, "no count")
            return
        if not isinstance(count, int) or isinstance(count, bool):
            return
        skip = self.options.get("$skip", "0")
        skipped = int(skip) if skip.isdigit() and len(skip) < 10 else 0
        whole = not has_more(self.answer.value) and not self.options.keys() & {"$top", "$skip", "$skiptoken"}
        held = count >= len(rows) and (not whole or count == len(rows))
        yield self.result(
            "control.untrue",
            held,
            f"{base}/{name}",
            f"{option}: the number of all that fit",
            f"{count}, and {len(rows)} received",
        )
        if skipped and held:
            left = max(0, count - skipped)
            yield self.result(
                DROPPED,
                len(rows) <= left,
                path_to(self.answer.value),
                f"$skip={skipped} of {count}: at most {left}"
                f" entities{self.section('part 1, 11.2.5.4', 'URI conventions, 4.4')}",
                f"{len(rows)} entities",
            )

    def ordered(self, rows: list[dict[str, Any]]) -> Iterator[CheckResult]:
        """4.0 part 1, 11.2.5.2. Texts are sorted by the service's own collation, so they prove nothing."""
        text = self.options.get("$orderby", "")
        first, _, way = text.partition(",")[0].strip().partition(" ")
        if not first or len(rows) < 2 or way.strip() not in ("", "asc", "desc") or "(" in first:
            return
        down = way.strip() == "desc"
        values = [plain(self.model, self.type, row, first) for row in rows]
        if not self.v4 and None in values:
            return  # V2 does not say where null stands
        if any(
            value is ABSENT or not isinstance(value, Decimal | datetime | bool | None) for value in values
        ):
            return
        for index, (one, other) in enumerate(itertools.pairwise(values)):
            if _after(other, one) if down else _after(one, other):
                at = f"{path_to(self.answer.value)}/{index + 1}/{first}"
                yield self.result(
                    DROPPED,
                    False,
                    at,
                    f"$orderby={text}{self.section('part 1, 11.2.5.2', 'URI conventions, 4.2')}",
                    f"{_told(other)} behind {_told(one)}",
                )
                return
        yield self.result(
            DROPPED, True, path_to(self.answer.value), f"$orderby={text}", f"{len(rows)} entities in order"
        )

    def filtered(self, rows: list[dict[str, Any]]) -> Iterator[CheckResult]:
        """4.0 part 1, 11.2.5.1: only entities for which the expression is true."""
        text = self.options.get("$filter")
        if text is None:
            return
        decided = 0
        for index, one in enumerate(rows):
            found = holds(text, lambda path, one=one: plain(self.model, self.type, one, path))  # type: ignore[misc]
            decided += found is True
            if found is False:
                at = f"{path_to(self.answer.value)}/{index}"
                shown = dump_json({name: value for name, value in one.items() if name in text})
                yield self.result(
                    DROPPED,
                    False,
                    at,
                    f"$filter={text}{self.section('part 1, 11.2.5.1', 'URI conventions, 4.5')}",
                    shown[:200],
                )
                return
        if decided:
            yield self.result(
                DROPPED,
                True,
                path_to(self.answer.value),
                f"$filter={text}",
                f"{decided} of {len(rows)} entities looked at",
            )


def _after(one: Any, other: Any) -> bool:
    """Whether a value stands behind another in ascending order; null comes first (4.0 part 1, 11.2.5.2)."""
    if one is None or other is None:
        return one is not None and other is None
    return bool(type(one) is type(other) and one > other)


def _told(value: Any) -> str:
    return value.isoformat() if isinstance(value, datetime) else str(value)


def _deferred(value: Any) -> bool:
    return isinstance(value, dict) and "__deferred" in value


def _expanded_names(text: str) -> list[str]:
    """The navigation properties that $expand names first, without what is said of them."""
    parts = split_arguments(text)
    shown = [part.partition("(")[0].strip() for _, part in parts or ()]
    names = [part.partition("/")[0] for part in shown if not part.endswith("/$count")]
    return list(dict.fromkeys(names))
