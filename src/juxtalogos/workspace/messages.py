"""Calls without a definition, kept: each becomes a message in the folder of a contract, its base URL lifted
out into a target.
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass, replace
from urllib.parse import quote, urlsplit

from juxtalogos.documents.load import load_document
from juxtalogos.documents.uris import origin
from juxtalogos.exchange.message import request_text
from juxtalogos.formats import read_contract
from juxtalogos.formats.http.templates import variables
from juxtalogos.formats.messages.message import Message, guessed_template, taken_apart, without_secrets
from juxtalogos.model.contract import Contract, Operation
from juxtalogos.model.document import Document
from juxtalogos.model.errors import UsageError, quoted
from juxtalogos.model.exchange import Request
from juxtalogos.model.wire import Inputs
from juxtalogos.workspace.config import Target
from juxtalogos.workspace.files import folder_fetch
from juxtalogos.workspace.importing import Imported, check_name, keep
from juxtalogos.workspace.remote import Access
from juxtalogos.workspace.workspace import Workspace

FORMAT = "messages"
MOST_ALIKE = 1_000


@dataclass(frozen=True, slots=True)
class Draft:
    """A call that is about to be kept."""

    contract: Contract
    """With the call's message among the others."""
    operation: Operation
    inputs: Inputs
    target: Target
    """With the base URL."""
    base: str
    file: str
    """Of the message in the contract's folder: the new one, or one that says as much."""

    def keep(self, home: Workspace) -> None:
        """Writes the message, and the base URL into the target; nothing is written that is there already."""
        folder = home.definitions / self.contract.name
        keep(home, Imported(str(folder), self.contract, Access()))
        home.take(self.contract)
        known = home.config.targets.get(self.target.name)
        if known is None or (known.urls.get(self.contract.name) or known.url) != self.base:
            home.set_target(self.target.name, self.base, self.contract.name)


def drafted(home: Workspace, request: Request, path: str, contract: str, target_name: str | None) -> Draft:
    """The call of a URL as an operation of a contract of messages; `path` is the URL's as it was typed, with
    its variables in braces.

    UsageError when the contract is of another format, or its base URL at the target is another.
    """
    if contract:
        check_name(contract)
    target = _target(home, target_name, request.url)
    name = contract or _contract_name(home, target, request.url)
    if name in home.contract_names() and home.contract(name).format != FORMAT:
        raise UsageError(
            f"{quoted(name)} is a contract of a definition", mend="keep the call in another: --contract NAME"
        )
    base = _base(target, name, request.url)
    below = request.url[len(base) :]
    whole = urlsplit(base).path
    typed = path[len(whole) :] if path.startswith(whole) else path
    document = _document(home, name, replace(request, url=origin_of(request.url) + below), typed)
    return _draft(home, name, document, replace(target, urls={**target.urls, name: base}), base)


def _draft(home: Workspace, name: str, document: Document, target: Target, base: str) -> Draft:
    folder = home.definitions / name
    names = sorted(path.relative_to(folder).as_posix() for path in folder.rglob("*.http"))
    stored, fresh = folder_fetch(folder), taken_apart(document)

    def fetch(uri: str) -> Document:
        return document if uri == document.uri else stored(uri)

    root = str(home.origin(name)["root"]) if name in home.contract_names() else document.uri
    known = _covering(home, name, fresh)
    others = names if known else [*names, document.uri]
    contract = read_contract(fetch(root), name, root, fetch, others)
    operation = contract.operation(fresh.operation_id)
    assert operation is not None
    file = operation.location.document if known else document.uri
    values = {address: given.value for address, given in fresh.inputs.items()}
    return Draft(contract, operation, Inputs(values, fresh.body, fresh.content_type), target, base, file)


def _target(home: Workspace, name: str | None, url: str) -> Target:
    """The target named, or the one that serves the URL; a new one where none is known."""
    targets: Mapping[str, Target] = home.config.targets
    if name and "://" in name:
        raise UsageError("a call is kept at a target with a name", mend="leave --target out, or name one")
    if name:
        return targets.get(name) or Target(name)
    serving = [
        target
        for target in targets.values()
        if any(_serves(url, base) for base in (target.url, *target.urls.values()))
    ]
    if len(serving) > 1:
        raise UsageError(
            f"several targets serve {origin_of(url)}",
            mend="name one: " + ", ".join(f"--target {contract.name}" for contract in serving),
        )
    if serving:
        return serving[0]
    alike = [
        target
        for target in targets.values()
        if any(origin(base) == origin(url) for base in (target.url, *target.urls.values()) if base)
    ]
    return alike[0] if len(alike) == 1 else targets.get(made := _host_name(url)) or Target(made)


def _serves(url: str, base: str) -> bool:
    """Whether a URL is a base URL, or lies below it; nothing lies below none."""
    return bool(base) and f"{url.partition('?')[0]}/".startswith(f"{base}/")


def _below(url: str, base: str) -> bool:
    """Whether a URL lies below a base URL: what is sent to the base itself has no path of its own there."""
    return bool(base) and url.partition("?")[0].startswith(f"{base}/")


def _contract_name(home: Workspace, target: Target, url: str) -> str:
    """The contract of messages that this target serves below the same base; else one named after the host."""
    names = [name for name in home.contract_names() if home.contract(name).format == FORMAT]
    fitting = [name for name in names if _below(url, target.urls.get(name, ""))]
    return fitting[0] if len(fitting) == 1 else _host_name(url)


def _host_name(url: str) -> str:
    """A name made of a host: its first part; `calls` of an address of numbers, or of this machine."""
    host = (urlsplit(url).hostname or "").partition(".")[0]
    sound = re.fullmatch(r"[A-Za-z][A-Za-z0-9-]{0,40}", host) and host != "localhost"
    return host.lower() if sound else "calls"


def _base(target: Target, contract: str, url: str) -> str:
    """The base URL of the contract at the target: as it is known, or the URL's origin."""
    known = target.urls.get(contract) or (target.url if _below(url, target.url) else "")
    if known and not _below(url, known):
        raise UsageError(
            f"{contract} is served at {known}, and this URL is not below it",
            mend="keep the call in another contract: --contract NAME",
        )
    return known or origin_of(url)


def origin_of(url: str) -> str:
    """scheme://host:port as the URL writes it."""
    parts = urlsplit(url)
    return f"{parts.scheme}://{parts.netloc}"


def _document(home: Workspace, contract: str, request: Request, typed: str) -> Document:
    """The message as a document, its place in the folder made of its path and method."""
    template = typed if variables(typed) else guessed_template(urlsplit(request.url).path or "/")
    parts = [part for part in template.split("/") if part]
    if any(not re.fullmatch(r"[A-Za-z0-9_~.@{}-]{1,80}", part) or part.startswith(".") for part in parts):
        template = guessed_template("/" + "/".join(quote(part, safe="{}") for part in parts))
        parts = [part for part in template.split("/") if part]
    data, _ = without_secrets(request_text(request))
    folder = home.definitions / contract
    for number in range(1, MOST_ALIKE):
        uri = "/".join([*parts, request.method if number == 1 else f"{request.method}-{number}"]) + ".http"
        file = folder / uri
        if not file.exists() or file.read_bytes() == data:
            return load_document(uri, data)
    raise UsageError(
        f"{MOST_ALIKE} messages of {request.method} {template} are kept already", mend="remove some"
    )


def _covering(home: Workspace, contract: str, fresh: Message) -> bool:
    """Whether a message is kept already that has every input of this one: then the call adds nothing but
    values.
    """
    if contract not in home.contract_names():
        return False
    operation = home.contract(contract).operation(fresh.operation_id)
    if operation is None:
        return False
    known = {declared_input.address for declared_input in operation.inputs}
    kinds = {media_type_.media_type for media_type_ in operation.body.media} if operation.body else set()
    return fresh.inputs.keys() <= known and (not fresh.content_type or fresh.content_type in kinds)
