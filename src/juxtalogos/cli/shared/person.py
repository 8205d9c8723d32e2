"""`targets sign-in`: a person signs in at a target, once for many commands."""

from __future__ import annotations

import asyncio
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

from juxtalogos.cli.shared.options import EXIT_HELD
from juxtalogos.cli.shared.terminal import Terminal
from juxtalogos.model.errors import UsageError, nearest, quoted
from juxtalogos.workspace.kept_sign_in import KeptSignIn
from juxtalogos.workspace.secrets import CredentialSource
from juxtalogos.workspace.workspace import Workspace

if TYPE_CHECKING:
    from juxtalogos.model.contract import Contract, SecurityScheme


@dataclass(frozen=True, slots=True)
class Wish:
    """What the options say."""

    scheme: str = ""
    client: str = ""
    by: str = ""
    port: int = 0
    open: bool = False
    forget: bool = False


def person_signs_in(home: Workspace, out: Terminal, target: str, role: str, contract: str, wish: Wish) -> int:
    """Signs in, or forgets that. UsageError for a scheme or a target that there is not."""
    from juxtalogos.run.target.by_person import sign_in

    if not target:
        raise UsageError("name a target", mend="juxtalogos targets sign-in NAME")
    found, scheme = _scheme(home, contract, wish.scheme)
    if wish.client:
        given = home.config.target(target).role(role).credentials
        known = next((one for one in given if one.scheme == scheme.name), CredentialSource(scheme.name))
        if known.user != wish.client:
            home.set_credential(target, replace(known, user=wish.client), role)
            out.line("written: ", (target, "name"), f" is known as {wish.client} for {scheme.name}")
    goal = home.config.target(target)
    goal.role(role)  # it is there
    if wish.forget:
        kept = KeptSignIn(home.root, target, role, scheme.name, frozenset(goal.origins()))
        out.line("removed: the tokens" if kept.forget() else "no tokens are kept", f" for {scheme.name}")
        return EXIT_HELD
    asyncio.run(
        sign_in(
            goal,
            found,
            scheme,
            home.root,
            role=role,
            by=wish.by,
            port=wish.port,
            tell=lambda text: out.note(text),
            open_page=_open if wish.open else lambda url: None,
        )
    )
    as_role = f" as {role}" if role else ""
    out.line("signed in: ", (target, "name"), f"{as_role} with {scheme.name}, for later commands too")
    return EXIT_HELD


def _open(url: str) -> None:
    import webbrowser

    if url.startswith(("https://", "http://")):
        webbrowser.open(url)


def _scheme(home: Workspace, contract: str, name: str) -> tuple[Contract, SecurityScheme]:
    """The scheme by which a person signs in, and its contract."""
    from juxtalogos.exchange.sign_in import takes_a_person

    every = [
        (one, scheme)
        for one in ([home.contract(contract)] if contract else home.contracts())
        for scheme in one.security_schemes
    ]
    if name:
        found = next(((one, scheme) for one, scheme in every if scheme.name == name), None)
        if found is None:
            known = [scheme.name for _, scheme in every]
            raise UsageError(f"no contract has a scheme {quoted(name)}", mend=nearest(name, known))
        return found
    fit = [(one, scheme) for one, scheme in every if takes_a_person(scheme)]
    if len({scheme.name for _, scheme in fit}) != 1:
        names = ", ".join(sorted({scheme.name for _, scheme in fit}))
        what = f"several schemes let a person sign in: {names}" if fit else "no scheme lets a person sign in"
        raise UsageError(what, mend="name one: --scheme SCHEME" if fit else "targets set NAME --credential")
    return fit[0]
