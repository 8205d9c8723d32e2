"""Sign-in by an operation of a contract: its request from the configuration, and what its response gives."""

from __future__ import annotations

import shlex
from collections.abc import Callable, Mapping
from typing import Any

from juxtalogos.compose.filling import filled
from juxtalogos.compose.outlines import Rows
from juxtalogos.conventions import naming
from juxtalogos.exchange.login import Login, SignedIn, cookies_set
from juxtalogos.formats import outcome_of, wire_of
from juxtalogos.model.contract import Contract, Intent, Operation
from juxtalogos.model.errors import ConfigError, JuxtalogosError, NoAnswer, nearest, quoted
from juxtalogos.model.exchange import Exchange, Request
from juxtalogos.model.outcome import Outcome
from juxtalogos.model.schema import ABSENT
from juxtalogos.run.judging.refusals import words_of
from juxtalogos.suite.comparing import leaves
from juxtalogos.suite.inputs import resolve_address
from juxtalogos.suite.language.expressions import BadExpression, Scope, evaluate, parse_expression
from juxtalogos.workspace.config import SignInOperation, Target
from juxtalogos.workspace.secrets import SECRET_LIKE, reference_in

_TOKENS = ("access_token", "accesstoken", "id_token", "jwt", "token", "auth_token", "session_token", "key")
"""Names of members that hold a token, the surest first."""


_SIGNS = frozenset(
    ("login", "signin", "logon", "session", "sessions", "authenticate", "auth", "token", "tokens")
)
"""Words in the names of operations that sign in."""
MOST_INPUTS = 4
"""Required inputs that an operation which signs in has at most."""


def sign_in_offered(contract: Contract) -> str:
    """An operation that looks like a sign-in, with the options that name its inputs; empty for none."""
    rows = Rows(contract)
    for operation in contract.operations:
        if operation.safe or operation.intent in (Intent.DELETE, Intent.UPDATE, Intent.EMPTY):
            continue
        named = {*naming.words_of(operation.id), *naming.words_of(operation.path)}
        fields = [f"body{row.path}" for row in rows.sent(operation) if row.scalar and row.required]
        hidden = [address for address in fields if SECRET_LIKE.search(address)]
        if named.isdisjoint(_SIGNS) or not hidden or len(fields) > MOST_INPUTS:
            continue
        values = {address: "env:NAME" if address in hidden else "NAME" for address in fields}
        given = (f"--sign-in-input {address}={value}" for address, value in values.items())
        return f"{operation.id} {' '.join(given)}"
    return ""


def login_of(
    target: Target,
    how: SignInOperation,
    contracts: Mapping[str, Contract],
    open_secret: Callable[[str, str], str],
    learned: Callable[[str, bool], None],
) -> Login | None:
    """How to sign in; None where none of the contracts at hand has the operation. `open_secret`: gives the
    secret behind a reference, where it may be read.
    """
    where = f"[targets.{target.name}.sign-in]"
    contract, operation = _operation(how, contracts)
    if operation is None or contract is None:
        return None
    given: dict[str, Any] = {}
    for address, value in how.inputs:
        if isinstance(value, str) and reference_in(value) == value:
            value = open_secret(value, where)
            learned(value, False)
        given[_address(operation, address, where)] = value

    def make() -> Request:
        inputs = filled(contract, operation, given)
        return wire_of(contract).encode(operation, inputs, target.base_url(contract))

    def read(exchange: Exchange) -> SignedIn:
        return _given(contract, operation, how, exchange)

    try:
        make()
    except JuxtalogosError as error:
        raise ConfigError(f"signing in: {error.what}", where=where, mend=error.mend) from None
    return Login(operation.full_id, make, read, how.lasts or float("inf"), learned)


def _operation(
    how: SignInOperation, contracts: Mapping[str, Contract]
) -> tuple[Contract | None, Operation | None]:
    name, colon, word = how.operation.partition(":")
    if colon and name in contracts:
        return contracts[name], contracts[name].operation(word)
    for contract in contracts.values():
        found = contract.operation(how.operation)
        if found is not None:
            return contract, found
    return None, None


def _address(operation: Operation, address: str, where: str) -> str:
    try:
        return resolve_address(operation, address)
    except JuxtalogosError:
        known = [one.address for one in operation.inputs]
        raise ConfigError(
            f"{operation.id} has no input {quoted(address)}",
            where=where,
            mend=nearest(address, known) or f"see juxtalogos show {shlex.quote(operation.id)}",
        ) from None


def _given(contract: Contract, operation: Operation, how: SignInOperation, exchange: Exchange) -> SignedIn:
    """What a response of the operation gives; NoAnswer where it is not what was said."""
    response = exchange.response
    status = response.status if response is not None else 0
    outcome = outcome_of(contract, operation, exchange)
    if not outcome.succeeded and outcome is not Outcome.UNKNOWN:  # to lead elsewhere is usual after it
        raise NoAnswer(
            f"signing in by {operation.id} returned {status}: {words_of(exchange)}".rstrip(": "),
            mend="check the inputs under sign-in, and the secrets that they name",
        )
    value = wire_of(contract).decode(operation, exchange).value
    scope = Scope({}, exchange=exchange, response_value=value)
    cookies = cookies_set(exchange)
    token = _at(how.token, scope, cookies) if how.token else _usual_token(value)
    if how.token and not token:
        raise NoAnswer(f"{operation.id} gave no token at {how.token}", mend="correct token under sign-in")
    guard = _at(how.guard, scope, cookies) if how.guard else ""
    if how.guard and not guard:
        raise NoAnswer(f"{operation.id} gave nothing at {how.guard}", mend="correct guard under sign-in")
    if not token and not cookies:
        raise NoAnswer(
            f"{operation.id} gave neither a token nor a cookie",
            mend='say under sign-in where its response has the token: token = "$response.body#/..."',
        )
    name, _, before = how.field.partition(":")
    headers = []
    if token:
        headers.append((name, f"{before.strip()} {token}".strip()))
    if guard and how.guard_field:
        headers.append((how.guard_field, guard))
    secrets = tuple(filter(None, (token, guard, *(text for _, text in cookies))))
    return SignedIn(tuple(headers), cookies, secrets)


def _at(place: str, scope: Scope, cookies: tuple[tuple[str, str], ...]) -> str:
    if place.startswith("cookie."):
        return dict(cookies).get(place.partition(".")[2], "")
    try:
        value = evaluate(parse_expression(place), scope)
    except BadExpression:
        return ""
    return str(value) if isinstance(value, str | int) and not isinstance(value, bool) else ""


def _usual_token(value: Any) -> str:
    """A token where responses usually have it; empty where there is none."""
    if value is ABSENT:
        return ""
    named: dict[str, str] = {}
    for path, leaf in leaves(value):
        name = path.replace(":", "/").rpartition("/")[2].lower().replace("-", "_")
        if isinstance(leaf, str) and leaf:
            named.setdefault(name, leaf)
    return next((named[name] for name in _TOKENS if name in named), "")
