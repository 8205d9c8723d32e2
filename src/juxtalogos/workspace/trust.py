"""Trust: what a workspace runs, and where its secrets go, only as its user allowed it, for the folder in
which it lies.

It is kept in the user's own directory by the workspace's real path: a digest of every command with the
content of each file
of the workspace that it names, and of each secret the origins that it may go to.
"""

from __future__ import annotations

import hashlib
import json
import shlex
import shutil
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import asdict, dataclass, field
from functools import cached_property
from pathlib import Path
from typing import Any

from juxtalogos.documents.uris import origin
from juxtalogos.model.errors import ConfigError, TrustError, UsageError, quoted
from juxtalogos.workspace.config import CONFIG_NAME, Config, Target, read_config
from juxtalogos.workspace.files import write_whole
from juxtalogos.workspace.secrets import reference_in

VERSION = 2
MOST_FILES, MOST_BYTES = 2_000, 64 * 1024 * 1024
"""Of a folder that a command names, so many files and bytes are looked at."""
MOST_WORKSPACES = 1_000


@dataclass(frozen=True, slots=True)
class Grant:
    """What is allowed for one call: a digest, and pairs of a secret and an origin."""

    digest: str = ""
    sends: tuple[tuple[str, str], ...] = ()

    @classmethod
    def of(cls, digest: str, sends: Iterable[str]) -> Grant:
        """`sends` are `NAME=ORIGIN`, as they are typed."""
        return cls(digest, tuple(map(read_send, sends)))


NOTHING_GRANTED = Grant()


def read_send(text: str) -> tuple[str, str]:
    """(reference, origin) of `NAME=URL`: NAME is that of a variable, or `file:PATH`. UsageError when it is
    none.
    """
    name, equals, url = text.rpartition("=")
    try:
        place = origin(url) if url.startswith(("http://", "https://")) else ""
    except ValueError:
        place = ""
    if not equals or not name or not place:
        raise UsageError(
            f"{quoted(text)} does not name a secret and its origin",
            mend="write NAME=ORIGIN, such as MERROW_KEY=http://127.0.0.1:8480",
        )
    return name if name.startswith(("env:", "file:", "keyring:", CA_FILE, PROXY)) else f"env:{name}", place


def told(reference: str) -> str:
    """A reference as it is typed and told: a variable by its name."""
    return reference.removeprefix("env:")


CA_FILE, PROXY = "ca-file:", "proxy:"
"""What else is allowed for an origin, beside secrets: who vouches for it, and who stands before it."""


def permission(reference: str, origins: str, *, allowed: bool = True) -> str:
    """What a reference that is allowed for origins permits, as a clause; what is refused where it is not."""
    verb, verbs = ("may", "may") if allowed else ("is not allowed to", "are not allowed to")
    if reference.startswith(CA_FILE):
        path, _, digest = reference.removeprefix(CA_FILE).rpartition("@")
        return f"the certificate authorities in {path} (SHA-256 {digest}…) {verbs} vouch for {origins}"
    if reference.startswith(PROXY):
        return f"requests to {origins} {verbs} go through the proxy {reference.removeprefix(PROXY)}"
    return f"{told(reference)} {verb} be sent to {origins}"


class NotSent(TrustError):
    """A secret would go where nobody has allowed it to."""

    def __init__(self, reference: str, origins: Iterable[str], root: Path, where: str) -> None:
        self.reference, self.origins, self.root = reference, tuple(sorted(origins)), root
        shown = " and ".join(self.origins) or "no address yet"
        options = " ".join(f"--send {shlex.quote(f'{told(reference)}={one}')}" for one in self.origins)
        super().__init__(
            permission(reference, shown, allowed=False),
            where=where,
            mend=(
                f"if it may: juxtalogos trust {options}"
                if options
                else "give the target a URL first: juxtalogos targets set NAME URL"
            ),
        )


@dataclass
class Trust:
    """What one workspace was allowed."""

    root: Path
    grant: Grant = NOTHING_GRANTED
    _kept: dict[str, Any] = field(default_factory=dict, init=False)

    def __post_init__(self) -> None:
        self._kept = _read().get(str(self.root.resolve()), {})

    @cached_property
    def config(self) -> Config:
        return read_config(self.root / CONFIG_NAME)

    @cached_property
    def commands(self) -> dict[str, dict[str, Any]]:
        """Everything that would run, by target or query."""
        return commands_of(self.config)

    @cached_property
    def files(self) -> dict[str, str]:
        """The files of the workspace that commands name, each with its digest."""
        return dict(sorted(named_files(self.root, self.commands)))

    @cached_property
    def sends(self) -> dict[str, tuple[str, ...]]:
        """Each secret that the workspace refers to, with the origins that it would go to."""
        return sends_of(self.root, self.config)

    @property
    def commands_digest(self) -> str:
        return _digest({"commands": self.commands, "files": self.files})

    @property
    def digest(self) -> str:
        """The digest of everything that would run and of where secrets would go; not of where the workspace
        lies.
        """
        return _digest({"commands": self.commands, "files": self.files, "sends": self.sends})

    @property
    def granted(self) -> bool:
        return bool(self.grant.digest) and self.grant.digest == self.digest

    @property
    def runs(self) -> bool:
        """Whether these very commands were trusted."""
        return self.granted or self._kept.get("commands") == self.commands_digest

    def require_commands(self) -> None:
        """TrustError unless these very commands were trusted."""
        if not self.runs:
            raise TrustError(
                "this workspace would run commands that are not trusted, or that changed",
                where=str(self.root / CONFIG_NAME),
                mend=f"read them, then: juxtalogos trust  (in a pipeline: --trust {self.digest})",
            )

    def may_send(self, reference: str, origins: Iterable[str]) -> bool:
        """Whether a secret may go to all of these origins."""
        wanted = set(origins)
        known = set(self._kept.get("sends", {}).get(reference, ())) | {
            one for name, one in self.grant.sends if name == reference
        }
        if wanted and wanted <= known:
            return True
        return self.granted and wanted <= set(self.sends.get(reference, ()))

    def require_send(self, reference: str, origins: Iterable[str], where: str) -> None:
        """NotSent unless a secret may go to all of these origins."""
        wanted = set(origins)
        if not self.may_send(reference, wanted):
            raise NotSent(reference, wanted, self.root, where)

    def knows(self, reference: str) -> bool:
        """Whether the secret was allowed to go anywhere, or is about to be."""
        return reference in self._kept.get("sends", {})

    def allow(self, *, commands: bool = False, sends: Mapping[str, Iterable[str]] = {}) -> None:
        """Keeps what its user allows."""
        if commands:
            self._kept["commands"] = self.commands_digest
        held = self._kept.setdefault("sends", {})
        for reference, origins in sends.items():
            held[reference] = sorted({*held.get(reference, ()), *origins})
        _write(str(self.root.resolve()), self._kept)

    def forget(self) -> None:
        """Takes back everything that was allowed for this folder."""
        self._kept = {}
        _write(str(self.root.resolve()), None)


def commands_of(config: Config) -> dict[str, dict[str, Any]]:
    """Everything that would run, by target: what a person reads before trusting it."""
    systems = {
        name: asdict(target.system) for name, target in sorted(config.targets.items()) if target.system
    }
    return {**systems, **{f"query {name}": asdict(query) for name, query in sorted(config.queries.items())}}


def found_by_path(commands: Mapping[str, Mapping[str, Any]]) -> Iterator[tuple[str, str]]:
    """(command, where it is found now) of programs outside the workspace: their content is not digested."""
    for entry in commands.values():
        for name in ("start", "reset", "stop"):
            words = entry.get(name)
            if words and "/" not in words[0]:
                yield words[0], shutil.which(words[0]) or "nowhere"


def named_files(root: Path, commands: Mapping[str, Mapping[str, Any]]) -> Iterator[tuple[str, str]]:
    """(path within the workspace, SHA-256) of every file that a command names, also behind `=`; of a folder,
    of each file in it.
    """
    whole = root.resolve()
    for entry in commands.values():
        for name in ("start", "reset", "stop"):
            for word in entry.get(name) or ():
                for text in {word, word.rpartition("=")[2]} - {""}:
                    try:
                        path = (root / text).resolve()
                        if path.is_relative_to(whole) and path != whole and path.exists():
                            yield from _digests(path, whole)
                    except (OSError, ValueError):
                        continue


def _digests(path: Path, root: Path) -> Iterator[tuple[str, str]]:
    found, total = 0, 0
    for one in [path] if path.is_file() else sorted(path.rglob("*")):
        if not one.is_file() or "__pycache__" in one.parts:
            continue
        found, total = found + 1, total + one.stat().st_size
        if found > MOST_FILES or total > MOST_BYTES:
            raise ConfigError(
                f"a command names the folder {path.relative_to(root)}, in which are more than {MOST_FILES:,}"
                f" files or {MOST_BYTES // 1024 // 1024} MB",
                where=str(root / "juxtalogos.toml"),
                mend="name a file, or a folder outside the workspace",
            )
        yield one.relative_to(root).as_posix(), hashlib.sha256(one.read_bytes()).hexdigest()


def destinations(target: Target) -> set[str]:
    """Where a target's secrets really go: its origins, and the addresses that it has some of their hosts
    connected to.
    """
    mapped = {f"http://{address}" for address in target.addresses.values()}
    proxy = {target.proxy} if target.proxy else set()  # it reads what is not encrypted
    return target.origins() | {_place(address) for address in mapped | proxy}


def _place(address: str) -> str:
    try:
        return origin(address)
    except ValueError:
        return address


def references_of(target: Target) -> set[str]:
    """The secrets that a target names, in any role."""
    roles = (target.own, *target.roles.values())
    named = {credential.reference() for role in roles for credential in role.credentials}
    named |= {reference_in(text) for role in roles for _, text in role.headers}
    signs = (pair for role in roles if role.sign_in is not None for pair in role.sign_in.inputs)
    named |= {value for _, value in signs if isinstance(value, str) and reference_in(value) == value}
    if target.certificate_key or target.certificate:
        named.add(f"file:{target.certificate_key or target.certificate}")
    if target.proxy_login is not None:
        named.add(target.proxy_login.reference())
    return named - {""}


def ways_of(target: Target, root: Path) -> dict[str, str]:
    """What stands between this program and a target because the workspace says so, with the key that says
    it: a file of certificate authorities (by its content, the first 16 digits of its SHA-256) and a proxy.
    """
    found = {}
    if target.ca_file:
        try:
            digest = hashlib.sha256((root / target.ca_file).read_bytes()).hexdigest()[:16]
        except (OSError, ValueError):
            digest = "not read"
        found[f"{CA_FILE}{target.ca_file}@{digest}"] = "ca-file"
    if target.proxy:
        found[f"{PROXY}{target.proxy}"] = "proxy"
    return found


def sends_of(root: Path, config: Config) -> dict[str, tuple[str, ...]]:
    """Each secret that targets and the sources of definitions refer to, and each certificate authority and
    proxy of a target -> the origins that it is for.
    """
    found: dict[str, set[str]] = {}
    for target in config.targets.values():
        for reference in references_of(target):
            found.setdefault(reference, set()).update(destinations(target))
        for reference in ways_of(target, root):
            found.setdefault(reference, set()).update(target.origins())
    for path in sorted((root / "definitions").glob("*/origin.json")):
        for reference, place in _source_sends(path):
            found.setdefault(reference, set()).add(place)
    return {name: tuple(sorted(origins)) for name, origins in sorted(found.items())}


def _source_sends(path: Path) -> Iterator[tuple[str, str]]:
    from juxtalogos.workspace.remote import Access

    try:
        kept = json.loads(path.read_bytes())
        access, source = Access.of(kept.get("access")), str(kept.get("source", ""))
        yield from access.sends(source)
    except (OSError, ValueError, AttributeError, RecursionError):
        return  # what cannot be read sends nothing


def _digest(value: Any) -> str:
    return hashlib.sha256(json.dumps(value, sort_keys=True, ensure_ascii=True).encode()).hexdigest()


def _store() -> Path:
    import platformdirs

    return Path(platformdirs.user_data_dir("juxtalogos")) / "trust.json"


def _read() -> dict[str, Any]:
    try:
        value = json.loads(_store().read_bytes())
        found = value["workspaces"] if value["version"] == VERSION else {}
        return {str(path): dict(entry) for path, entry in found.items()}
    except (OSError, ValueError, KeyError, TypeError, RecursionError):
        return {}


def _write(path: str, entry: dict[str, Any] | None) -> None:
    found = {name: one for name, one in _read().items() if name != path}
    while len(found) >= MOST_WORKSPACES:
        del found[next(iter(found))]
    if entry is not None:
        found[path] = entry
    write_whole(_store(), json.dumps({"version": VERSION, "workspaces": found}, indent=1).encode())
    _store().chmod(0o600)
