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
    "the body of a creation has an old item within",
    "the body of a creation names a new and an old item",
    "the body of a creation names an old item by a further id",
    "the address of a creation climbs to an old item",
    "the address of a creation lies at another host",
    "the address of a creation names an old item in its query",
    "a creation is answered with a redirect to an old item",
    "a creation is answered with a success, and not done",
    "a creation is answered with one item, and made two",
    "a creation is answered with a refusal, and was done",
    "the list shows items that are not there",
    "the list hides what was created",
    "the list is a text",
    "the list shows ids as numbers",
    "the list grows by items of others",
    "the list shows its first item and counts them all",
    "the list has its items in another member each time",
    "a change makes a new item",
    "a change is answered with a failure, and was done",
    "a deletion is answered with a failure the first time",
    "a deletion is refused for want of a version",
    "every second response is a failure",
    "everything is a page for people",
)


class Liar(Store):
    """One lie."""

    def __init__(self, lie: str = "") -> None:
        super().__init__()
        self.lie = lie
        self.created: list[str] = []
        self.asked = 0
        self.deleted: set[str] = set()

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
            case "has an old item within":
                return status, {"item": self.shown("old-1"), "made": body["id"]}, {}
            case "names a new and an old item":
                return status, [body, self.shown("old-1")], {}
            case "names an old item by a further id":
                return status, {**body, "uuid": "old-1", "itemId": "old-2"}, {}
        match self.lie.removeprefix("the address of a creation "):
            case "names an old item, its body the new one":
                return status, body, {"Location": "/items/old-1"}
            case "leads to another collection":
                return status, {}, {"Location": "/others/old-1"}
            case "is no address":
                return status, {}, {"Location": "http://[bad"}
            case "climbs to an old item":
                return status, {}, {"Location": f"/items/{body['id']}/../old-1"}
            case "lies at another host":
                return status, {}, {"Location": "http://127.0.0.1:9/items/old-1"}
            case "names an old item in its query":
                return status, {}, {"Location": "/items?itemId=old-1"}
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
            case "a redirect to an old item":
                return 303, None, {"Location": "/items/old-1"}
            case "a success, and not done":
                del self.items[str(body["id"])]
            case "one item, and made two":
                self.items[str(self.number())] = {"name": body["name"]}
            case "a refusal, and was done":
                return 422, {"title": "refused"}, {}
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
            case "shows items that are not there":
                ghosts = [{"id": str(1000 + number), "name": "x"} for number in range(1, 6)]
                return 200, [*ghosts, *map(self.shown, keys)]
            case "hides what was created":
                keys = [key for key in keys if key not in self.created]
            case "is a text":
                return 200, ", ".join(keys)
            case "shows ids as numbers":
                return 200, [{**self.shown(key), "id": number} for number, key in enumerate(keys)]
            case "grows by items of others":
                self.items[f"other-{len(self.items)}"] = {"name": "somebody's"}
            case "shows its first item and counts them all":
                return 200, {"items": [self.shown(key) for key in keys[:1]], "total": len(keys)}
            case "has its items in another member each time":
                self.asked += 1
                return 200, {f"items{self.asked}": [self.shown(key) for key in keys]}
            case "is an object by id":
                return 200, {key: self.shown(key) for key in keys}
        return 200, [self.shown(key) for key in keys]

    def change(self, call: Call) -> Any:
        done = super().change(call)
        match self.lie.removeprefix("a change "):
            case "makes a new item":
                self.items[str(self.number())] = {"name": call.body["name"]}
            case "is answered with a failure, and was done":
                return 500, {}
        return (200, self.shown("old-2")) if self.lie == "a change is answered with an old item" else done

    def remove(self, call: Call) -> Any:
        if self.lie == "a deletion is answered with a success, and not done":
            return 204, None
        if self.lie == "a deletion is answered as absent, and not done":
            return 404, {}
        if self.lie == "a deletion is refused for want of a version":
            return 428, {"title": "say which version"}
        key = call.path["itemId"]
        if self.lie == "a deletion is answered with a failure the first time" and key not in self.deleted:
            self.deleted.add(key)
            return 503, {}
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
        if self.lie == "every second response is a failure":
            self.asked += 1
            return (500, {}, {}) if self.asked % 2 else (status, body, fields)
        if self.lie == "everything is a page for people":
            return 200, b"<html><body>Welcome to <b>old-1</b></body></html>", {"Content-Type": "text/html"}
        if self.lie == "everything is answered with 200 and nothing":
            return 200, None, {}
        if self.lie == "everything is forbidden after the first creation" and before:
            return 403, json.loads("{}"), {}
        if self.lie == "everything is unavailable after the first creation" and before:
            return 503, {}, {}
        return status, body, fields
