"""Who signs at a target: secrets read by reference, where they may be, and known to the redactor before they
are used.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path

from juxtalogos.exchange.redact import Redactor
from juxtalogos.exchange.sign_in import Signer, takes_a_person, variants
from juxtalogos.exchange.signing import Credential
from juxtalogos.model.contract import Contract
from juxtalogos.model.errors import ConfigError, nearest, quoted
from juxtalogos.run.target.signing_in import login_of
from juxtalogos.workspace.config import Role, Target
from juxtalogos.workspace.kept_sign_in import KeptSignIn
from juxtalogos.workspace.secrets import filled, reference_in, refers, secret
from juxtalogos.workspace.trust import Trust, destinations
from juxtalogos.workspace.workspace import Workspace


@dataclass(frozen=True, slots=True)
class Doors:
    """Which secrets may be read for a target: those typed for this call, and those that its user allowed to
    go there.
    """

    trust: Trust
    typed: frozenset[str]
    target: Target
    workspace: Path

    def open(self, reference: str, where: str) -> None:
        """NotSent unless the secret may be read."""
        if reference and reference not in self.typed:
            self.trust.require_send(reference, destinations(self.target), where)


def certificate_of(doors: Doors) -> tuple[Path | None, Path | None]:
    """(certificate, key) of this client. ConfigError for a key inside the workspace; NotSent where nobody
    allowed it to be used there.
    """
    target, workspace = doors.target, doors.workspace
    if not target.certificate:
        return None, None
    where = f"[targets.{target.name}]"
    holder = target.certificate_key or target.certificate
    doors.open(f"file:{holder}", where)
    secret(f"file:{holder}", where, workspace)  # it is there, and not in the workspace
    certificate = workspace / Path(target.certificate).expanduser()
    return certificate, Path(target.certificate_key).expanduser() if target.certificate_key else None


def signer_of(
    doors: Doors, role: Role, contracts: Mapping[str, Contract], redactor: Redactor, signing: bool
) -> Signer:
    """Who signs as a role; every secret is known to the redactor before it is used."""
    target, workspace = doors.target, doors.workspace
    headers = []
    for name, text in role.headers:
        if not signing and refers(text):
            continue  # a credential as well
        doors.open(reference_in(text), f"[targets.{target.name}.headers]")
        value, hidden = filled(text, f"the header {name} of the target {target.name}", workspace)
        if hidden:
            redactor.learn(hidden)
        headers.append((name, value))
    found: dict[str, Credential] = {}

    def learned(text: str, passing: bool) -> None:
        (redactor.learn_passing if passing else redactor.learn)(text)

    if signing:
        _known_schemes(target, role, workspace, contracts)
        for source in role.credentials:
            table = ".".join(
                filter(
                    None,
                    (
                        f"[targets.{target.name}",
                        role.name and f"roles.{role.name}",
                        f"credentials.{source.scheme}]",
                    ),
                )
            )
            if not source.reference() and not source.header:
                _without_secret(source.scheme, contracts, table)
            doors.open(source.reference(), table)
            text = secret(source.reference(), table, workspace) if source.reference() else ""
            kept = (
                KeptSignIn(workspace, target.name, role.name, source.scheme, frozenset(target.origins()))
                if source.user
                else None
            )
            found[source.scheme] = Credential(text, source.user, source.header, kept)
            for form in variants(found[source.scheme]):
                redactor.learn(form)
    signer = Signer(found, target.origins(), learned, target.base_url, tuple(headers))
    if signing and role.sign_in is not None:
        place = {contract.name: contract for contract in contracts.values()}

        def opened(reference: str, where: str) -> str:
            doors.open(reference, where)
            return secret(reference, where, workspace)

        signer.login = login_of(target, role.sign_in, place, opened, learned)
    return signer


def _without_secret(scheme: str, contracts: Mapping[str, Contract], table: str) -> None:
    """ConfigError where a scheme needs a secret: without one a person signs in, in OAuth 2.0 alone."""
    for contract in contracts.values():
        found = contract.scheme(scheme)
        if found is not None and not takes_a_person(found):
            raise ConfigError(
                f"the credential for {quoted(scheme)} has a user and no secret",
                where=table,
                mend="add env, file or keyring: where the secret is found",
            )


def _known_schemes(target: Target, role: Role, workspace: Path, contracts: Mapping[str, Contract]) -> None:
    """ConfigError for a credential of a scheme that no contract has."""
    known = {scheme.name for contract in contracts.values() for scheme in contract.security_schemes}
    unknown = [credential.scheme for credential in role.credentials if credential.scheme not in known]
    if unknown:  # perhaps another contract's, that is not called now
        known |= {
            scheme.name
            for contract in Workspace(workspace).contracts()
            for scheme in contract.security_schemes
        }
    for scheme in unknown:
        if scheme not in known:
            raise ConfigError(
                f"the target {target.name} has a credential for {quoted(scheme)}, and no contract has such a"
                " scheme",
                where=f"[targets.{target.name}.credentials]",
                mend=(
                    nearest(scheme, known)
                    if known
                    else "no contract declares a scheme: send it as a header, [targets.NAME.headers]"
                ),
            )
