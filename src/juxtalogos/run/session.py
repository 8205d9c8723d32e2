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

from juxtalogos.documents.uris import origin_alone
from juxtalogos.exchange.redact import Redactor
from juxtalogos.exchange.signin import Credential, sign, variants
from juxtalogos.exchange.transport import TransportOptions
from juxtalogos.formats import FORMATS
from juxtalogos.model.contract import Contract, Operation
from juxtalogos.model.exchange import Exchange, Request
from juxtalogos.model.seams import ABSENT, Format, Inputs
from juxtalogos.run.judge import Judgement, judge
from juxtalogos.run.rules import Rules, rules_of
from juxtalogos.suite.language.expressions import Scope
from juxtalogos.suite.language.formulas import Ground, settled
from juxtalogos.workspace.config import CONFIG_NAME, Config, Target, credentials


@dataclass(frozen=True, slots=True)
class Session:
    """Contracts served at a target, ready to be called."""

    contracts: Mapping[str, Contract]
    target: Target
    credentials: Mapping[str, Credential]
    redactor: Redactor
    options: TransportOptions
    rules: Rules = field(default_factory=Rules)

    def form(self, contract: Contract) -> Format:
        return FORMATS[contract.format]

    def base_url(self, contract: Contract) -> str:
        return self.target.base_url(contract)

    def request(self, contract: Contract, operation: Operation, inputs: Inputs) -> tuple[Request, tuple[str, ...]]:
        """(the signed request, schemes without a credential)."""
        request = self.form(contract).encode(contract, operation, inputs, self.base_url(contract))
        return self.signed(contract, operation, request)

    def judged(self, contract: Contract, operation: Operation, exchange: Exchange) -> Judgement:
        """A single exchange judged, the workspace's rules applied."""
        judgement = judge(self.form(contract), contract, operation, exchange, self.base_url(contract))
        value = judgement.answer.value if judgement.answer else ABSENT
        scope = Scope(self.target.variables, exchange=exchange, response_value=value)
        return self.rules.apply(contract, operation, judgement, scope)

    def signed(self, contract: Contract, operation: Operation, request: Request) -> tuple[Request, tuple[str, ...]]:
        """Credentials go to the target's own origins only."""
        if origin_alone(request.url) not in self.target.origins():
            return request, ()
        return sign(contract, operation, request, self.credentials, self.form(contract).sign_in)


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
    ground = Ground(moment, random.Random(f"{seed}:variables"))
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
    return Session(contracts, target, secrets, redactor, options, rules_of(config, contracts) if config else Rules())
