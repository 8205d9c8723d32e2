"""`juxtalogos.toml`: read, checked against its published JSON Schema, and made into data."""

from __future__ import annotations

import fnmatch
import os
import re
import shlex
import tomllib
from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

from juxtalogos.documents.uris import origin
from juxtalogos.model.contract import Contract
from juxtalogos.model.errors import ConfigError, nearest, quoted
from juxtalogos.workspace.config_form import check_form, line_of
from juxtalogos.workspace.known import NO_HINTS, Hints, hints_of
from juxtalogos.workspace.plans import StoredPlan
from juxtalogos.workspace.secrets import CredentialSource, reference_in

CONFIG_NAME = "juxtalogos.toml"
MAX_CONFIG = 4 * 1024 * 1024
"""Bytes of the configuration."""
MAX_URL = 8_000


GIVEN = "given"
"""What a target is called that is but a URL on the command line."""


@dataclass(frozen=True, slots=True)
class SystemCommands:
    """How to start, await, reset and stop the system under test."""

    start: tuple[str, ...] = ()
    ready: str = ""
    ready_timeout: float = 30.0
    reset: tuple[str, ...] = ()
    stop: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class SignInOperation:
    """How to sign in by an operation of a contract."""

    operation: str
    """Its id, `CONTRACT:ID` where several contracts have it."""
    inputs: tuple[tuple[str, Any], ...] = ()
    """(address, value); a text may be a reference to a secret."""
    token: str = ""
    """Where its response has a token: a runtime expression such as `$response.body#/token`."""
    field: str = "Authorization: Bearer"
    """The field that carries the token, and what stands before it."""
    guard: str = ""
    """Where its response has the anti-forgery value; `cookie.NAME` for a cookie."""
    guard_field: str = ""
    lasts: float = 0.0
    """Seconds; 0 where that is not known."""


@dataclass(frozen=True, slots=True)
class Role:
    """Who calls: credentials, and header fields that go with every request."""

    name: str = ""
    credentials: tuple[CredentialSource, ...] = ()
    headers: tuple[tuple[str, str], ...] = ()
    """(name, value); a value may end in a reference to a secret."""
    sign_in: SignInOperation | None = None

    @property
    def signs_in(self) -> bool:
        """Whether it has anything to sign in with."""
        return bool(self.credentials or self.sign_in or any(reference_in(text) for _, text in self.headers))

    def over(self, other: Role) -> Role:
        """This role with what it leaves unsaid from another."""
        schemes = {credential.scheme for credential in self.credentials}
        names = {name.lower() for name, _ in self.headers}
        return Role(
            self.name,
            (
                *self.credentials,
                *(credential for credential in other.credentials if credential.scheme not in schemes),
            ),
            (*self.headers, *(pair for pair in other.headers if pair[0].lower() not in names)),
            self.sign_in or other.sign_in,
        )


@dataclass(frozen=True, slots=True)
class Target:
    name: str
    url: str = ""
    urls: Mapping[str, str] = field(default_factory=dict)
    timeout: float = 30.0
    connect_timeout: float = 10.0
    ca_file: str = ""
    addresses: Mapping[str, str] = field(default_factory=dict)
    variables: Mapping[str, Any] = field(default_factory=dict)
    own: Role = Role()
    """Who calls where no role is named."""
    roles: Mapping[str, Role] = field(default_factory=dict)
    system: SystemCommands | None = None
    known: Mapping[str, Hints] = field(default_factory=dict)
    """By contract what is known here; under an empty name, for all of them."""
    only_reading: bool = False
    """Whether nothing but reading is sent there, whatever a suite says."""
    pace: float = 0.0
    """Seconds from one request to the next, at least."""
    settle: float = 0.0
    """Seconds that a change may take until it is seen."""
    certificate: str = ""
    """The file of what this client shows (mutual TLS)."""
    certificate_key: str = ""
    proxy: str = ""
    proxy_login: CredentialSource | None = None
    further: tuple[str, ...] = ()
    """Further addresses that credentials may go to: where tokens are given out, for example."""
    guarded: str = ""
    """The name of the guarded target that this is, or whose address this has: what changes something there
    is sent only after somebody agreed to it."""

    def role(self, name: str) -> Role:
        """A role by name, with what it leaves unsaid from the target itself; ConfigError with the nearest."""
        if not name:
            return self.own
        if name not in self.roles:
            raise ConfigError(
                f"the target {self.name} has no role {quoted(name)}",
                where=f"[targets.{self.name}]",
                mend=nearest(name, self.roles)
                or f"write [targets.{self.name}.roles.{name}.credentials.SCHEME]",
            )
        return self.roles[name].over(self.own)

    @property
    def reference(self) -> str:
        """As a plan or the ledger names it: by name, or by its URL where a URL is all that it is."""
        return self.name if self.name != GIVEN else self.url

    def serves(self, contract: str) -> bool:
        return bool(self.url or contract in self.urls)

    def base_url(self, contract: Contract) -> str:
        """The contract's base URL here; ConfigError when the target has none, naming what the definition
        says.
        """
        found = self.urls.get(contract.name) or self.url
        if not found:
            url = next((one for one in contract.servers if one.startswith("http")), "URL")
            hint = "  (the definition names it)" if url != "URL" else ""
            raise ConfigError(
                f"the target {self.name} has no base URL for the contract {contract.name}",
                where=f"[targets.{self.name}]",
                mend=f"juxtalogos targets set {self.name} {shlex.quote(url)} "
                f"--contract {contract.name}{hint}",
            )
        return found

    def origins(self) -> set[str]:
        """Where credentials, tokens and cookies may go."""
        return {origin(url) for url in (self.url, *self.urls.values(), *self.further) if url}


@dataclass(frozen=True, slots=True)
class ContractSettings:
    formats: str = ""
    hints: Hints = NO_HINTS
    """What is known of it beyond its definition."""
    standing: tuple[Mapping[str, Any], ...] = ()
    """Checks made on every call of an operation, as they are written."""
    off: tuple[Mapping[str, Any], ...] = ()
    """Kinds of check that are not made for an operation, each with its reason."""
    secrets: tuple[str, ...] = ()
    """Names of further fields whose values are secret."""
    inputs: str = ""
    """`tolerant` or `enforced`: whether it may take what the definition does not allow."""
    laws: tuple[Mapping[str, Any], ...] = ()
    """Laws that a person adopted, or left out."""

    def adopted(self, law: str, operation: str) -> bool | None:
        """Whether a law is binding for an operation (True), not looked at (False), or neither: the last that
        fits says it.
        """
        found = None
        for rule in self.laws:
            if rule["law"] == law and fnmatch.fnmatchcase(operation, rule.get("operation", "*")):
                found = bool(rule.get("holds", True))
        return found


@dataclass(frozen=True, slots=True)
class Query:
    """A query that gives rows of inputs.

    Where it connects to comes from the environment, or is a SQLite file.
    """

    sql: str
    file: str = ""
    env: str = ""

    def connection_url(self) -> str:
        """Where it connects to; ConfigError when the variable is not set."""
        found = os.environ.get(self.env)
        if not found:
            raise ConfigError(
                f"the environment variable {self.env} is not set",
                where="[queries]",
                mend=f"set it to the connection's URL: export {self.env}=…",
            )
        return found


@dataclass(frozen=True, slots=True)
class Config:
    path: Path
    targets: Mapping[str, Target] = field(default_factory=dict)
    contracts: Mapping[str, ContractSettings] = field(default_factory=dict)
    queries: Mapping[str, Query] = field(default_factory=dict)
    variables: Mapping[str, Any] = field(default_factory=dict)
    """Inputs of every case on every target."""
    own_variables: Mapping[str, Mapping[str, Any]] = field(default_factory=dict)
    """By target, those that it alone has."""
    default_target: str = ""
    jobs: int = 4
    plans: Mapping[str, StoredPlan] = field(default_factory=dict)
    conventions: Mapping[str, tuple[str, ...]] = field(default_factory=dict)
    """Words beside the English ones, by the address of their list."""

    def target(self, name: str) -> Target:
        """A target by name; ConfigError with the nearest."""
        found = self.targets.get(name)
        if found is None:
            raise ConfigError(
                f"there is no target {quoted(name)}",
                where=str(self.path),
                mend=nearest(name, self.targets) or f"juxtalogos targets set {name} URL",
            )
        return found


def check_url(url: str, where: str = "") -> str:
    """The URL, without a trailing slash; ConfigError when it is no base URL."""
    try:
        parts = urlsplit(url)
        port_is_bad = parts.port == 0
    except ValueError:
        port_is_bad, parts = True, urlsplit("")
    if (
        parts.scheme not in ("http", "https")
        or not parts.hostname
        or port_is_bad
        or any(char.isspace() or not char.isprintable() for char in url)
        or len(url) > MAX_URL
    ):
        raise ConfigError(
            f"{quoted(url)} is no base URL", where=where, mend="write one such as http://127.0.0.1:8480/v1"
        )
    if parts.username or parts.password:
        raise ConfigError(
            "a base URL holds no user or password",
            where=where,
            mend="name them under [targets.NAME.credentials.SCHEME]",
        )
    if parts.query or parts.fragment:
        raise ConfigError(
            f"the base URL {quoted(url)} has a query or fragment",
            where=where,
            mend="leave out what follows the path",
        )
    return url.rstrip("/")


def read_config(path: Path) -> Config:
    """ConfigError names the key, its line and the nearest known key."""
    try:
        if path.stat().st_size > MAX_CONFIG:
            raise ConfigError(
                f"more than {MAX_CONFIG:,} bytes",
                where=str(path),
                mend="keep rows in tables, and texts in files",
            )
        text = path.read_text("utf-8")
        value = tomllib.loads(text)
    except tomllib.TOMLDecodeError as error:
        line = re.search(r"line (\d+)", str(error))
        raise ConfigError(
            f"not TOML: {error}",
            where=f"{path}:{line.group(1)}" if line else str(path),
            mend="correct the text there",
        ) from None
    except (
        ValueError,
        RecursionError,
    ) as error:  # a number of too many digits, lists nested too deep, no UTF-8
        what = "nested too deep" if isinstance(error, RecursionError) else str(error).split(";")[0]
        raise ConfigError(f"cannot be read: {what}", where=str(path), mend="correct the text there") from None
    except OSError as error:
        raise ConfigError(f"cannot be read: {error}", where=str(path), mend="check its rights") from None
    check_form(value, text, path)
    return _config(value, path, text)


def _config(value: dict[str, Any], path: Path, text: str) -> Config:
    def where(*keys: str) -> str:
        return f"{path}:{line_of(text, list(keys))}"

    targets = {}
    for name, table in value.get("targets", {}).items():
        urls = {
            contract: check_url(url, where("targets", name, contract))
            for contract, url in table.get("urls", {}).items()
        }
        url = check_url(table["url"], where("targets", name, "url")) if "url" in table else ""
        system = table.get("system")
        targets[name] = Target(
            name,
            url,
            urls,
            float(table.get("timeout", 30)),
            float(table.get("connect-timeout", 10)),
            table.get("ca-file", ""),
            table.get("addresses", {}),
            table.get("variables", {}),
            _role("", table),
            {role: _role(role, entry) for role, entry in table.get("roles", {}).items()},
            _system(system) if system else None,
            _known_here(table),
            table.get("only-reading", False),
            float(table.get("pace", 0)),
            float(table.get("settle", 0)),
            table.get("certificate", ""),
            table.get("certificate-key", ""),
            table.get("proxy", ""),
            _source("proxy", table["proxy-login"]) if "proxy-login" in table else None,
            tuple(check_url(one, where("targets", name, "origins")) for one in table.get("origins", ())),
            guarded=name if table.get("guarded", False) else "",
        )
    contracts = {name: _settings(table) for name, table in value.get("contracts", {}).items()}
    defaults = value.get("defaults", {})
    queries = {
        name: Query(table["sql"], table.get("file", ""), table.get("env", ""))
        for name, table in value.get("queries", {}).items()
    }
    variables = value.get("variables", {})
    own = {name: target.variables for name, target in targets.items()}
    targets = {
        name: replace(target, variables={**variables, **target.variables}) for name, target in targets.items()
    }
    conventions = {
        f"{group}.{name}": tuple(more)
        for group, lists in value.get("conventions", {}).items()
        for name, more in lists.items()
    }
    return Config(
        path,
        targets,
        contracts,
        queries,
        variables,
        own,
        defaults.get("target", ""),
        defaults.get("jobs", 4),
        {name: StoredPlan.of(table) for name, table in value.get("plans", {}).items()},
        conventions,
    )


def _role(name: str, table: dict[str, Any]) -> Role:
    sources = (_source(scheme, entry) for scheme, entry in table.get("credentials", {}).items())
    signs = table.get("sign-in")
    return Role(
        name,
        tuple(sources),
        tuple(table.get("headers", {}).items()),
        _sign_in(signs) if signs is not None else None,
    )


def _source(scheme: str, entry: dict[str, str]) -> CredentialSource:
    names = ("env", "file", "user", "header", "keyring")
    return CredentialSource(scheme, *(entry.get(name, "") for name in names))


def _sign_in(table: dict[str, Any]) -> SignInOperation:
    return SignInOperation(
        table["operation"],
        tuple(table.get("inputs", {}).items()),
        table.get("token", ""),
        table.get("field", "Authorization: Bearer"),
        table.get("guard", ""),
        table.get("guard-field", ""),
        float(table.get("lasts", 0)),
    )


def _system(table: dict[str, Any]) -> SystemCommands:
    commands = {name: tuple(table.get(name, ())) for name in ("start", "reset", "stop")}
    return SystemCommands(
        commands["start"],
        table.get("ready", ""),
        float(table.get("ready-timeout", 30)),
        commands["reset"],
        commands["stop"],
    )


def _settings(table: dict[str, Any]) -> ContractSettings:
    return ContractSettings(
        table.get("formats", ""),
        hints_of(table),
        tuple(table.get("standing", ())),
        tuple(table.get("off", ())),
        tuple(re.split(r"[/.]", secret)[-1] for secret in table.get("secrets", ())),
        table.get("inputs", ""),
        tuple(table.get("laws", ())),
    )


def _known_here(table: dict[str, Any]) -> dict[str, Hints]:
    """What is known at a target, by contract."""
    found: dict[str, list[dict[str, Any]]] = {}
    for item in table.get("known", ()):
        found.setdefault(item.get("contract", ""), []).append(item)
    return {name: hints_of({"known": entries}) for name, entries in found.items()}
