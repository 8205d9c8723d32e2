"""`targets show`: all that is configured for one target, secrets by reference only."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from juxtalogos.cli.shared.options import EXIT_HELD
from juxtalogos.cli.shared.terminal import Terminal
from juxtalogos.exchange.redact import MASK, is_credential
from juxtalogos.model.errors import UsageError
from juxtalogos.workspace.config import Role, Target
from juxtalogos.workspace.secrets import SECRET_LIKE, reference_in
from juxtalogos.workspace.workspace import Workspace


def show_one(home: Workspace, out: Terminal, name: str, *, json: bool) -> int:
    """One target by name, or the one that commands use which name none."""
    target = home.target(name or None)
    if target.name not in home.config.targets:
        raise UsageError("a URL has no configuration", mend="juxtalogos targets show NAME")
    used = home.config.default_target == target.name
    rows = list(_rows(target, default=used))
    if json:
        fields: dict[str, Any] = {"version": 1, "name": target.name, "default": used}
        fields["guarded"] = bool(target.guarded)
        out.json({**fields, "settings": [{"name": what, "value": value} for what, value in rows]})
        return EXIT_HELD
    out.table((f"target {target.name}", ""), rows, styles=("name",))
    return EXIT_HELD


def _rows(target: Target, *, default: bool) -> Iterator[tuple[str, str]]:
    if target.url:
        yield "base URL", target.url
    for contract, url in target.urls.items():
        yield f"base URL of {contract}", url
    yield "default", "yes, for commands that name no target" if default else "no"
    if target.guarded:
        yield "guarded", f"yes: what changes something asks, or wants --yes-to {target.name}"
    if target.only_reading:
        yield "only-reading", "yes: nothing else is sent"
    yield from _of_role(target.own, "")
    for name, role in target.roles.items():
        yield from _of_role(role, f" of role {name}")
    for name, value in target.variables.items():
        yield f"input {name}", "computed" if isinstance(value, dict) else _but_secrets(name, str(value))
    for what, text in (
        ("pace", f"{target.pace:g} s between requests" if target.pace else ""),
        ("settle", f"{target.settle:g} s until a change is seen" if target.settle else ""),
        ("timeout", f"{target.timeout:g} s, {target.connect_timeout:g} s to connect"),
        ("ca-file", target.ca_file),
        ("certificate", target.certificate),
        ("proxy", target.proxy),
        ("further origins", ", ".join(target.further)),
        ("addresses", ", ".join(f"{host} at {address}" for host, address in target.addresses.items())),
        ("system", " ".join(target.system.start) if target.system else ""),
    ):
        if text:
            yield what, text


def _but_secrets(name: str, value: str) -> str:
    """A value as it may be shown: one that looks like a secret is hidden, though it stands in the file."""
    return MASK if is_credential(name) or SECRET_LIKE.search(name) else value


def _of_role(role: Role, whose: str) -> Iterator[tuple[str, str]]:
    for source in role.credentials:
        yield f"credential{whose}", f"{source.scheme} from {source.reference()}"
    for name, value in role.headers:
        # Only the place of a secret is shown; what stands before it may name a scheme.
        yield f"header{whose}", f"{name}: {reference_in(value) or _but_secrets(name, value)}"
    if role.sign_in is not None:
        yield f"sign-in{whose}", f"by {role.sign_in.operation}"
