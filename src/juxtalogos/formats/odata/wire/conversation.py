"""What holds over the exchanges of one case: what was created, changed or deleted is so when it is read;
pages; the metadata of now.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import replace
from typing import Any
from urllib.parse import urljoin, urlsplit

from juxtalogos.documents.jsontext import NotJson, parse_json
from juxtalogos.documents.load import load_document
from juxtalogos.documents.uris import origin, origin_alone
from juxtalogos.formats.odata.csdl import EnumType, Model, Property
from juxtalogos.formats.odata.definition.documents import Documents
from juxtalogos.formats.odata.definition.model_reader import read_model
from juxtalogos.formats.odata.wire.items import comparable, inner
from juxtalogos.formats.odata.wire.match import options, path_values
from juxtalogos.model.contract import Operation
from juxtalogos.model.errors import DocumentError
from juxtalogos.model.exchange import Exchange, Request, header
from juxtalogos.model.findings import CheckResult, Severity
from juxtalogos.model.schema import ABSENT
from juxtalogos.model.wire import Answer

LOST = "change.lost"
_NOT_COMPARED = ("Edm.Duration", "Edm.Time", "Edm.Binary", "Edm.Double", "Edm.Single", "Edm.Stream")
"""Types of which one value has several texts."""
_KEPT = (
    "accept",
    "odata-version",
    "odata-maxversion",
    "dataserviceversion",
    "maxdataserviceversion",
    "prefer",
)
MAX_METADATA = 64 * 1024 * 1024
Identity = tuple[str, tuple[str, ...]]


class ODataConversation:
    """See `Conversation`.

    Only what the case itself created is followed: others may change the rest meanwhile.
    """

    def __init__(self, model: Model, base_url: str) -> None:
        self.model = model
        self.v4 = model.is_v4
        self.base_url = base_url.rstrip("/")
        self.written: dict[Identity, dict[str, Any]] = {}
        self.gone: set[Identity] = set()
        self.asked = False

    # What was acknowledged is there.

    def seen(self, operation: Operation, exchange: Exchange, answer: Answer) -> Iterator[CheckResult]:
        does, response = operation.fact("does"), exchange.response
        if response is None or not 200 <= response.status < 300:
            return
        if does == "create":
            identity = self.created(operation, exchange, answer)
            sent = _sent(exchange)
            if identity is not None and sent is not None:
                self.gone.discard(identity)
                self.written[identity] = sent
                if response.status == 201:
                    yield from self.compared(operation, sent, answer, "part 1, 11.4.2", "Operations, 2.4")
            return
        item = self.identity(operation, exchange)
        if not operation.safe and does not in ("update", "replace", "delete"):
            self.forget(item)
        if item is None:
            return
        if does in ("update", "replace"):
            sent = _sent(exchange)
            if item in self.written and sent is not None:
                self.written[item] = {**(self.written[item] if does == "update" else {}), **sent}
        elif does == "delete":
            if self.written.pop(item, None) is not None:
                self.gone.add(item)
        elif does == "read":
            yield from self.read(operation, exchange, answer, item)

    def forget(self, item: Identity | None) -> None:
        """An action or a reference may change all of the entity that it is called on; one that is called on
        none, everything.
        """
        for known in list(self.written):
            if item is None or (known[0].partition("/")[0], known[1][:1]) == (
                item[0].partition("/")[0],
                item[1][:1],
            ):
                del self.written[known]

    def read(
        self, operation: Operation, exchange: Exchange, answer: Answer, item: Identity
    ) -> Iterator[CheckResult]:
        assert exchange.response is not None
        if item in self.gone:
            yield self.result(
                operation,
                False,
                "status",
                f"404 or 410, since it was deleted{self.section('part 1, 11.4.5', 'Operations, 2.7')}",
                str(exchange.response.status),
            )
        elif item in self.written:
            yield from self.compared(
                operation,
                self.written[item],
                answer,
                "part 1, 11.4.3",
                "Operations, 2.6",
                options(exchange.request.url),
            )

    def compared(
        self,
        operation: Operation,
        sent: dict[str, Any],
        answer: Answer,
        v4: str,
        v2: str,
        asked: dict[str, str] | None = None,
    ) -> Iterator[CheckResult]:
        """Each property as it was sent, beside what came."""
        came = inner(answer.value)
        if not isinstance(came, dict) or "$select" in (asked or {}):
            return
        wrapped = "body" if came is answer.value else "body/d"
        alike = 0
        for path, one, was in self.leaves(operation.fact("type"), sent, ""):
            now = _at(came, path)
            if now is ABSENT:
                continue
            kind = self.model.underlying(one.type)
            before, after = comparable(was, kind), comparable(now, kind)
            if before == after:
                alike += 1
            if before == after or (
                after is not None and before is not None and type(before) is not type(after)
            ):
                continue  # what is malformed is told as that
            yield self.result(
                operation,
                False,
                f"{wrapped}/{path}",
                f"{was!r}, as it was sent and acknowledged{self.section(v4, v2)}",
                repr(now),
            )
        if alike:
            yield self.result(
                operation,
                True,
                wrapped,
                "what was sent and acknowledged",
                f"{alike} of the values that were sent",
            )

    def leaves(self, type_name: str, sent: dict[str, Any], path: str) -> Iterator[tuple[str, Property, Any]]:
        """(path, property, value) of all single values that were sent and that only the sender makes."""
        told = sent.get("@odata.type")
        actual = (
            told.lstrip("#")
            if isinstance(told, str) and self.model.structured(told.lstrip("#"))
            else type_name
        )
        for prop in self.model.properties(actual):
            value = sent.get(prop.name, ABSENT)
            notes = prop.annotations
            made = (
                notes.get("Core.Computed") is True
                or notes.get("Core.ComputedDefaultValue") is True
                or notes.get("Core.Permissions") == "Read"
            )
            if (
                value is ABSENT
                or made
                or prop.concurrency
                or (not path and any(part.path == prop.name for part in self.model.key(actual)))
            ):
                continue
            if isinstance(value, dict) and self.model.structured(prop.type.name) is not None:
                yield from self.leaves(prop.type.name, value, f"{path}{prop.name}/")
            elif not isinstance(value, dict | list) and self.settled(prop):
                yield f"{path}{prop.name}", prop, value

    def settled(self, one: Property) -> bool:
        named = self.model.types.get(one.type.name)
        flags = isinstance(named, EnumType) and named.flags
        return not one.type.collection and not flags and self.model.underlying(one.type) not in _NOT_COMPARED

    def identity(self, operation: Operation, exchange: Exchange) -> Identity | None:
        """The resource and the keys on the way to one entity."""
        values = path_values(operation, exchange.request.url, self.base_url)
        keys = [declared_input.name for declared_input in operation.inputs if declared_input.identifies]
        if not keys or any(name not in values for name in keys):
            return None
        return operation.resource, tuple(str(values[name]) for name in keys)

    def created(self, operation: Operation, exchange: Exchange, answer: Answer) -> Identity | None:
        above = path_values(operation, exchange.request.url, self.base_url)
        # What is created by way of another entity is found in its own set.
        own = operation.resource.count("/") > 0
        keys = (
            [
                str(above[declared_input.name])
                for declared_input in operation.inputs
                if declared_input.identifies and declared_input.name in above
            ]
            if own
            else []
        )
        came = inner(answer.value)
        for part, _ in self.model.key_types(operation.fact("type")):
            value = _at(came, part.path) if isinstance(came, dict) else ABSENT
            if value is ABSENT:
                return None
            keys.append(str(value))
        return operation.resource, tuple(keys)

    def section(self, v4: str, v2: str) -> str:
        return f" (V4 {v4})" if self.v4 else f" (V2 {v2})"

    @staticmethod
    def result(operation: Operation, held: bool, at: str, declared: str, observed: str) -> CheckResult:
        return CheckResult(LOST, held, at, declared, observed, operation.location)

    # What is doubtful is asked about.

    def question(self, operation: Operation, results: Iterable[CheckResult]) -> Request | None:
        """4.0 part 1, 5.2: a client should be prepared for properties and types that were added since."""
        if self.asked or not any(_doubtful(result) for result in results):
            return None
        self.asked = True
        return Request("GET", f"{self.base_url}/$metadata", (("Accept", "application/xml"),))

    def answered(
        self, operation: Operation, results: Iterable[CheckResult], exchange: Exchange
    ) -> tuple[CheckResult, ...]:
        now = self.model_of(exchange)
        return tuple(
            self.settled_result(operation, result, now) if _doubtful(result) else result for result in results
        )

    def settled_result(self, operation: Operation, one: CheckResult, now: Model | None) -> CheckResult:
        if now is None:
            return replace(one, detail="the metadata could not be fetched again")
        name = one.at.rpartition("/")[2]
        if name == "@odata.type":
            declared = any(f"#{known}" in one.observed for known in now.types)
        else:
            family = [each for line in now.family(operation.fact("type")) for each in now.line(line)]
            types = family or [found for known in now.types if (found := now.structured(known))]
            names = {each.name for part in types for each in part.own_properties}
            declared = name in names | {each.name for part in types for each in part.own_navigation}
        if declared:
            words = (
                "the service's metadata declares it by now: read it again with import --refresh (V4 part 1,"
                " 5.2)"
            )
            return replace(one, severity=Severity.REMARK, detail=words)
        words = "the metadata was fetched again, and does not declare it"
        return replace(one, detail=words)

    def model_of(self, exchange: Exchange) -> Model | None:
        response = exchange.response
        if response is None or response.status != 200 or len(response.body) > MAX_METADATA:
            return None
        try:
            document = load_document("$metadata", response.body)
            documents = Documents("$metadata", None)
            documents.by_uri["$metadata"] = document
            return read_model(documents)
        except (DocumentError, ValueError, LookupError, TypeError, AttributeError):
            return None

    # Pages.

    def more(self, exchange: Exchange, answer: Answer) -> Request | None:
        """4.0 part 1, 11.2.5.7: the next link is taken as it stands."""
        found = inner(answer.value)
        told = found.get("@odata.nextLink", found.get("__next")) if isinstance(found, dict) else None
        link = told.get("uri") if isinstance(told, dict) else told
        if not isinstance(link, str) or not link:
            return None
        context = found.get("@odata.context") if isinstance(found, dict) else None
        base = (
            context
            if isinstance(context, str) and "://" in context
            else f"{self.base_url}/"
            if not self.v4
            else exchange.request.url
        )
        try:
            url = urljoin(base, link)
            if urlsplit(url).scheme not in ("http", "https") or origin_alone(url) != origin(self.base_url):
                return None
        except ValueError:
            return None
        kept = tuple(pair for pair in exchange.request.headers if pair[0].lower() in _KEPT)
        return Request("GET", url, kept)


def _doubtful(one: CheckResult) -> bool:
    if one.held or one.severity is not Severity.DEVIATION:
        return False
    return one.kind == "body.extra" or (one.kind == "body.enum" and one.at.endswith("/@odata.type"))


def _sent(exchange: Exchange) -> dict[str, Any] | None:
    if "json" not in (header(exchange.request.headers, "content-type") or "") or not exchange.request.body:
        return None
    try:
        value = parse_json(exchange.request.body)
    except NotJson:
        return None
    return value if isinstance(value, dict) else None


def _at(value: dict[str, Any], path: str) -> Any:
    at: Any = value
    for name in path.split("/"):
        if not isinstance(at, dict) or name not in at:
            return ABSENT
        at = at[name]
    return at
