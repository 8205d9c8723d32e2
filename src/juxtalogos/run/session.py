"""What every sending needs: contract, target, credentials, base URLs within the target's origins, redaction."""

from __future__ import annotations

import random
import time
from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from datetime import UTC, datetime
from pathlib import Path
from types import MappingProxyType
from typing import Any

from juxtalogos.exchange.redact import Redactor
from juxtalogos.exchange.sign_in import Signer, variants
from juxtalogos.exchange.transport import Sender, TransportOptions
from juxtalogos.formats import FORMATS, wire_of
from juxtalogos.model.contract import Contract, Operation
from juxtalogos.model.exchange import Exchange, Request
from juxtalogos.model.schema import ABSENT
from juxtalogos.model.wire import Inputs
from juxtalogos.run.judge import Judgement, judge
from juxtalogos.run.rules import Rules, rules_of
from juxtalogos.suite.language.expressions import Scope
from juxtalogos.suite.language.formulas import FormulaContext, settled
from juxtalogos.workspace.config import CONFIG_NAME, Config, Target, credentials


@dataclass(frozen=True, slots=True)
class Session:
    """Contracts served at a target, ready to be called."""

    contracts: Mapping[str, Contract]
    target: Target
    signer: Signer
    redactor: Redactor
    options: TransportOptions
    rules: Rules = field(default_factory=Rules)

    def base_url(self, contract: Contract) -> str:
        return self.target.base_url(contract)

    def encoded(self, contract: Contract, operation: Operation, inputs: Inputs, *, loose: bool = False) -> Request:
        """The request, not signed yet; `loose` takes what has no place in it."""
        return wire_of(contract).encode(operation, inputs, self.base_url(contract), loose=loose)

    def unmet(self, contract: Contract, operation: Operation) -> tuple[str, ...]:
        """Security schemes that the operation needs and the target has no credential for."""
        return self.signer.chosen(contract, operation, FORMATS[contract.format].sign_in)[1]

    async def signed(self, contract: Contract, operation: Operation, request: Request, sender: Sender) -> Request:
        """Credentials go to the target's own origins only. NoAnswer when signing in fails."""
        return await self.signer.signed(contract, operation, request, FORMATS[contract.format].sign_in, sender)

    async def send(self, contract: Contract, operation: Operation, request: Request, sender: Sender) -> Exchange:
        """Signs and sends once."""
        return await sender.send(await self.signed(contract, operation, request, sender))

    def signed_in_vain(self, contract: Contract, operation: Operation, exchange: Exchange) -> bool:
        """Whether an answer says that what was signed with no longer holds: it is forgotten then, and to send again may help."""
        return self.signer.void(contract, operation, exchange, FORMATS[contract.format].sign_in)

    def judged(self, contract: Contract, operation: Operation, exchange: Exchange) -> Judgement:
        """A single exchange judged, the workspace's rules applied."""
        judgement = judge(wire_of(contract), operation, exchange, self.base_url(contract))
        value = judgement.answer.value if judgement.answer else ABSENT
        scope = Scope(self.target.variables, exchange=exchange, response_value=value)
        return self.rules.apply(contract, operation, judgement, scope)


def open_session(
    contracts: Mapping[str, Contract],
    target: Target,
    workspace: Path,
    *,
    with_credentials: bool = True,
    config: Config | None = None,
    seed: int = 0,
    given: Mapping[str, Any] = MappingProxyType({}),
    now: float = 0.0,
) -> Session:
    """The target's variables are computed, those `given` on the command line stand over them as they are.

    ConfigError when a credential is not where the target says, or a variable's formula has no value.
    """
    moment = datetime.fromtimestamp(now or time.time(), UTC)
    ground = FormulaContext(moment, random.Random(f"{seed}:variables"))
    variables = settled(target.variables, ground, str(workspace / CONFIG_NAME))
    target = replace(target, variables={**variables, **given})
    secrets = credentials(target, workspace) if with_credentials else {}
    names = {name for contract in contracts.values() for name in contract.secret_fields}
    redactor = Redactor.of((form for credential in secrets.values() for form in variants(credential)), names)
    options = TransportOptions(
        target.connect_timeout,
        target.timeout,
        ca_file=(workspace / target.ca_file) if target.ca_file else None,
        addresses=target.addresses,
    )
    signer = Signer(secrets, target.origins(), redactor.learn, target.base_url)
    return Session(contracts, target, signer, redactor, options, rules_of(config, contracts) if config else Rules())
