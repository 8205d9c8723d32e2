"""Trust: commands of a workspace run only after their digest was recorded in the user's own directory."""

from __future__ import annotations

import hashlib
import json
from dataclasses import asdict
from pathlib import Path

from juxtalogos.model.errors import TrustError
from juxtalogos.workspace.config import Config
from juxtalogos.workspace.files import write_whole


def commands_of(config: Config) -> dict[str, dict[str, object]]:
    """Everything that would run, by target: what a person reads before trusting it."""
    systems = {name: asdict(target.system) for name, target in sorted(config.targets.items()) if target.system}
    return {**systems, **{f"query {name}": asdict(query) for name, query in sorted(config.queries.items())}}


def digest(config: Config) -> str:
    """The digest of everything that would run."""
    text = json.dumps(commands_of(config), sort_keys=True, ensure_ascii=True)
    return hashlib.sha256(text.encode()).hexdigest()


def _store() -> Path:
    import platformdirs

    return Path(platformdirs.user_data_dir("juxtalogos")) / "trusted.json"


def _trusted() -> list[str]:
    try:
        value = json.loads(_store().read_text("utf-8"))
        return [str(one) for one in value["digests"]]
    except (OSError, ValueError, KeyError, TypeError):
        return []


def is_trusted(config: Config, given: str = "") -> bool:
    """Whether these very commands were trusted, or their digest is given."""
    found = digest(config)
    return given == found or found in _trusted()


def record(config: Config) -> str:
    """Trusts these commands; gives their digest."""
    found = digest(config)
    kept = [one for one in _trusted() if one != found][-500:]
    write_whole(_store(), json.dumps({"version": 1, "digests": [*kept, found]}).encode())
    _store().chmod(0o600)
    return found


def require_trust(config: Config, given: str = "") -> None:
    """TrustError unless these very commands were trusted."""
    if not is_trusted(config, given):
        raise TrustError(
            "this workspace would run commands that nobody has trusted, or that changed since",
            where=str(config.path),
            mend=f"read them, then: juxtalogos trust  (in a pipeline: --trust {digest(config)})",
        )
