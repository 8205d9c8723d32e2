"""Whether a target answers: the first operation that only reads and needs no value, called unsigned."""

from __future__ import annotations

import asyncio
from dataclasses import dataclass, replace
from pathlib import Path

from juxtalogos.compose.requests import sample_inputs
from juxtalogos.exchange.redact import Redactor
from juxtalogos.exchange.transport import Transport, TransportOptions
from juxtalogos.formats import outcome_of, wire_of
from juxtalogos.formats.http.outcomes import base_request, status_outcome
from juxtalogos.model.contract import Contract, Operation
from juxtalogos.model.errors import JuxtalogosError, Unsampleable, UsageError
from juxtalogos.model.exchange import Exchange, Request
from juxtalogos.model.outcome import Outcome
from juxtalogos.run.target.credentials import Doors
from juxtalogos.run.target.session import Identity, Session, open_session
from juxtalogos.run.target.way import transport_options
from juxtalogos.workspace.config import Target
from juxtalogos.workspace.trust import Trust
from juxtalogos.workspace.workspace import Workspace


@dataclass(frozen=True, slots=True)
class Reach:
    """What a target answered."""

    error: str
    """Why no answer came; empty when one did."""
    doubt: str
    """What the answer leaves in doubt; empty when nothing."""
    contract: str = ""
    told: str = ""
    """What was tried, and what it answered."""

    @property
    def wrong(self) -> bool:
        return bool(self.error or self.doubt)

    def as_data(self) -> dict[str, object]:
        return {"reached": not self.error, "reason": self.error or self.doubt, "tried": self.told}


def tried_at(target: Target, contract: Contract, root: Path) -> Reach:
    """Calls the first operation that only reads and needs nothing that would be made up, unsigned; else the
    base path. `root` is the workspace. What its user has still to allow is told as a doubt.
    """
    try:
        doors = Doors(Trust(root), frozenset(), target, root)
        options = transport_options(doors, Redactor.of(()))  # who is not let onto the way reaches nothing
    except JuxtalogosError as error:
        return Reach("", f"not tried: {error.what} ({error.mend})", contract.name)
    options = replace(options, connect_timeout=3, timeout=5, pace=0)
    base = target.base_url(contract)
    for operation in sorted(contract.operations, key=lambda one: _needs(contract, one)):
        if (
            not operation.safe
            or operation.not_callable
            or any(declared_input.required for declared_input in operation.inputs)
        ):
            continue
        try:
            inputs = sample_inputs(contract, operation, full=False)
            request = wire_of(contract).encode(operation, inputs, base)
        except (Unsampleable, UsageError):
            continue
        exchange = _sent(request, options)
        absent = outcome_of(contract, operation, exchange) is Outcome.ABSENT
        code = str(exchange.response.status) if exchange.response else ""
        doubt = f"{operation.id} is not found there ({code}): is the base URL right?" if absent else ""
        return Reach(exchange.error, doubt, contract.name, f"{operation.id}: {code}" if code else "")
    exchange = _sent(wire_of(contract).probe(base), options)
    code = str(exchange.response.status) if exchange.response else ""
    absent = exchange.response is not None and status_outcome(exchange.response.status) is Outcome.ABSENT
    doubt = f"its base path responds {code}, and no operation could be tried" if absent else ""
    return Reach(exchange.error, doubt, contract.name, f"its base path: {code}" if code else "")


def signed_at(home: Workspace, target: Target, contract: Contract, role: str = "") -> Reach:
    """Calls an operation that only reads as a role, signed in; what is missing where that is refused."""
    who = f"as {role}: " if role else "signed in: "
    try:
        session = open_session(
            {contract.name: contract}, target, home.root, config=home.config, identity=Identity(role)
        )
        exchange, operation = asyncio.run(_signed(session, contract))
    except JuxtalogosError as error:
        return Reach("", f"{who}{error.what}", contract.name, "")
    if exchange is None or operation is None:
        return Reach("", "", contract.name, f"{who}no operation could be tried")
    outcome = outcome_of(contract, operation, exchange)
    code = str(exchange.response.status) if exchange.response else exchange.error
    told = f"{who}{operation.id}: {code}"
    if outcome in (Outcome.UNAUTHENTICATED, Outcome.FORBIDDEN):
        why = session.unsigned_words(contract, operation, exchange) or f"{code}: it is not let in"
        return Reach("", f"{who}{operation.id}: {why}", contract.name, told)
    return Reach(exchange.error, "", contract.name, told)


async def _signed(session: Session, contract: Contract) -> tuple[Exchange | None, Operation | None]:
    async with Transport(session.options) as transport:
        for operation in sorted(contract.operations, key=lambda one: not one.security):
            login = session.signer.login
            if not operation.safe or operation.not_callable or operation.danger.withheld:
                continue
            if any(one.required for one in operation.inputs) or (login and login.name == operation.full_id):
                continue
            try:
                request = session.encoded(contract, operation, sample_inputs(contract, operation, full=False))
            except (Unsampleable, UsageError):
                continue
            return await session.transmit(contract, operation, request, transport), operation
    return None, None


def _needs(contract: Contract, operation: Operation) -> int:
    """Whether a value would have to be made up in its body, which is likely to be of
    nothing that there is.
    """
    if not operation.safe or not operation.body or not operation.body.required:
        return 0
    media = operation.body.media[0]
    rows = contract.schema(media.schema).outline(2) if media.schema else ()
    return int(any(row.required and row.depth > 0 for row in rows))


def answers(url: str) -> str:
    """Why a URL gives no answer; empty when it gives one, whatever it is."""
    return _sent(base_request(url), TransportOptions(connect_timeout=3, timeout=5)).error


def _sent(request: Request, options: TransportOptions) -> Exchange:
    async def send() -> Exchange:
        async with Transport(options) as transport:
            return await transport.send(request)

    return asyncio.run(send())
