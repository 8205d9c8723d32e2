"""What rounds of learning have made and read, kept so that later rounds need not make and read it again."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

from juxtalogos.exchange.redact import MASK
from juxtalogos.formats import wire_of
from juxtalogos.model.contract import Contract, Operation
from juxtalogos.model.errors import JuxtalogosError
from juxtalogos.model.exchange import Exchange
from juxtalogos.model.schema import ABSENT
from juxtalogos.model.wire import Inputs
from juxtalogos.run.engine.step import selected
from juxtalogos.suite.document.building import output_object
from juxtalogos.suite.language.expressions import BadExpression, Scope, evaluate, parse_expression
from juxtalogos.suite.model import Output

LONGEST = 2_000
"""Characters of a value that is used."""
MOST_BYTES, MOST_IN_ALL = 512 * 1024, 64 * 1024 * 1024
"""Of a response that is kept, and of all."""


@dataclass(slots=True)
class StandingItems:
    """Of one contract: the responses of operations whose items stand at the service."""

    contract: Contract
    scopes: dict[str, Scope] = field(default_factory=dict)
    """By operation what was sent and came."""
    stands_on: dict[str, frozenset[str]] = field(default_factory=dict)
    bytes: int = 0
    """Of all that was ever kept."""

    def keep(self, operation: Operation, exchange: Exchange, sent: Inputs, stands_on: frozenset[str]) -> None:
        """Takes a response of success; the first one stays."""
        if operation.id in self.scopes or exchange.response is None:
            return
        size = len(exchange.response.body)
        if size > MOST_BYTES or self.bytes + size > MOST_IN_ALL:
            return
        try:
            value = wire_of(self.contract).decode(operation, exchange).value
        except (JuxtalogosError, ValueError, LookupError):
            return
        self.scopes[operation.id] = Scope(
            {}, exchange=exchange, request_values=sent.values, request_body=sent.body, response_value=value
        )
        self.stands_on[operation.id] = stands_on
        self.bytes += size

    def value(self, operation: str, expression: str) -> Any:
        """See `compose.standing`. What might be read as an expression, or was masked, is not given."""
        scope = self.scopes.get(operation)
        if scope is None:
            return ABSENT
        output = output_object(expression)
        try:
            value = (
                evaluate(parse_expression(output), scope)
                if isinstance(output, str)
                else selected(Output("", **output), scope, dict(self.contract.namespaces))
            )
        except BadExpression:
            return ABSENT
        if isinstance(value, str):
            plain = len(value) <= LONGEST and "$" not in value and MASK not in value
            return value if value and plain else ABSENT
        return value if isinstance(value, int) and not isinstance(value, bool) else ABSENT

    def bases(self, operation: str) -> frozenset[str]:
        """The operations whose items it was called with, directly and further down."""
        found: set[str] = set()
        waiting = [operation]
        while waiting:
            more = self.stands_on.get(waiting.pop(), frozenset()) - found
            found |= more
            waiting += more
        return frozenset(found)

    def drop(self, operations: frozenset[str]) -> None:
        """Forgets what does not help any more, and what stands on it."""
        for name in [name for name in self.scopes if name in operations or self.bases(name) & operations]:
            del self.scopes[name]
        self.stands_on = {name: on for name, on in self.stands_on.items() if name in self.scopes}
