"""What changed between two readings of a contract: operations, inputs, bodies, answers, in words."""

from __future__ import annotations

from collections.abc import Iterator, Mapping

from juxtalogos.model.contract import Contract, Media, Operation
from juxtalogos.model.schema import SchemaRef

Facts = Mapping[str, str]
"""What is declared, by where: `query.limit` -> `integer, at most 50`."""


def changes(old: Contract, new: Contract) -> Iterator[tuple[str, str]]:
    """(operation, what changed), in the order of the definition; what is gone comes last."""
    if old.version != new.version:
        yield "", f"the version of {new.format} was {old.version}, now {new.version}"
    if old.servers != new.servers:
        yield (
            "",
            (
                f"the servers named were {', '.join(old.servers) or 'none'}, now"
                f" {', '.join(new.servers) or 'none'}"
            ),
        )
    for operation in new.operations:
        before = old.operation(operation.id)
        if before is None:
            yield operation.id, f"new: {operation.method} {operation.path}"
        else:
            yield from (
                (operation.id, what) for what in _differences(facts(old, before), facts(new, operation))
            )
    for operation in old.operations:
        if new.operation(operation.id) is None:
            yield operation.id, f"gone: {operation.method} {operation.path}"


def _differences(old: Facts, new: Facts) -> Iterator[str]:
    for where, what in new.items():
        if where not in old:
            yield f"{where}: new, {what}"
        elif old[where] != what:
            yield f"{where}: was {old[where]}, now {what}"
    for where, what in old.items():
        if where not in new:
            yield f"{where}: gone, was {what}"


def facts(contract: Contract, operation: Operation) -> dict[str, str]:
    """What an operation declares, in words, by where."""
    found = {"method and path": f"{operation.method} {operation.path}"}
    if operation.deprecated:
        found["deprecated"] = "yes"
    if operation.security:
        found["sign-in"] = " or ".join(" and ".join(names) or "none" for names in operation.security)
    for declared_input in operation.inputs:
        found.update(
            _schema(contract, declared_input.schema, declared_input.address, declared_input.required)
        )
    for media in operation.body.media if operation.body else ():
        found.update(_media(contract, media, "body", bool(operation.body and operation.body.required)))
    found |= dict(operation.facts)
    for answer in operation.answers:
        at = f"fault {answer.fault}" if answer.fault else f"response {answer.status}"
        found[at] = "declared"
        for head in answer.headers:
            found.update(_schema(contract, head.schema, f"{at} header.{head.name}", head.required))
        for media in answer.media:
            found.update(_media(contract, media, at))
    return found


def _media(contract: Contract, media: Media, at: str, required: bool = False) -> dict[str, str]:
    return {
        f"{at} {media.media_type}": "required" if required else "declared",
        **_schema(contract, media.schema, f"{at} {media.media_type} ", False),
    }


def _schema(contract: Contract, ref: SchemaRef | None, at: str, required: bool) -> dict[str, str]:
    if ref is None:
        return {at: _words("any", required, "")}
    found: dict[str, str] = {}
    choices: list[tuple[int, str]] = []
    for row in contract.schema(ref).outline():
        # Alternatives stand at one path: what lies in each is told apart by which one it is.
        choices = [(depth, name) for depth, name in choices if depth < row.depth]
        if row.name.startswith("choice "):
            choices.append((row.depth, row.name))
        where = " ".join([f"{at}{row.path}", *(name for _, name in choices)])
        found[where] = _words(row.type, required if row.path == "" else row.required, row.allowed)
    return found


def _words(kind: str, required: bool, allowed: str) -> str:
    return ", ".join(filter(None, (kind, "required" if required else "", allowed)))
