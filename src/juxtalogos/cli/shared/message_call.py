"""`call --url ... --save`: a call that no definition declares, kept as a message and as a step."""

from __future__ import annotations

import re
from urllib.parse import quote, urlsplit

from juxtalogos.cli.shared.bare_call import bare_request
from juxtalogos.exchange.redact import is_credential
from juxtalogos.exchange.sign_in import credential_scheme
from juxtalogos.formats.messages.message import is_query_key
from juxtalogos.model.errors import UsageError, quoted
from juxtalogos.model.exchange import Headers
from juxtalogos.workspace import secrets
from juxtalogos.workspace.messages import Draft, drafted
from juxtalogos.workspace.workspace import Workspace

_VARIABLE = re.compile(r"\{([A-Za-z_][A-Za-z0-9_]*)\}")


def drafted_call(
    home: Workspace,
    url: str,
    method: str,
    headers: list[tuple[str, str]],
    body: bytes | None,
    settings: list[str],
    contract: str,
    target: str | None,
) -> Draft:
    """The operation and inputs of a URL that may have variables in braces, which `settings` fill.

    UsageError before anything is sent.
    """
    values = dict(_setting(one) for one in settings)
    names = _VARIABLE.findall(urlsplit(url).path)
    for name in values:
        if name not in names:
            raise UsageError(
                f"the URL has no {{{name}}}", mend="put it there, or write the value into the URL itself"
            )
    for name in names:
        if not values.get(name):
            raise UsageError(f"{{{name}}} in the URL has no value", mend=f"give it: --set {name}=VALUE")
    filled = _VARIABLE.sub(lambda found: quote(values[found[1]], safe=""), url)
    for part in urlsplit(filled).query.split("&"):
        if is_query_key(part.partition("=")[0]) and part.partition("=")[2]:
            raise UsageError(
                f"the URL carries a credential as {part.partition('=')[0]}",
                mend="leave it out, and give it with --credential SCHEME=env:NAME",
            )
    kept: Headers = tuple(
        pair if not _hidden(*pair) else (pair[0], credential_scheme(*pair)) for pair in headers
    )
    return drafted(home, bare_request(filled, method, kept, body), urlsplit(url).path, contract, target)


def _setting(text: str) -> tuple[str, str]:
    name, equals, value = text.partition("=")
    if not equals:
        raise UsageError(f"{quoted(text)} has no '='", mend="write --set NAME=VALUE for {NAME} in the URL")
    return name.strip().removeprefix("path."), value


def _hidden(name: str, value: str) -> bool:
    return secrets.refers(value) or is_credential(name)
