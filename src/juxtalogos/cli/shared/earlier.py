"""Values taken from an earlier exchange: `ADDRESS=@EXCHANGE#/path` as a setting, a link between steps when it
is saved.
"""

from __future__ import annotations

import shlex
from dataclasses import dataclass, replace
from typing import Any

from juxtalogos.exchange.media import media_type_of
from juxtalogos.exchange.redact import MASK
from juxtalogos.ledger import ExchangeQuery, ExchangeRecord, open_ledger
from juxtalogos.model.contract import Operation
from juxtalogos.model.errors import UsageError, nearest, quoted
from juxtalogos.model.exchange import Exchange, header
from juxtalogos.model.location import follow_pointer
from juxtalogos.model.schema import ABSENT
from juxtalogos.suite.checks.pins import body_value
from juxtalogos.suite.document.links import StepLink, link_of
from juxtalogos.suite.inputs import resolve_address
from juxtalogos.suite.language.selectors import select_json
from juxtalogos.workspace.workspace import Workspace


@dataclass(frozen=True, slots=True)
class Linked:
    """A setting whose value came from an earlier exchange."""

    address: str
    record: ExchangeRecord
    source: str
    """`/vesselId` in the answer's body, empty for all of it, `header.Location`, or a JSONPath such as
    `$.items[0].id`."""
    value: Any

    def link(self, suite: str, case: str) -> StepLink:
        """UsageError unless the earlier exchange is a step of the same case."""
        if (self.record.suite, self.record.case) != (suite, case) or not self.record.step:
            raise UsageError(
                (
                    f"exchange {self.record.id} is not a step of {suite}#{case}, so "
                    f"{self.address} cannot be linked to it"
                ),
                mend=(
                    f"first save that call: juxtalogos call {shlex.quote(self.record.operation)} --save "
                    f"{suite}#{case}, then use its number"
                ),
            )
        return link_of(self.address, self.record.step, self.source)


def split_settings(
    home: Workspace, operation: Operation, settings: list[str]
) -> tuple[list[str], list[Linked]]:
    """(settings with values of their own, those that take a value of an earlier exchange)."""
    plain, linked = [], []
    for setting in settings:
        address, equals, text = setting.partition("=")
        if not equals or not text.startswith("@") or text.startswith("@@"):
            plain.append(f"{address}={text[1:]}" if equals and text.startswith("@@") else setting)
            continue
        name, _, source = text.partition("#")
        record = exchange_named(home, name)
        value = _value(home, record, source)
        linked.append(Linked(resolve_address(operation, address.strip()), record, source, value))
    return plain, linked


def exchange_named(home: Workspace, text: str, *, answered: bool = True) -> ExchangeRecord:
    """The exchange that `17`, `@17`, `@last` or `@OPERATION` names, with its answer as a rule.

    UsageError with the nearest.
    """
    name = text.removeprefix("@")
    query = ExchangeQuery(answered=answered, newest_first=True, limit=1, whole_only=True)
    if not name.isdigit() and name != "last":
        contract, operation = _operation_named(home, name)
        query = replace(query, operation=operation, contract=contract)
    with open_ledger(home.ledger_path) as ledger:
        record = ledger.exchange(int(name[:18])) if name.isdigit() else next(ledger.exchanges(query), None)
    if record is None or (answered and (record.exchange is None or record.exchange.response is None)):
        if name.isdigit():
            what = f"there is no exchange {name}" if record is None else f"exchange {name} has no response"
        else:
            what = (
                "no exchange has a response yet"
                if name == "last"
                else f"no exchange of {name} has a response yet"
            )
        raise UsageError(what, mend="call it first, or list them: juxtalogos exchanges")
    return record


def _operation_named(home: Workspace, name: str) -> tuple[str, str]:
    """(contract, id) of an operation; UsageError with the nearest where `@NAME` names none."""
    try:
        contract, operation = home.operation(name)
    except UsageError:
        known = [candidate.id for contract in home.contracts() for candidate in contract.operations]
        raise UsageError(
            f"@{name} names no exchange",
            mend=nearest(name, known) or "write @17, @last or @OPERATION; @@ for a text that begins with @",
        ) from None
    return contract.name, operation.id


def _value(home: Workspace, record: ExchangeRecord, source: str) -> Any:
    assert record.exchange is not None and record.exchange.response is not None
    response = record.exchange.response
    where = f"exchange {record.id}"
    if source.startswith("header."):
        value: Any = header(response.headers, source.removeprefix("header."))
        if value is None:
            raise UsageError(
                f"the response has no {source}", where=where, mend=f"see juxtalogos exchanges {record.id}"
            )
    else:
        value = _body_value(home, record, source, where)
    if MASK in str(value):
        raise UsageError(
            f"the value at {quoted(source) or 'the body'} was a secret and was not stored",
            where=where,
            mend="give the value itself, or by env:NAME",
        )
    return value


def _body_value(home: Workspace, record: ExchangeRecord, source: str, where: str) -> Any:
    assert record.exchange is not None and record.exchange.response is not None
    if source.startswith("$"):
        return _first(home, record, source, where)
    if not source:
        kind = media_type_of(record.exchange.response)
        if kind is None or not kind.is_json:
            return record.exchange.response.body.decode("utf-8", "replace")
    try:
        return follow_pointer(answer_value(home, record, record.exchange), source)
    except UsageError:
        raise UsageError(
            "the response is neither JSON nor declared, so its values have no paths",
            where=where,
            mend="link the whole body by leaving the path out",
        ) from None
    except (LookupError, ValueError):
        raise UsageError(
            f"the response has no value at {quoted(source)}",
            where=where,
            mend="write a JSON Pointer such as /items/0/id",
        ) from None


def _first(home: Workspace, record: ExchangeRecord, path: str, where: str) -> Any:
    """The first node that a JSONPath chooses."""
    assert record.exchange is not None
    link_of("", "", path)
    nodes = select_json(path, answer_value(home, record, record.exchange))
    if not nodes:
        raise UsageError(
            f"the response has no value at {quoted(path)}",
            where=where,
            mend="list its values: juxtalogos pin --list",
        )
    return nodes[0]


def answer_value(home: Workspace, record: ExchangeRecord, exchange: Exchange) -> Any:
    """The value of an answer: of XML as its operation declares it, of JSON as it stands. UsageError when it
    has none.
    """
    from juxtalogos.formats import wire_of

    assert exchange.response is not None
    kind = media_type_of(exchange.response)
    contract = home.contract(record.contract) if record.contract in home.contract_names() else None
    operation = contract.operation(record.operation) if contract else None
    if kind is not None and kind.is_xml and contract and operation:
        value = wire_of(contract).decode(operation, exchange).value
        if value is not ABSENT:
            return value
    return body_value(exchange.response)
