"""Writing `juxtalogos.toml`: comments and order stay."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from juxtalogos.documents.uris import origin
from juxtalogos.model.errors import ConfigError, quoted
from juxtalogos.model.schema import ABSENT
from juxtalogos.workspace.config import (
    CONFIG_NAME,
    Config,
    check_url,
)
from juxtalogos.workspace.files import write_whole
from juxtalogos.workspace.plans import StoredPlan
from juxtalogos.workspace.secrets import KINDS, CredentialSource, reference_in
from juxtalogos.workspace.trust import Trust, destinations, references_of


class WritesConfig:
    """What writes the configuration of a workspace."""

    root: Path

    @property
    def config(self) -> Config:
        """The configuration as it stands."""
        raise NotImplementedError

    def set_target(self, name: str, url: str, contract: str | None) -> None:
        """Writes a base URL into the configuration, comments kept.

        ConfigError when the URL or the name is none.
        """
        import tomlkit

        check_url(url)
        with self._target_table(name) as target:
            if contract:
                target.setdefault("urls", tomlkit.inline_table())[contract] = url.rstrip("/")
            else:
                target["url"] = url.rstrip("/")
        trust = Trust(self.root)
        references = {name for name in references_of(self.config.target(name)) if trust.knows(name)}
        if references:  # whose user said before that they go to this target
            trust.allow(sends={reference: (origin(url),) for reference in references})

    def set_credential(self, name: str, source: CredentialSource, role: str = "") -> None:
        """Writes where a secret is to be found into the configuration, comments kept; never the secret. It
        may go to the target's origins then.
        """
        import tomlkit

        with self._target_table(name) as target:
            holder = _of_role(target, role)
            made = tomlkit.table()
            for key, text in (("user", source.user), *((kind, getattr(source, kind)) for kind in KINDS)):
                if text:
                    made[key] = text
            holder.setdefault("credentials", tomlkit.table(is_super_table=True))[source.scheme] = made
        if source.reference():
            Trust(self.root).allow(sends={source.reference(): destinations(self.config.target(name))})

    def set_sign_in(
        self, name: str, operation: str, inputs: Sequence[tuple[str, str]], token: str, role: str = ""
    ) -> None:
        """Writes how to sign in by an operation; the secrets that its inputs name may go to the target's
        origins then.
        """
        import tomlkit

        with self._target_table(name) as target:
            holder = _of_role(target, role)
            made = tomlkit.table()
            made["operation"] = operation
            if token:
                made["token"] = token
            given = tomlkit.table()
            given.update(dict(inputs))
            made["inputs"] = given
            holder["sign-in"] = made
        references = [text for _, text in inputs if reference_in(text) == text]
        to = destinations(self.config.target(name))
        Trust(self.root).allow(sends=dict.fromkeys(references, to))

    def remove_target(self, name: str) -> None:
        """Removes a target from the configuration, comments kept; ConfigError where there is none. What is
        allowed for its secrets stays allowed.
        """
        self.config.target(name)
        with self._document() as document:
            del document["targets"][name]
            if not document["targets"]:
                del document["targets"]
            defaults = document.get("defaults", {})
            if defaults.get("target") == name:
                del defaults["target"]

    def set_guarded(self, name: str, guarded: bool) -> None:
        """Writes whether commands ask before they send what changes something at a target."""
        self.config.target(name)
        with self._target_table(name) as target:
            if guarded:
                target["guarded"] = True
            else:
                target.pop("guarded", None)

    def set_variables(self, target: str, values: Mapping[str, Any]) -> None:
        """Writes variables of everything, or of a target; ABSENT takes one out. Comments are kept."""
        import tomlkit

        with self._document() as document:
            holder = document["targets"][target] if target else document
            if not target and "variables" not in document:
                document.add(tomlkit.nl())
            table = holder.setdefault("variables", tomlkit.table())
            for name, value in values.items():
                if value is ABSENT:
                    table.pop(name, None)
                elif isinstance(value, Mapping):
                    table[name] = tomlkit.inline_table()
                    table[name].update(value)
                else:
                    table[name] = value
            if not table:
                del holder["variables"]

    def rename_in_config(self, name: str, new: str) -> None:
        """Gives a contract another name in the configuration, or takes it out where `new` is empty."""
        with self._document() as document:
            _renamed_key(document.get("contracts", {}), name, new)
            for target in document.get("targets", {}).values():
                _renamed_key(target.get("urls", {}), name, new)
                listed = target.get("known", [])
                for known in [one for one in listed if one.get("contract") == name]:
                    if new:
                        known["contract"] = new
                    else:
                        listed.remove(known)
                for holder in (target, *target.get("roles", {}).values()):
                    signs = holder.get("sign-in", {})
                    if new and str(signs.get("operation", "")).startswith(f"{name}:"):
                        signs["operation"] = f"{new}:{signs['operation'].partition(':')[2]}"

    def set_plan(self, name: str, plan: StoredPlan | None) -> None:
        """Writes a stored plan, or takes it out."""
        import tomlkit

        with self._document() as document:
            if "plans" not in document:
                document.add(tomlkit.nl())
            plans = document.setdefault("plans", tomlkit.table(is_super_table=True))
            if plan is None:
                del plans[name]
            else:
                made = tomlkit.table()
                made.update(plan.written())
                plans[name] = made
            if not plans:
                del document["plans"]

    def set_default_target(self, name: str) -> None:
        """Writes which target commands use that name none."""
        import tomlkit

        self.config.target(name)
        with self._document() as document:
            document.setdefault("defaults", tomlkit.table())["target"] = name

    @contextmanager
    def _document(self) -> Iterator[Any]:
        """The configuration, to be changed: comments and order are kept."""
        import tomlkit

        path = self.root / CONFIG_NAME
        document = tomlkit.parse(path.read_text("utf-8"))
        yield document
        write_whole(path, tomlkit.dumps(document).encode())
        self.__dict__.pop("config", None)

    @contextmanager
    def _target_table(self, name: str) -> Iterator[Any]:
        """A target's table in the configuration, to be changed."""
        import tomlkit

        if not name.replace("-", "").replace("_", "").isalnum():
            raise ConfigError(
                f"{quoted(name)} is no target name",
                where=str(self.root / CONFIG_NAME),
                mend="use letters, digits, - and _",
            )
        with self._document() as document:
            targets: Any = document.setdefault("targets", tomlkit.table(is_super_table=True))
            yield targets.setdefault(name, tomlkit.table())


def _of_role(target: Any, role: str) -> Any:
    """The table of a role of a target, or the target's own."""
    import tomlkit

    if not role:
        return target
    roles = target.setdefault("roles", tomlkit.table(is_super_table=True))
    return roles.setdefault(role, tomlkit.table(is_super_table=True))


def _renamed_key(table: Any, name: str, new: str) -> None:
    if name in table:
        value = table.pop(name)
        if new:
            table[new] = value
