"""Secrets by reference, the one door to them: `env:NAME`, `file:PATH` or `keyring:SERVICE/NAME`, never a
secret itself.
"""

from __future__ import annotations

import os
import re
from dataclasses import dataclass
from pathlib import Path

from juxtalogos.extras import extra
from juxtalogos.model.errors import ConfigError, UsageError, quoted

_AT_END = re.compile(r"(^|\s)(env|file|keyring):(\S+)$")
_CREDENTIAL = re.compile(r"(?P<scheme>[^=\s]+)=(?:(?P<user>.*?):)?(?P<kind>env|file|keyring):(?P<name>.+)")


SECRET_LIKE = re.compile(
    r"pass(?:word|wd|code|phrase)?$|secret|(?:^|[^a-z])pin$|token|credential", re.IGNORECASE
)
"""Names of inputs that hold secrets."""
KINDS = ("env", "file", "keyring")


@dataclass(frozen=True, slots=True)
class CredentialSource:
    """Where a secret is to be found; never the secret."""

    scheme: str
    env: str = ""
    file: str = ""
    user: str = ""
    header: str = ""
    """The name of the field that the scheme uses here; such a scheme may need no secret of ours."""
    keyring: str = ""
    """`SERVICE/NAME` in the keyring of whoever runs the program."""

    def reference(self) -> str:
        return next((f"{kind}:{name}" for kind in KINDS if (name := getattr(self, kind))), "")


def credential_source(text: str, option: str = "--credential") -> CredentialSource:
    """`SCHEME=env:NAME`, `SCHEME=file:PATH`, `SCHEME=USER:env:NAME`.

    UsageError for anything else, a bare secret above all.
    """
    found = _CREDENTIAL.fullmatch(text)
    if found is None:
        name = text.partition("=")[0]
        raise UsageError(
            f"{option} {quoted(name)} names no secret by reference",
            mend=(
                f"write {option} SCHEME=env:NAME, SCHEME=file:PATH, SCHEME=keyring:SERVICE/NAME or"
                " SCHEME=USER:env:NAME; a secret itself is never given"
            ),
        )
    where = dict.fromkeys(KINDS, "") | {found["kind"]: found["name"]}
    return CredentialSource(found["scheme"], user=found["user"] or "", **where)


def secret(reference: str, where: str, workspace: Path | None = None) -> str:
    """The secret behind a reference, known from then on as one that no message may show; see `_secret`."""
    found = _secret(reference, where, workspace)
    READ.add(found)
    return found


def _secret(reference: str, where: str, workspace: Path | None) -> str:
    """The secret behind a reference. ConfigError when it is not there, or in a file of the workspace."""
    kind, _, name = reference.partition(":")
    if kind == "env":
        found = os.environ.get(name)
        if not found:
            raise ConfigError(
                f"the environment variable {name} is not set",
                where=where,
                mend=f"set it to the secret: export {name}=…",
            )
        return found
    if kind == "keyring":
        return _from_keyring(name, where)
    path = Path(name).expanduser()
    if workspace is not None and path.resolve().is_relative_to(workspace.resolve()):
        raise ConfigError(
            f"the secret file {path} lies inside the workspace",
            where=where,
            mend="keep it outside, so that it is never committed",
        )
    try:
        if not path.is_file():
            raise ConfigError(
                f"the secret file {name} is no file",
                where=where,
                mend="name a file that holds the secret alone",
            )
        with path.open(encoding="utf-8") as file:
            found = file.read(MAX_SECRET + 1)
        if len(found) > MAX_SECRET:
            raise ConfigError(
                f"the secret file {name} holds more than {MAX_SECRET:,} characters",
                where=where,
                mend="name a file that holds the secret alone",
            )
        return found.strip()
    except (OSError, UnicodeDecodeError) as error:
        raise ConfigError(
            f"the secret file {name} cannot be read: {error}",
            where=where,
            mend="check its path and permissions",
        ) from None


def _from_keyring(name: str, where: str) -> str:
    """The secret under `SERVICE/NAME` in the user's keyring; the service may have slashes in it."""
    service, _, user = name.rpartition("/")
    if not service or not user:
        raise ConfigError(
            f"keyring:{name} names no service and name", where=where, mend="write keyring:SERVICE/NAME"
        )
    keyring = extra("keyring", "keyring", "secrets in a keyring")
    try:
        found = keyring.get_password(service, user)
    except Exception as error:  # its backends are plug-ins of many makers
        raise ConfigError(
            f"the keyring cannot be read: {quoted(str(error), 200)}",
            where=where,
            mend="unlock it, or give the secret by env:NAME",
        ) from None
    if not found:
        raise ConfigError(
            f"the keyring holds nothing under {service}/{user}",
            where=where,
            mend=f"put it there: python -m keyring set {service} {user}",
        )
    return str(found)


def refers(text: str) -> bool:
    """Whether a text ends in a reference to a secret."""
    return _AT_END.search(text) is not None


MAX_SECRET = 64 * 1024
READ: set[str] = set()
"""Every secret that was read in this process: no message shows one."""


def reference_in(text: str) -> str:
    """The reference that a text ends in; empty when it is none."""
    found = _AT_END.search(text)
    return f"{found.group(2)}:{found.group(3)}" if found else ""


def filled(text: str, where: str, workspace: Path | None = None) -> tuple[str, str]:
    """(a text such as `Bearer env:NAME` with the secret it ends in, that secret); (the text, nothing) without
    one.
    """
    found = _AT_END.search(text)
    if not found:
        return text, ""
    value = secret(f"{found.group(2)}:{found.group(3)}", where, workspace)
    return text[: found.start()] + found.group(1) + value, value
