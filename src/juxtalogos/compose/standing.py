"""What stands at the service already when a case begins: its values are used as they are, and nothing is made
or listed for them again.
"""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any, Protocol

from juxtalogos.compose.relating import Dependency
from juxtalogos.model.contract import Intent, Operation
from juxtalogos.model.schema import ABSENT


class Standing(Protocol):
    """What operations have returned, of which the items are there still."""

    def value(self, operation: str, expression: str) -> Any:
        """A value out of what an operation has returned (see `Dependency.value`); ABSENT where there is none
        to be had.
        """

    def bases(self, operation: str) -> frozenset[str]:
        """The operations whose items it was called with, directly and further down."""


class NothingStands:
    """Each case makes all that it needs."""

    def value(self, operation: str, expression: str) -> Any:
        return ABSENT

    def bases(self, operation: str) -> frozenset[str]:
        return frozenset()


NOTHING_STANDS = NothingStands()


def made_anew(operation: Operation, needs: Iterable[Dependency]) -> frozenset[str]:
    """The operations that give what an operation changes, or may change: that is made for it alone. Of the
    items that an address names it is the last one; where the address names none, any of those sent.
    """
    if operation.safe or operation.intent is Intent.CREATE:
        return frozenset()
    sources = {need.input: need.source for need in needs if not need.optional}
    named = [one.address for one in operation.inputs if one.place == "path" and one.address in sources]
    return frozenset({sources[named[-1]]} if named else sources.values())
