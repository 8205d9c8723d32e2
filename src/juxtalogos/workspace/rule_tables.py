"""Rules for single operations in `juxtalogos.toml`, written, listed and taken out by
command; comments stay.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Any

from juxtalogos.model.errors import ConfigError, UsageError
from juxtalogos.workspace.config import CONFIG_NAME, read_config
from juxtalogos.workspace.files import write_whole
from juxtalogos.workspace.known import entries_of
from juxtalogos.workspace.workspace import Workspace

KINDS = ("off", "dependencies", "known", "leave-out", "send", "meanings", "standing")


@dataclass(frozen=True, slots=True)
class RuleTable:
    """One `[[contracts.NAME.KIND]]`."""

    contract: str
    kind: str
    place: int
    """Its index among those of its contract and kind."""
    entry: Mapping[str, Any]


def rule_tables(home: Workspace) -> list[RuleTable]:
    """All of them, by contract, in their order."""
    found = []
    for name in sorted(home.config.contracts):
        settings = home.config.contracts[name]
        lists: dict[str, list[Mapping[str, Any]]] = {
            "off": list(settings.off),
            **entries_of(settings.hints),
            "standing": list(settings.standing),
        }
        found += [RuleTable(name, kind, at, entry) for kind in KINDS for at, entry in enumerate(lists[kind])]
    return found


def add_rule(
    home: Workspace, contract: str, kind: str, entry: Mapping[str, Any], check: Callable[[], object]
) -> None:
    """Writes a rule; one of the same subject takes the older one's place. `check` reads it back: when that
    fails, the file stays as it was.
    """
    import tomlkit

    subjects = {"off": ("operation", "kind"), "meanings": ("operation",), "known": ("operation", "at")}
    subject = subjects.get(kind, ("operation", "input"))

    def change(document: Any) -> None:
        contracts = document.setdefault("contracts", tomlkit.table(is_super_table=True))
        holder = contracts.setdefault(contract, tomlkit.table(is_super_table=True))
        listed = holder.get(kind)
        same = next(
            (item for item in listed or () if all(item.get(key) == entry.get(key) for key in subject)), None
        )
        if same is not None:
            for key in [key for key in same if key not in entry]:
                del same[key]
            same.update(entry)
            return
        made = tomlkit.table()
        made.update(entry)
        if listed is None:
            listed = tomlkit.aot()
            listed.append(made)
            holder[kind] = listed
        else:
            listed.append(made)

    _changed(home, change, check)


def remove_rule(home: Workspace, number: int) -> RuleTable:
    """Takes out the rule of a number, as they are listed from 1; UsageError when there is none."""
    rules = rule_tables(home)
    if not 0 < number <= len(rules):
        raise UsageError(f"there is no rule {number}", mend="see them: juxtalogos rules")
    rule = rules[number - 1]

    def change(document: Any) -> None:
        holder = document["contracts"][rule.contract]
        del holder[rule.kind][rule.place]
        if not len(holder[rule.kind]):
            del holder[rule.kind]

    _changed(home, change, lambda: None)
    return rule


def _changed(home: Workspace, change: Callable[[Any], None], check: Callable[[], object]) -> None:
    import tomlkit

    path = home.root / CONFIG_NAME
    before = path.read_bytes()
    document = tomlkit.parse(before.decode("utf-8"))
    change(document)
    write_whole(path, tomlkit.dumps(document).encode())
    try:
        home.__dict__.pop("config", None)
        read_config(path)
        check()
    except ConfigError:
        write_whole(path, before)
        home.__dict__.pop("config", None)
        raise
