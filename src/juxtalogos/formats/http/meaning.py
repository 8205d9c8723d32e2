"""What operations are for, as far as methods, paths and answers tell.

A resource is known by its path with every parameter as `{}`: `{id}` in one path and `{berth_id}` in another
are one place.
"""

from __future__ import annotations

import re
from collections.abc import Container, Mapping
from dataclasses import dataclass, replace

from juxtalogos.conventions.naming import first_part, intent_of, last_part, noun_of, singular, words_of
from juxtalogos.model.contract import Input, Intent, Operation

_ITEM = re.compile(r"(.*)/\{\}")
_SAFE = ("GET", "HEAD", "OPTIONS", "TRACE")
"""RFC 9110, section 9.2.1."""
_IDEMPOTENT = (*_SAFE, "PUT", "DELETE")
"""RFC 9110, section 9.2.2."""
_CHANGES = (Intent.CREATE, Intent.REPLACE, Intent.UPDATE, Intent.DELETE, Intent.EMPTY)
_ENDS = ("cancel", "withdraw", "revoke")
"""What may delete an item, and where something else does only ends it."""
_SPOKEN = (Intent.LIST, Intent.READ, *_CHANGES)
"""Intents that a word of a path may tell; what else is done, its method tells."""


def resource_key(path: str) -> str:
    """A path without a slash at its end, each parameter as `{}`."""
    return re.sub(r"\{[^{}/]*\}", "{}", path).rstrip("/") or "/"


def with_meaning(operations: list[Operation]) -> list[Operation]:
    """The operations with intent, resource and what their path inputs identify."""
    keys = [resource_key(operation.path) for operation in operations]
    paths = _Paths(frozenset(keys), _collections(keys))
    items = {base for key in keys if (base := _collection(key, paths))}
    known = items | paths.keys
    meant = [_meant(operation, items, paths) for operation in operations]
    deleted = {operation.resource for operation in meant if operation.intent is Intent.DELETE}
    return [
        operation if operation.resource in items else _spoken(operation, known, deleted)
        for operation in meant
    ]


@dataclass(frozen=True, slots=True)
class _Paths:
    """The paths of a contract."""

    keys: frozenset[str]
    collections: Mapping[str, str]
    """Of a path at which nothing is declared, the one that is the same in the plural, or the singular:
    `/berth/{}` is an item of `/berths`."""


def _collections(keys: list[str]) -> dict[str, str]:
    declared = {_in_singular(key): key for key in keys if not key.endswith("}")}
    bases = {found[1] for key in keys if (found := _ITEM.fullmatch(key)) and found[1]}
    return {
        base: declared[_in_singular(base)]
        for base in bases.difference(keys)
        if not base.endswith("}") and _in_singular(base) in declared
    }


def _in_singular(key: str) -> str:
    above, _, last = key.rpartition("/")
    return f"{above}/{singular(last)}"


def _collection(key: str, paths: _Paths) -> str:
    """The collection of which a path names an item; empty where it names none.

    `/allotments/{}/{}` names an item of `/allotments` by a key of two parts, where nothing is declared at
    `/allotments/{}` and something at `/allotments`.
    """
    found = _ITEM.fullmatch(key)
    if found is None:
        return ""
    base = found[1] or "/"
    base = paths.collections.get(base, base)
    above = _collection(base, paths) if base not in paths.keys else ""
    return above if above in paths.keys else base


def _meant(operation: Operation, items: Container[str], paths: _Paths) -> Operation:
    """`items` are the resources below which single items lie."""
    key = resource_key(operation.path)
    base = _collection(key, paths)
    resource = base or key
    return replace(
        operation,
        inputs=tuple(_identifying(operation.path, one, paths) for one in operation.inputs),
        intent=_intent(operation, bool(base), resource in items),
        safe=operation.method in _SAFE,
        idempotent=operation.method in _IDEMPOTENT,
        resource=resource,
        on_item=bool(base),
        noun=singular(last_part(operation.path)),
        group=operation.tags[0] if operation.tags else first_part(operation.path) or "root",
    )


def _intent(operation: Operation, on_item: bool, has_items: bool) -> Intent:
    match operation.method:
        case "GET":
            return Intent.READ if on_item or not has_items else Intent.LIST
        case "HEAD" | "OPTIONS" | "TRACE":
            return Intent.READ
        case "POST":
            return Intent.CREATE if has_items and not on_item else Intent.ACT
        case "PUT":  # without a body it replaces nothing
            return Intent.REPLACE if operation.body is not None else Intent.ACT
        case "PATCH":
            return Intent.UPDATE
        case "DELETE":
            return Intent.DELETE if on_item or not has_items else Intent.EMPTY
    return Intent.UNKNOWN


def _spoken(operation: Operation, known: Container[str], deleted: Container[str]) -> Operation:
    """An operation whose path ends in a verb, alone (`/berths/create`) or with what it is about
    (`/addBerth`): the verb counts, not the method.

    What has items below it (`/check-ins/{id}`) is a thing, however it begins; and what GET is asked for
    without saying of
    what (`/issue-types`) is read. Where DELETE deletes an item, what is called `/cancel` only ends it.
    """
    word = last_part(operation.path)
    intent = intent_of(word)
    # A word that may be a noun as well (`/plan`, `/quote`) says nothing where it stands alone.
    if operation.on_item or intent not in _SPOKEN or operation.method not in ("GET", "POST", "PUT", "DELETE"):
        return operation
    if (
        operation.safe
        and intent in _CHANGES
        and not any(declared_input.required for declared_input in operation.inputs)
    ):
        return operation
    safe = operation.safe and intent not in _CHANGES
    if len(words_of(word)) > 1 and noun_of(word) and intent is not Intent.EMPTY:
        return replace(operation, intent=intent, safe=safe, resource="", noun=noun_of(word))
    above = operation.resource.rpartition("/")[0] or "/"
    found = _ITEM.fullmatch(above)
    if intent is Intent.EMPTY:
        return replace(operation, intent=Intent.ACT if found else intent, safe=safe)
    if word.lower() in _ENDS and found and found[1] in deleted:
        return operation
    if found and found[1] in known and intent in _CHANGES and intent is not Intent.CREATE:
        return replace(
            operation,
            intent=intent,
            safe=safe,
            resource=found[1],
            on_item=True,
            noun=singular(last_part(found[1])),
        )
    if (
        above in known and not found and intent in (Intent.CREATE, Intent.LIST)
    ):  # an item is not made, but opened
        return replace(operation, intent=intent, safe=safe, resource=above, noun=singular(last_part(above)))
    return operation


def _identifying(path: str, one: Input, paths: _Paths) -> Input:
    """A path input names an item of what comes before it."""
    if one.place != "path":
        return one
    before = path.partition(f"{{{one.name}}}")[0]
    return replace(one, identifies=_collection(resource_key(f"{before}{{{one.name}}}"), paths))
