"""A store of three levels, each item of which is asked about in many ways, and that counts what it makes."""

from __future__ import annotations

from collections import Counter
from typing import Any

from styles.rest import TEXT, Call, Refused, Route, Service, many, shape

VIEWS = ("tide", "wind", "light", "load", "crew", "fees", "keys", "log", "plan", "depth")


class Yards(Service):
    """Yards, sheds in them, boxes in those. A box says again in which shed it is to stand."""

    def __init__(self, views: int = 4, fleeting: int = 0) -> None:
        super().__init__()
        self.items: dict[tuple[str, ...], dict[str, Any]] = {}
        self.views, self.fleeting = views, fleeting
        """`fleeting`: after how many uses a yard is gone, with all in it; 0 is never."""
        self.made: Counter[int] = Counter()
        self.uses: Counter[str] = Counter()

    def kept(self) -> Any:
        return sorted(map(str, self.items))

    def routes(self) -> list[Route]:
        yard = shape(("id",), id=TEXT, note=TEXT)
        box = shape(("id", "shed"), id=TEXT, shed=TEXT)
        found = []
        for path, thing, body in (
            ("/yards", yard, shape((), note=TEXT)),
            ("/yards/{yardId}/sheds", yard, shape((), note=TEXT)),
            ("/yards/{yardId}/sheds/{shedId}/boxes", box, shape(("shed",), shed=TEXT)),
        ):
            item = f"{path}/{{{path.rpartition('/')[2].removesuffix('s').removesuffix('e')}Id}}"
            found += [
                Route("GET", path, self.listed, answer=many(thing)),
                Route("POST", path, self.add, answer=thing, body=body, status=201),
                Route("GET", item, lambda call: (200, self.at(call)), answer=thing),
                Route("PUT", item, lambda call: (200, self.at(call)), answer=thing, body=body),
                Route("DELETE", item, self.drop, status=204),
            ]
        for view in VIEWS[: self.views]:
            found.append(
                Route("GET", f"{item}/{view}", lambda call: (200, self.at(call)), answer=shape((), id=TEXT))
            )
        return found

    def held(self, key: tuple[str, ...]) -> None:
        """The items above, and that they are there."""
        for length in range(1, len(key) + 1):
            if key[:length] not in self.items:
                raise Refused(404, f"there is no {key[length - 1]}")
        if self.fleeting and key:
            self.uses[key[0]] += 1
            if self.uses[key[0]] > self.fleeting:
                self.items = {one: item for one, item in self.items.items() if one[0] != key[0]}
                raise Refused(404, f"there is no {key[0]} any more")

    def at(self, call: Call) -> Any:
        key = tuple(call.path.values())
        self.held(key)
        return self.items[key]

    def listed(self, call: Call) -> Any:
        key = tuple(call.path.values())
        self.held(key)
        return 200, [item for one, item in self.items.items() if one[:-1] == key]

    def add(self, call: Call) -> Any:
        key = tuple(call.path.values())
        self.held(key)
        if len(key) == 2 and call.body["shed"] != key[1]:
            raise Refused(422, "shed does not match the shed of the address")
        self.made[len(key)] += 1
        name = f"{'ysb'[len(key)]}{self.number()}"
        self.items[*key, name] = {"id": name, **(call.body or {})}
        return 201, self.items[*key, name]

    def drop(self, call: Call) -> Any:
        key = tuple(call.path.values())
        self.held(key)
        self.items = {one: item for one, item in self.items.items() if one[: len(key)] != key}
        return 204, None
