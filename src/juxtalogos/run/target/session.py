"""What every sending needs: contract, target, credentials, base URLs within the target's
origins, redaction.
"""

from __future__ import annotations

import random
import time
from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass, field, replace
from datetime import UTC, datetime
from pathlib import Path
from types import MappingProxyType
from typing import Any, Protocol

from juxtalogos.exchange.redact import Redactor
from juxtalogos.exchange.sign_in import AUTHORIZATION, Signer, carries_credential, takes_a_person
from juxtalogos.exchange.transport import Sender, TransportOptions
from juxtalogos.formats import FORMATS, outcome_of, wire_of
from juxtalogos.log import hide_with
from juxtalogos.model.contract import Contract, Operation
from juxtalogos.model.errors import JuxtalogosError, TrustError
from juxtalogos.model.exchange import Exchange, Request
from juxtalogos.model.findings import CheckResult, Severity
from juxtalogos.model.outcome import Outcome
from juxtalogos.model.schema import ABSENT
from juxtalogos.model.wire import Inputs
from juxtalogos.run.judging.judge import Judgement, judge, unsigned, with_written
from juxtalogos.run.judging.rules import Rules, rules_of
from juxtalogos.run.target.credentials import Doors, signer_of
from juxtalogos.run.target.signing_in import sign_in_offered
from juxtalogos.run.target.way import transport_options
from juxtalogos.suite.body_files import with_files
from juxtalogos.suite.language.expressions import Scope
from juxtalogos.suite.language.formulas import FormulaContext, settled
from juxtalogos.workspace.config import CONFIG_NAME, GIVEN, Config, Role, Target
from juxtalogos.workspace.known import Learned, values_by_name
from juxtalogos.workspace.secrets import credential_source, reference_in, secret
from juxtalogos.workspace.trust import NOTHING_GRANTED, Grant, Trust

Seen = Callable[[Exchange], None]
_REFUSED = (Outcome.UNAUTHENTICATED, Outcome.FORBIDDEN)
MOST_RENEWED = 2
"""How often a request is sent again after signing in anew."""


@dataclass(frozen=True, slots=True)
class Identity:
    """Who sends, as the command line says."""

    role: str = ""
    credentials: tuple[str, ...] = ()
    """As `credential_source` reads them."""
    headers: tuple[tuple[str, str], ...] = ()

    def over(self, target: Target) -> Role:
        """The role of a target, with what is given here put over it."""
        own = Role(self.role, tuple(map(credential_source, self.credentials)), self.headers)
        return own.over(target.role(self.role))


NOBODY = Identity()


class Gatekeeper(Protocol):
    """What is asked before a request that changes something, and told of the response (`run/gate`)."""

    async def admit(
        self,
        session: Session,
        sender: Sender,
        contract: Contract,
        operation: Operation,
        request: Request,
        *,
        watch: bool = False,
        made_with: Inputs | None = None,
    ) -> Any: ...

    async def note(
        self, session: Session, sender: Sender, contract: Contract, admission: Any, exchange: Exchange
    ) -> None: ...

    async def unsent(self, admission: Any) -> None: ...

    async def feel(
        self,
        session: Session,
        sender: Sender,
        contract: Contract,
        operation: Operation,
        request: Request,
        exchange: Exchange,
    ) -> None: ...

    async def settle(self, session: Session, sender: Sender) -> None: ...


@dataclass(frozen=True, slots=True)
class Session:
    """Contracts served at a target, ready to be called."""

    contracts: Mapping[str, Contract]
    target: Target
    signer: Signer
    redactor: Redactor
    options: TransportOptions
    rules: Rules = field(default_factory=Rules)
    others: Mapping[str, Signer] = field(default_factory=dict)
    """Who signs, by role, where a step names one."""
    role: str = ""
    """Who sends; empty for the target's own credentials."""
    signing: bool = True
    """Whether credentials are used at all."""
    known: Mapping[str, Any] = field(default_factory=dict)
    """Known values by name."""
    workspace: Path = Path()
    """The folder in which files lie that bodies name."""
    gate: Gatekeeper | None = None
    """Asked before each request that changes something."""
    watch: bool = False
    """Whether a person wrote the requests: then the gate withholds none."""

    def base_url(self, contract: Contract) -> str:
        return self.target.base_url(contract)

    def acting(self, role: str) -> Session:
        """The session in which a role sends."""
        return replace(self, signer=self.others[role], role=role) if role else self

    def encoded(
        self, contract: Contract, operation: Operation, inputs: Inputs, *, loose: bool = False
    ) -> Request:
        """The request, not signed yet; `loose` takes what has no place in it. Files that the body names are
        read.
        """
        inputs = with_files(inputs, operation, self.workspace)
        return wire_of(contract).encode(operation, inputs, self.base_url(contract), loose=loose)

    def unmet(self, contract: Contract, operation: Operation) -> tuple[str, ...]:
        """Security schemes that the operation needs and the target has no credential for."""
        missing = self.signer.chosen(contract, operation, FORMATS[contract.format].sign_in)[1]
        given = {name.lower() for name, _ in self.signer.headers}
        return tuple(name for name in missing if _field(contract, name) not in given)

    def unsigned_words(self, contract: Contract, operation: Operation, exchange: Exchange) -> str:
        """Why a 401 or 403 is ours to mend: nothing was signed with, though nobody asked for that; empty
        otherwise.
        """
        outcome = outcome_of(contract, operation, exchange)
        if (
            outcome not in (Outcome.UNAUTHENTICATED, Outcome.FORBIDDEN)
            or not self.signing
            or self.signer.headers
        ):
            return ""
        chosen, missing = self.signer.chosen(contract, operation, FORMATS[contract.format].sign_in)
        status = exchange.response.status if exchange.response else 0
        if chosen or carries_credential(exchange.request):
            return ""
        known = missing or tuple(scheme.name for scheme in contract.security_schemes)
        offered = sign_in_offered(contract) if self.target.name != GIVEN and not missing else ""
        if offered:
            role = f" --role {self.role}" if self.role else ""
            return (
                f"{status}: sent without a credential, and {offered.partition(' ')[0]} looks like a sign-in:"
                f" juxtalogos targets set {self.target.name} --sign-in {offered}{role}"
            )
        if not known:
            return (
                f"{status}: sent without a credential, and the definition declares none: give a header, in"
                f" [targets.{self.target.name}.headers] or by --header"
            )
        return (
            f"{status}: sent without a credential for {' or '.join(known)}: {self.sign_in_command(known[0])}"
        )

    def sign_in_command(self, scheme: str) -> str:
        """How to give a credential: in the configuration, or for once where the target is but a URL."""
        if self.target.name == GIVEN:
            return f"--credential {scheme}=env:NAME"
        role = f" --role {self.role}" if self.role else ""
        declared = [one for contract in self.contracts.values() if (one := contract.scheme(scheme))]
        if any(takes_a_person(one) and not one.flow for one in declared):
            return f"juxtalogos targets sign-in {self.target.name} --scheme {scheme}{role} --client ID"
        return f"juxtalogos targets set {self.target.name} --credential {scheme}=env:NAME{role}"

    async def signed(
        self, contract: Contract, operation: Operation, request: Request, sender: Sender
    ) -> Request:
        """Credentials go to the target's own origins only. NoAnswer when signing in fails."""
        return await self.signer.signed(
            contract, operation, request, FORMATS[contract.format].sign_in, sender
        )

    def permit(self, operation: Operation) -> None:
        """TrustError where nothing but reading is sent to the target, or nobody agreed to more, and an
        operation does more.
        """
        if self.target.guarded and not operation.safe:
            raise TrustError(
                f"{operation.id} does not only read, and the target {self.target.guarded} is guarded",
                where=f"[targets.{self.target.guarded}]",
                mend=f"--yes-to {self.target.guarded}",
            )
        if self.target.only_reading and not operation.safe:
            raise TrustError(
                f"{operation.id} does not only read, and nothing else is sent to the target"
                f" {self.target.name}",
                where=f"[targets.{self.target.name}]",
                mend="take only-reading out there, or choose another target",
            )

    async def send(
        self,
        contract: Contract,
        operation: Operation,
        request: Request,
        sender: Sender,
        *,
        made_with: Inputs | None = None,
        usual: bool = True,
        seen: Seen = lambda exchange: None,
    ) -> Exchange:
        """Signs and sends once, if the gate lets it through.

        `made_with`: the inputs of a request that was broken on purpose, and cannot be read back. Not `usual`:
        a request that nobody expects to succeed. `seen`: told of each exchange as soon as it is there,
        whatever goes wrong afterwards. Withheld where the gate does not let it through; TrustError
        where nothing but reading is sent to the target.
        """
        if self.gate is None:
            return await self.transmit(contract, operation, request, sender, seen=seen)
        admission = await self.gate.admit(
            self, sender, contract, operation, request, watch=self.watch, made_with=made_with
        )
        try:
            exchange = await self.transmit(contract, operation, request, sender, seen=seen)
        except JuxtalogosError:  # nothing was sent: not allowed, or nobody signed in
            if admission is not None:
                await self.gate.unsent(admission)
            raise
        if admission is not None:
            await self.gate.note(self, sender, contract, admission, exchange)
        if usual:
            await self.gate.feel(self, sender, contract, operation, request, exchange)
        return exchange

    async def transmit(
        self,
        contract: Contract,
        operation: Operation,
        request: Request,
        sender: Sender,
        *,
        seen: Seen = lambda exchange: None,
    ) -> Exchange:
        """The same without asking the gate; sent again after signing in anew, or with a credential that the
        definition declares for other operations. Cookies that come are secrets from then on.
        """
        self.permit(operation)
        exchange = await sender.send(await self.signed(contract, operation, request, sender))
        seen(exchange)
        self.redactor.learn_cookies(exchange.response)
        for turn in range(MOST_RENEWED + 1 if self.signing else 0):
            offered = turn == MOST_RENEWED
            if not (self._offers if offered else self.signed_in_vain)(contract, operation, exchange):
                continue
            again = await sender.send(await self.signed(contract, operation, request, sender))
            if offered and outcome_of(contract, operation, again) in _REFUSED:
                self.signer.refuse(operation)
                return exchange
            outcome, last = outcome_of(contract, operation, again), turn == MOST_RENEWED - 1
            if outcome is Outcome.FORBIDDEN or (last and outcome in _REFUSED):
                self.signer.barred.add(operation.full_id)
            tries = (*exchange.tries, replace(exchange, tries=()), *again.tries)
            exchange = replace(again, tries=tries)
            seen(exchange)
            self.redactor.learn_cookies(exchange.response)
        return exchange

    def _offers(self, contract: Contract, operation: Operation, exchange: Exchange) -> bool:
        """Whether the service requires a credential that the definition does not declare for the operation,
        and the target has one to try.
        """
        return (
            outcome_of(contract, operation, exchange) in _REFUSED
            and not carries_credential(exchange.request)
            and self.signer.offer(contract, operation, FORMATS[contract.format].sign_in)
        )

    def remarks_on(self, operation: Operation) -> tuple[CheckResult, ...]:
        """What is doubtful in the definition of an operation, seen in how it lets in."""
        scheme = self.signer.offered.get(operation.full_id)
        if not scheme:
            return ()
        told = "no security", f"401 without a credential, let in with {scheme}"
        return (
            CheckResult(
                "security.undeclared", False, "status", *told, operation.location, Severity.REMARK, False
            ),
        )

    def signed_in_vain(self, contract: Contract, operation: Operation, exchange: Exchange) -> bool:
        """Whether an answer says that what was signed with no longer holds: it is forgotten then, and to send
        again may help.
        """
        return self.signer.void(contract, operation, exchange, FORMATS[contract.format].sign_in)

    def judged(self, contract: Contract, operation: Operation, exchange: Exchange) -> Judgement:
        """A single exchange judged, the workspace's rules applied."""
        judgement = judge(wire_of(contract), operation, exchange, self.base_url(contract))
        value = judgement.answer.value if judgement.answer else ABSENT
        scope = Scope(self.target.variables, exchange=exchange, response_value=value)
        judgement = self.rules.apply(contract, operation, judgement, scope)
        judgement = with_written(judgement, self.remarks_on(operation))
        why = self.unsigned_words(contract, operation, exchange)
        return unsigned(judgement, why) if why else judgement


def _field(contract: Contract, scheme: str) -> str:
    """The header field that a scheme signs in, in lower case; empty where it is none."""
    found = contract.scheme(scheme)
    if found is None:
        return ""
    return found.key.lower() if found.place == "header" else "" if found.place else AUTHORIZATION


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
    identity: Identity = NOBODY,
    roles: Iterable[str] = (),
    grant: Grant = NOTHING_GRANTED,
) -> Session:
    """The target's variables are computed, those `given` on the command line stand over them as they are.

    `identity` says who sends where a step names no role, `roles` are those that steps name. ConfigError when
    a credential
    is not where the target says, or for no scheme that there is, or a variable's formula has no value.
    NotSent when a secret
    that the workspace names would go where nobody allowed it to: it is not even read then.
    """
    moment = datetime.fromtimestamp(now or time.time(), UTC)
    ground = FormulaContext(moment, random.Random(f"{seed}:variables"))
    variables = settled(target.variables, ground, str(workspace / CONFIG_NAME))
    names = {name for contract in contracts.values() for name in contract.secret_fields}
    redactor = Redactor.of((), names)
    hide_with(redactor.cut_text)
    target = replace(
        target,
        variables={
            **variables,
            **{name: _given(name, value, workspace, redactor) for name, value in given.items()},
        },
    )
    typed = frozenset(
        filter(
            None,
            (
                *(credential_source(credential).reference() for credential in identity.credentials),
                *(reference_in(text) for _, text in identity.headers),
            ),
        )
    )
    doors = Doors(Trust(workspace, grant), typed, target, workspace)
    who = {"": identity, **{role: Identity(role, (), identity.headers) for role in roles}}
    signers = {
        name: signer_of(doors, one.over(target), contracts, redactor, with_credentials)
        for name, one in who.items()
    }
    options = transport_options(doors, redactor, signing=with_credentials)
    rules = rules_of(config, contracts) if config else Rules()
    return Session(
        contracts,
        target,
        signers.pop(""),
        redactor,
        options,
        rules,
        signers,
        identity.role,
        with_credentials,
        known_values(config, target, contracts, workspace) if config else {},
        workspace,
    )


def known_values(config: Config, target: Target, contracts: Iterable[str], workspace: Path) -> dict[str, Any]:
    """What is known at a target, by the names that suites use; what people wrote before what was learned."""
    names = list(contracts)
    written = [config.contracts[name].hints for name in names if name in config.contracts]
    here = [hints for name, hints in target.known.items() if not name or name in names]
    learned = [Learned.read(workspace, target.name, name).hints for name in names]
    return {name: one.given for name, one in values_by_name([*here, *written, *learned]).items()}


def _given(name: str, value: Any, workspace: Path, redactor: Redactor) -> Any:
    """A value given for this run; the secret, where it is but a reference to one."""
    if not isinstance(value, str) or reference_in(value) != value:
        return value
    found = secret(value, f"--set {name}", workspace)
    redactor.learn(found)
    return found
