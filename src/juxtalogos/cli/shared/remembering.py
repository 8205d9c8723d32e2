"""What a call by hand that succeeded shows: its values serve compose and learning at the same target."""

from __future__ import annotations

from collections.abc import Iterable

from juxtalogos.exchange.redact import Redactor
from juxtalogos.model.contract import Contract, Operation
from juxtalogos.model.wire import Inputs
from juxtalogos.suite.document.saving import secret_inputs
from juxtalogos.suite.inputs import values_of
from juxtalogos.workspace.files import write_whole
from juxtalogos.workspace.known import KnownValue, Learned
from juxtalogos.workspace.workspace import Workspace

MOST_TEXT = 200
"""Characters of a text that is kept."""


def remember(
    home: Workspace,
    target: str,
    contract: Contract,
    operation: Operation,
    inputs: Inputs,
    given: Iterable[str],
    redactor: Redactor,
) -> list[str]:
    """Keeps the single values at the addresses that a person gave, secrets and ids of items left out; the
    addresses of those that are new. A name of a scheme's field, or what is longer than a line, is no value
    that another request may take.
    """
    hidden = secret_inputs(contract, operation, inputs, lambda value: redactor.text(str(value)) != str(value))
    naming = {one.address for one in operation.inputs if one.identifies or one.is_version}
    values = dict(values_of(inputs))
    fresh = []
    for address in dict.fromkeys(given):
        value = values.get(address)
        sound = isinstance(value, str | int | float | bool) and len(str(value)) <= MOST_TEXT
        if sound and address not in hidden and address not in naming and "/0" not in address:
            fresh.append(KnownValue(address, operation.id, value, learned=True, by_hand=True))
    if not fresh:
        return []
    kept = Learned.read(home.root, target, contract.name)
    added = kept.add_by_hand(fresh)
    if added:
        kept.path.parent.mkdir(parents=True, exist_ok=True)
        write_whole(kept.path, kept.text().encode())
    return added
