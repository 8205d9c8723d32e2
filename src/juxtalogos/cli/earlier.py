"""Values taken from an earlier exchange: `ADDRESS=@EXCHANGE#/path` as a setting, a link between steps when it is saved."""

from __future__ import annotations

import re
from dataclasses import dataclass
from typing import Any

from juxtalogos.exchange.media import parse_media_type
from juxtalogos.exchange.redact import MASK
from juxtalogos.ledger import ExchangeRecord, open_ledger
from juxtalogos.model.contract import Operation
from juxtalogos.model.errors import UsageError, quoted
from juxtalogos.model.exchange import Exchange, header
from juxtalogos.model.location import follow_pointer
from juxtalogos.model.schema import ABSENT
from juxtalogos.suite.checks.pins import body_value
from juxtalogos.suite.document.saving import StepLink
from juxtalogos.suite.inputs import resolve_address
from juxtalogos.workspace.workspace import Workspace

_EARLIER = re.compile(r"@(\d+)(?:#(.*))?", re.DOTALL)


@dataclass(frozen=True, slots=True)
class Linked:
    """A setting whose value came from an earlier exchange."""

    address: str
    record: ExchangeRecord
    source: str
    """`/vesselId` in the answer's body, empty for all of it, or `header.Location`."""
    value: Any

    @property
    def expression(self) -> str:
        """The runtime expression of it (Arazzo 1.0.1)."""
        if self.source.startswith("header."):
            return f"$response.{self.source}"
        return f"$response.body#{self.source}" if self.source else "$response.body"

    def link(self, suite: str, case: str) -> StepLink:
        """UsageError unless the earlier exchange is a step of the same case."""
        if (self.record.suite, self.record.case) != (suite, case) or not self.record.step:
            raise UsageError(
                f"exchange {self.record.id} is no step of {suite}#{case}, so {self.address} cannot be linked to it",
                mend=f"save that call first: juxtalogos call {self.record.operation} --save {suite}#{case}, and take its number",
            )
        name = re.sub(r"[^A-Za-z0-9_-]+", "-", self.source.rpartition("/")[2].rpartition(".")[2]) or "body"
        return StepLink(self.address, self.record.step, name, self.expression)


def split_settings(home: Workspace, operation: Operation, settings: list[str]) -> tuple[list[str], list[Linked]]:
    """(settings with values of their own, those that take a value of an earlier exchange)."""
    plain, linked = [], []
    for setting in settings:
        address, equals, text = setting.partition("=")
        found = _EARLIER.fullmatch(text) if equals else None
        if found is None:
            plain.append(f"{address}={text[1:]}" if equals and text.startswith("@@") else setting)
            continue
        number, source = int(found.group(1)), found.group(2) or ""
        record = _record(home, number)
        value = _value(home, record, source)
        linked.append(Linked(resolve_address(operation, address.strip()), record, source, value))
    return plain, linked


def _record(home: Workspace, number: int) -> ExchangeRecord:
    with open_ledger(home.ledger_path) as ledger:
        record = ledger.exchange(number)
    if record is None or record.exchange is None or record.exchange.response is None:
        what = f"there is no exchange {number}" if record is None else f"exchange {number} has no answer"
        raise UsageError(what, mend="list them: juxtalogos exchanges")
    return record


def _value(home: Workspace, record: ExchangeRecord, source: str) -> Any:
    assert record.exchange is not None and record.exchange.response is not None
    response = record.exchange.response
    where = f"exchange {record.id}"
    if source.startswith("header."):
        value: Any = header(response.headers, source.removeprefix("header."))
        if value is None:
            raise UsageError(f"the answer has no {source}", where=where, mend=f"see juxtalogos exchanges {record.id}")
    else:
        value = _body_value(home, record, source, where)
    if MASK in str(value):
        raise UsageError(f"what stands at {quoted(source) or 'the body'} was a secret and is not kept", where=where)
    return value


def _body_value(home: Workspace, record: ExchangeRecord, source: str, where: str) -> Any:
    assert record.exchange is not None and record.exchange.response is not None
    if not source:
        kind = parse_media_type(header(record.exchange.response.headers, "content-type") or "")
        if kind is None or not kind.is_json:
            return record.exchange.response.body.decode("utf-8", "replace")
    try:
        return follow_pointer(answer_value(home, record, record.exchange), source)
    except UsageError:
        raise UsageError("the answer is neither JSON nor declared, so nothing in it has a path", where=where) from None
    except (LookupError, ValueError):
        raise UsageError(
            f"the answer has nothing at {quoted(source)}", where=where, mend="write a JSON Pointer such as /items/0/id"
        ) from None


def answer_value(home: Workspace, record: ExchangeRecord, exchange: Exchange) -> Any:
    """The value of an answer: of XML as its operation declares it, of JSON as it stands. UsageError when it has none."""
    from juxtalogos.formats import wire_of

    assert exchange.response is not None
    kind = parse_media_type(header(exchange.response.headers, "content-type") or "")
    contract = home.contract(record.contract) if record.contract in home.contract_names() else None
    operation = contract.operation(record.operation) if contract else None
    if kind is not None and kind.is_xml and contract and operation:
        value = wire_of(contract).decode(operation, exchange).value
        if value is not ABSENT:
            return value
    return body_value(exchange.response)
