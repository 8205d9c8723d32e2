"""Laws: what must hold over several exchanges.

One table: what it is, why it may be expected, and whether a standard obliges to it.
"""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class Law:
    name: str
    told: str
    why: str
    """A section of a standard, or custom."""
    must: bool = False
    """Whether the standard says MUST: then what breaks it is a deviation, else a doubt."""


_CUSTOM = "custom"
LAWS: dict[str, Law] = {
    one.name: one
    for one in (
        Law("law.created-told", "the response to a creation shows what was sent", _CUSTOM),
        Law("law.created-kept", "a created resource reads back as it was sent", _CUSTOM),
        Law("law.created-listed", "what was created is listed", _CUSTOM),
        Law(
            "law.default-kept",
            "what was left out reads as its declared default",
            "JSON Schema Validation, section 9.2, and custom",
        ),
        Law("law.location-leads", "Location leads to what was created", "RFC 9110, section 15.3.2"),
        Law("law.answers-agree", "two responses about the same item agree", _CUSTOM),
        Law("law.reading-changes-nothing", "reading changes nothing", "RFC 9110, section 9.2.1"),
        Law("law.changed-kept", "a changed resource reads back as it was sent", _CUSTOM),
        Law("law.same-taken", "an item can be updated with its own values", _CUSTOM),
        Law("law.changed-only", "what was not sent is not changed", _CUSTOM),
        Law(
            "law.repeat-changes-nothing",
            "a repeated PUT or DELETE changes nothing more",
            "RFC 9110, section 9.2.2",
        ),
        Law("law.revision-counts", "every change increases the revision by the same step", _CUSTOM),
        Law("law.tag-changes", "an entity tag changes when its resource changes", "RFC 9110, section 8.8.1"),
        Law(
            "law.condition-heeded",
            "a request whose precondition fails is refused with 412 and changes nothing",
            "RFC 9110, section 13.1.1",
            must=True,
        ),
        Law(
            "law.not-modified",
            "a request for a known version returns 304",
            "RFC 9110, section 13.1.2",
            must=True,
        ),
        Law(
            "law.head-as-get",
            "HEAD returns what GET returns, without a body",
            "RFC 9110, section 9.3.2",
            must=True,
        ),
        Law(
            "law.allow-told", "405 names the methods that are allowed", "RFC 9110, section 15.5.6", must=True
        ),
        Law("law.challenge-told", "401 contains a challenge", "RFC 9110, section 15.5.2", must=True),
        Law("law.deleted-gone", "what was deleted is gone", _CUSTOM),
        Law("law.deleted-only", "a deletion removes nothing else", _CUSTOM),
        Law("law.others-untouched", "changing one item changes no other item", _CUSTOM),
        Law("law.page-bounded", "a page contains at most the requested number of items", _CUSTOM),
        Law("law.pages-whole", "all pages together contain each item once", _CUSTOM),
        Law("law.total-counts", "a total equals the number of items", _CUSTOM),
        Law("law.filter-keeps", "a filter returns all matching items and nothing else", _CUSTOM),
        Law("law.sorted", "a sorted list is in order", _CUSTOM),
        Law("law.conflict-refused", "a declared conflict is refused", _CUSTOM),
        Law("law.reference-refused", "a reference to what does not exist is refused", _CUSTOM),
        Law("law.owner-checked", "an item is not found below another parent", _CUSTOM),
        Law("law.unknown-refused", "what does not exist is not found", _CUSTOM),
        Law("law.refusal-traceless", "what is refused leaves no trace", _CUSTOM),
        Law("law.refusal-as-declared", "a refusal has the declared form", _CUSTOM),
        Law("law.fault-told-truly", "a fault names the right item", _CUSTOM),
        Law("law.acting-does", "a successful action has an effect", _CUSTOM),
        Law("law.state-consistent", "the same action in the same state has the same outcome", _CUSTOM),
        Law(
            "law.job-ends",
            "a job ends and produces its result",
            "RFC 9110, section 15.3.3",
        ),
        Law("law.valid-taken", "a valid value is accepted where other valid values are", _CUSTOM),
        Law(
            "law.sign-in-asked",
            "without a valid credential nothing is returned or changed",
            "RFC 9110, section 15.5.2, and the declared security",
            must=True,
        ),
        Law("law.role-refused", "a role without the right is refused", _CUSTOM),
    )
}
