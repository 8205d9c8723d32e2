"""What a creation says that the item it made is called."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from juxtalogos.compose.resources import identifies
from juxtalogos.conventions.naming import plain
from juxtalogos.formats import wire_of
from juxtalogos.model.contract import Operation
from juxtalogos.model.errors import JuxtalogosError
from juxtalogos.model.exchange import Exchange
from juxtalogos.model.wire import Inputs
from juxtalogos.run.gate.places import Aim, Key, Sites, is_key_name, texts, unfit
from juxtalogos.suite.comparing import leaves


@dataclass(frozen=True, slots=True)
class ItemName:
    """A name of an item that a request may have made."""

    aim: Aim
    sure: bool = True
    """Whether this is what the service calls it; else a further name."""
    chosen: bool = False
    """Whether the request itself named it."""


def named_by(
    places: Sites,
    operation: Operation,
    inputs: Inputs,
    exchange: Exchange,
    value: Any,
    marks: Sequence[str],
    base_url: str,
    member: str = "",
) -> list[ItemName]:
    """The names of what a successful creation made, the surest first: the key in the request's own address,
    the address in the response, then members of its body that tell items apart, `member` before all others.
    """
    asked = places.aim(operation, inputs)
    if asked.key:
        return [ItemName(asked, chosen=True)]
    names = places.key_names(operation)

    def aimed(key: Key) -> Aim:
        return Aim(asked.place, key, names, asked.above)

    found: list[ItemName] = []
    at_address = _addressed(places, asked, exchange, base_url)
    if at_address is not None:
        found.append(ItemName(at_address))
    if len(names) > 1:
        key = _composite(names, value, inputs)
        return found or ([ItemName(aimed(key))] if key else [])
    told = list(_told(value, operation.noun, names, member))
    if told and unfit((told[0],)):
        return [one for one in found if not unfit(one.aim.key)]  # what it is called cannot be used
    for number, text in enumerate(told):
        marked = any(mark in text for mark in marks)
        if not number or marked:
            found.append(ItemName(aimed((text,)), sure=not found))
    if not found:
        sent = (text for text in _sent(inputs, operation.noun, names) if any(mark in text for mark in marks))
        found += [ItemName(aimed((text,))) for text in sent][:1]
    return [one for one in dict.fromkeys(found) if not unfit(one.aim.key)]


def key_of_item(places: Sites, operation: Operation, item: Mapping[str, str], member: str = "") -> Key:
    """What tells an item of a list from others, `member` before all others; empty where nothing does."""
    names = places.key_names(operation)
    if len(names) > 1:
        by_name = {plain(name): text for name, text in item.items()}
        key = tuple(by_name.get(plain(name), "") for name in names)
        return key if all(key) else ()
    return next(((text,) for text in _ordered(item, operation.noun, names, member)), ())


def _addressed(places: Sites, asked: Aim, exchange: Exchange, base_url: str) -> Aim | None:
    """The item at the address that a response gives, where that lies strictly below the place."""
    wire = wire_of(places.contract)
    request = wire.follow(exchange)
    if request is None:
        return None
    for operation in wire.match(request, base_url):
        try:
            aim = places.aim(operation, wire.inputs_of(operation, request, base_url))
        except (JuxtalogosError, ValueError, LookupError):
            continue
        if aim.place == asked.place and aim.key:
            return None if unfit(aim.key) else aim
    return None


def _told(value: Any, noun: str, names: tuple[str, ...], member: str) -> Iterator[str]:
    """Texts of a response that may name the item, the likeliest first."""
    if isinstance(value, list) and len(value) == 1:
        value = value[0]
    if not isinstance(value, dict):
        yield from texts(value).values()
        return
    for holder in (value, *(member for member in value.values() if isinstance(member, dict))):
        found = list(_ordered(texts(holder), noun, names, member))
        if found:
            yield from found
            return


def _ordered(item: Mapping[str, str], noun: str, names: tuple[str, ...], member: str = "") -> Iterator[str]:
    """The values of an item that may tell it from others: those named as requests name it, then its own id,
    then the rest.
    """
    ranked = [
        (
            0
            if name == member and member
            else 1
            if any(plain(name) == plain(one) for one in names)
            else 2
            if plain(name) in ("id", "uuid", "guid") or not name
            else 3
            if identifies(name, noun)
            else 4,
            place,
            text,
        )
        for place, (name, text) in enumerate(item.items())
        if not name or name == member or is_key_name(name, noun, names)
    ]
    for _, _, text in sorted(ranked):
        yield text


def _composite(names: tuple[str, ...], value: Any, inputs: Inputs) -> Key:
    """The parts of a key by name, out of the response, else as they were sent."""
    known: dict[str, str] = {}
    for path, leaf in (*leaves(inputs.body), *inputs.values.items()):
        known.setdefault(plain(path.replace(".", "/").rpartition("/")[2]), str(leaf))
    if isinstance(value, dict):
        known |= {plain(name): text for name, text in texts(value).items()}
    key = tuple(known.get(plain(name), "") for name in names)
    return key if all(key) else ()


def _sent(inputs: Inputs, noun: str, names: tuple[str, ...]) -> Iterator[str]:
    if isinstance(inputs.body, dict):
        for holder in (inputs.body, *(one for one in inputs.body.values() if isinstance(one, dict))):
            yield from _ordered(texts(holder), noun, names)
