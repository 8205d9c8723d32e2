"""A store that lies, one lie at a time: about ids, lists, pages, addresses, statuses, states and repeated
creations. What it held before the program came must stay as it is, whatever it says.
"""

from __future__ import annotations

import json
from typing import Any

from styles.harm import Store
from styles.rest import Call

LIES = (
    "the body of a creation names an old item",
    "the address of a creation names an old item, its body the new one",
    "the address of a creation leads to another collection",
    "the address of a creation is no address",
    "the body of a creation is a list of all items",
    "the body of a creation is a text",
    "the body of a creation is empty",
    "a creation is answered with a number for its id",
    "a creation is answered with the id of an old item in other letters",
    "a creation is answered with null for its id",
    "a creation is answered with a list for its id",
    "a creation is answered with a failure, and was done",
    "a creation is answered with a conflict that names an old item",
    "the second creation is answered with the first item",
    "the list is empty",
    "the list leaves old items out once something was created",
    "the list shows old items under other ids",
    "the list shows each item twice",
    "the list is answered with a failure once something was created",
    "the list says that there is a next page, for ever",
    "the list is an object by id",
    "items are there although they are read as absent",
    "every item is read as there",
    "reading an item shows an old one",
    "a change is answered with an old item",
    "a deletion is answered with a success, and not done",
    "a deletion is answered with a failure, and was done",
    "a deletion is answered as absent, and not done",
    "everything is answered with 200 and nothing",
    "everything is forbidden after the first creation",
    "everything is unavailable after the first creation",
)


class Liar(Store):
    """One lie."""

    def __init__(self, lie: str = "") -> None:
        super().__init__()
        self.lie = lie
        self.created: list[str] = []

    def add(self, call: Call) -> Any:
        if self.lie == "the second creation is answered with the first item" and self.created:
            return 201, self.shown(self.created[0]), {"Location": f"/items/{self.created[0]}"}
        status, body, headers = super().add(call)
        self.created.append(str(body["id"]))
        match self.lie.removeprefix("the body of a creation "):
            case "names an old item":
                return status, self.shown("old-1"), {}
            case "is a list of all items":
                return status, [self.shown(key) for key in self.items], {}
            case "is a text":
                return status, "made", {}
            case "is empty":
                return status, None, {}
        match self.lie.removeprefix("the address of a creation "):
            case "names an old item, its body the new one":
                return status, body, {"Location": "/items/old-1"}
            case "leads to another collection":
                return status, {}, {"Location": "/others/old-1"}
            case "is no address":
                return status, {}, {"Location": "http://[bad"}
        match self.lie.removeprefix("a creation is answered with "):
            case "a number for its id":
                return status, {**body, "id": 7}, {}
            case "the id of an old item in other letters":
                return status, {**body, "id": "OLD-1"}, {}
            case "null for its id":
                return status, {**body, "id": None}, {}
            case "a list for its id":
                return status, {**body, "id": ["old-1", "old-2"]}, {}
            case "a failure, and was done":
                return 500, {"id": "old-1"}, {}
            case "a conflict that names an old item":
                return 409, {"id": "old-1"}, {"Location": "/items/old-1"}
        return status, body, headers

    def listed(self, call: Call) -> Any:
        keys = list(self.items)
        match self.lie.removeprefix("the list "):
            case "is empty":
                return 200, []
            case "leaves old items out once something was created" if self.created:
                keys = [key for key in keys if not key.startswith("old")]
            case "shows old items under other ids":
                return 200, [{**self.shown(key), "id": key.replace("old", "elder")} for key in keys]
            case "shows each item twice":
                keys = keys * 2
            case "is answered with a failure once something was created" if self.created:
                return 500, {}
            case "says that there is a next page, for ever":
                return 200, [self.shown(key) for key in keys], {"Link": '</items?page=2>; rel="next"'}
            case "is an object by id":
                return 200, {key: self.shown(key) for key in keys}
        return 200, [self.shown(key) for key in keys]

    def change(self, call: Call) -> Any:
        done = super().change(call)
        return (200, self.shown("old-2")) if self.lie == "a change is answered with an old item" else done

    def remove(self, call: Call) -> Any:
        if self.lie == "a deletion is answered with a success, and not done":
            return 204, None
        if self.lie == "a deletion is answered as absent, and not done":
            return 404, {}
        done = super().remove(call)
        return (500, {}) if self.lie == "a deletion is answered with a failure, and was done" else done

    def answer(self, method: str, target: str, headers: Any, data: bytes) -> tuple[int, Any, dict[str, str]]:
        before = bool(self.created)
        status, body, fields = super().answer(method, target, headers, data)
        one = method == "GET" and target.startswith("/items/")
        if self.lie == "items are there although they are read as absent" and one:
            return 404, {}, fields
        if self.lie == "every item is read as there" and one and status == 404:
            return 200, {"id": target.rpartition("/")[2], "name": "x"}, fields
        if self.lie == "reading an item shows an old one" and one:
            return 200, self.shown("old-1"), fields
        if self.lie == "everything is answered with 200 and nothing":
            return 200, None, {}
        if self.lie == "everything is forbidden after the first creation" and before:
            return 403, json.loads("{}"), {}
        if self.lie == "everything is unavailable after the first creation" and before:
            return 503, {}, {}
        return status, body, fields
