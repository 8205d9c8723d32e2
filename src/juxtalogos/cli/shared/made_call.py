"""What is done with a call after it was made: it becomes a step of a case, and its values serve others."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping
from dataclasses import dataclass, replace
from pathlib import Path
from types import MappingProxyType
from urllib.parse import urlsplit

from juxtalogos.cli.shared.terminal import Terminal
from juxtalogos.exchange.redact import is_credential
from juxtalogos.formats import outcome_of, wire_of
from juxtalogos.ledger import open_ledger
from juxtalogos.model.contract import Contract, Operation
from juxtalogos.model.errors import JuxtalogosError
from juxtalogos.model.exchange import Exchange
from juxtalogos.model.wire import Inputs
from juxtalogos.run.judging.judge import Judgement
from juxtalogos.run.target.session import Session
from juxtalogos.suite.document.history import noted
from juxtalogos.suite.document.links import StepLink
from juxtalogos.suite.document.outcomes import criteria_of, outcome_seen
from juxtalogos.suite.document.saving import place_of, save_call, secret_inputs
from juxtalogos.suite.inputs import values_of
from juxtalogos.workspace.config import GIVEN
from juxtalogos.workspace.files import write_whole
from juxtalogos.workspace.known import KnownValue, Learned, learned_path
from juxtalogos.workspace.secrets import SECRET_LIKE
from juxtalogos.workspace.workspace import Workspace

MOST_TEXT = 200
"""Characters of a text that is kept."""


@dataclass(frozen=True, slots=True)
class MadeCall:
    """A call of an operation, with what came of it."""

    home: Workspace
    session: Session
    contract: Contract
    operation: Operation
    inputs: Inputs
    exchange: Exchange

    def hidden(self) -> dict[str, str]:
        """Addresses of secrets among the inputs, with names for them."""
        text = self.session.redactor.text
        return secret_inputs(
            self.contract, self.operation, self.inputs, lambda value: text(str(value)) != str(value)
        )


def may_be_saved(out: Terminal, exchange: Exchange) -> bool:
    """Whether there is an outcome to expect; it is told where there is none."""
    if exchange.response is None:
        out.note(("not saved: no response was received, so there is no outcome to expect", "remark"))
    return exchange.response is not None


def save(
    out: Terminal,
    call: MadeCall,
    judgement: Judgement,
    number: int,
    place: str,
    *,
    links: list[StepLink],
    role: str,
    expect: str,
    parameters: Mapping[str, str] = MappingProxyType({}),
) -> None:
    """Appends a call as a step of the case at `SUITE#CASE`; `number` is that of its exchange, 0 for none."""
    outcome = expect or outcome_seen(call.exchange, judgement.answer)
    criteria = criteria_of(outcome, wire_of(call.contract), call.operation)
    hidden = call.hidden()
    with noted(call.home, f"call {call.operation.id} --save {place}"):
        path, step = save_call(
            call.home.suites,
            place,
            call.contract,
            call.operation,
            call.inputs,
            links,
            role,
            criteria,
            hidden,
            parameters,
        )
    if number:
        with open_ledger(call.home.ledger_path, write=True) as ledger:
            ledger.assign(number, *place_of(place), step)
    expected = "any response is accepted" if outcome == "any" else f"expected outcome: {outcome}"
    out.note(f"saved in {path} as step {step}; {expected}")
    for address, name in hidden.items():
        told = f"{address} is a secret, so it is an input of the case"
        out.note((f"{told}: juxtalogos run ... --set {name}=env:NAME", "remark"))


def inputs_sent(
    out: Terminal, session: Session, contract: Contract, operation: Operation, exchange: Exchange
) -> Inputs | None:
    """The inputs of a message that was sent as it stood; what of it no input says is told. None when it is
    not of the operation.
    """
    wire, base = wire_of(contract), session.base_url(contract)
    sent = exchange.request
    if operation not in wire.match(sent, base):
        out.note((f"not saved: the message does not match the declaration of {operation.id}", "remark"))
        return None
    inputs = wire.inputs_of(operation, sent, base)
    again = wire.encode(operation, inputs, base, loose=True)
    before, after = (
        {part.partition("=")[0] for part in urlsplit(one.url).query.split("&")} for one in (sent, again)
    )
    if before - after:
        told = ", ".join(sorted(before - after))
        out.note((f"not in the step, because it is not declared: query {told}", "remark"))
    return inputs


def remember(out: Terminal, call: MadeCall, typed: Iterable[str]) -> None:
    """Keeps the single values at the addresses that a person typed, if the call succeeded: compose and
    learning use them at the same target. Secrets, IDs and versions of items, and long texts are left out.
    """
    succeeded = outcome_of(call.contract, call.operation, call.exchange).succeeded
    if call.session.target.name == GIVEN or not succeeded:
        return
    addresses = list(typed)
    if isinstance(call.inputs.body, bytes):  # a file: what its values mean is read from what was sent
        wire, base = wire_of(call.contract), call.session.base_url(call.contract)
        try:
            call = replace(call, inputs=wire.inputs_of(call.operation, call.exchange.request, base))
        except (JuxtalogosError, ValueError, LookupError):
            return
        addresses += [address for address, _ in values_of(call.inputs) if address.startswith("body")]
    fresh = worth_keeping(call.operation, call.inputs, addresses, call.hidden())
    if added := keep_values(call.home, call.session.target.name, call.contract, fresh):
        where = learned_path(Path(), call.session.target.name, call.contract.name)
        out.note((f"kept for compose: {', '.join(added)} ({where})", "note"))


def worth_keeping(
    operation: Operation, inputs: Inputs, addresses: Iterable[str], hidden: Collection[str]
) -> list[KnownValue]:
    """Of the values that an operation was called with, those that may serve other calls of it. `hidden`: the
    addresses of secrets.
    """
    values = dict(values_of(inputs))
    left_out = {one.address for one in operation.inputs if one.identifies or one.is_version}
    return [
        KnownValue(address, operation.id, values[address], learned=True, by_hand=True)
        for address in dict.fromkeys(addresses)
        if isinstance(values.get(address), str | int | float | bool)
        and len(str(values[address])) <= MOST_TEXT
        and address not in hidden
        and address not in left_out
        and "/0" not in address
        and not _like_a_secret(address)
    ]


def keep_values(home: Workspace, target: str, contract: Contract, fresh: list[KnownValue]) -> list[str]:
    """Adds values to what was learned of a contract at a target; the addresses of those that are new."""
    if not fresh:
        return []
    kept = Learned.read(home.root, target, contract.name)
    added = kept.add_by_hand(fresh)
    if added:
        kept.path.parent.mkdir(parents=True, exist_ok=True)
        write_whole(kept.path, kept.text().encode())
    return added


def _like_a_secret(address: str) -> bool:
    """Whether an input holds a secret by its name, though nothing declares that: the file of what was learned
    is kept in version control.
    """
    return bool(SECRET_LIKE.search(address)) or is_credential(address.removeprefix("header."))
