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
        Law("law.created-told", "the answer to a creation tells what was sent", _CUSTOM),
        Law("law.created-kept", "what was created reads as it was sent", _CUSTOM),
        Law("law.created-listed", "what was created is in its list", _CUSTOM),
        Law(
            "law.default-kept",
            "what was left out reads as its declared default",
            "JSON Schema Validation, section 9.2, and custom",
        ),
        Law("law.location-leads", "Location leads to what was created", "RFC 9110, section 15.3.2"),
        Law("law.answers-agree", "two answers about the same thing tell the same", _CUSTOM),
        Law("law.reading-changes-nothing", "reading changes nothing", "RFC 9110, section 9.2.1"),
        Law("law.changed-kept", "what was changed reads as it was sent", _CUSTOM),
        Law("law.same-taken", "a new thing may be changed into what it is already", _CUSTOM),
        Law("law.changed-only", "what was not sent is not changed", _CUSTOM),
        Law(
            "law.repeat-changes-nothing",
            "a repeated PUT or DELETE changes nothing more",
            "RFC 9110, section 9.2.2",
        ),
        Law("law.revision-counts", "every change moves the revision on alike", _CUSTOM),
        Law("law.tag-changes", "an entity tag changes with what it stands for", "RFC 9110, section 8.8.1"),
        Law(
            "law.condition-heeded",
            "a condition that does not hold is answered with 412, and nothing is done",
            "RFC 9110, section 13.1.1",
            must=True,
        ),
        Law(
            "law.not-modified",
            "what is known already is answered with 304",
            "RFC 9110, section 13.1.2",
            must=True,
        ),
        Law(
            "law.head-as-get", "HEAD is answered as GET, without a body", "RFC 9110, section 9.3.2", must=True
        ),
        Law(
            "law.allow-told", "405 names the methods that are allowed", "RFC 9110, section 15.5.6", must=True
        ),
        Law("law.challenge-told", "401 tells how to sign in", "RFC 9110, section 15.5.2", must=True),
        Law("law.deleted-gone", "what was deleted is gone", _CUSTOM),
        Law("law.deleted-only", "a deletion takes nothing else away", _CUSTOM),
        Law("law.others-untouched", "what happens to one thing changes no other", _CUSTOM),
        Law("law.page-bounded", "a page holds no more than was asked for", _CUSTOM),
        Law("law.pages-whole", "all pages together are the whole, each item once", _CUSTOM),
        Law("law.total-counts", "a total counts what there is", _CUSTOM),
        Law("law.filter-keeps", "a filter gives all that has the value, and nothing else", _CUSTOM),
        Law("law.sorted", "a sorted list is in order", _CUSTOM),
        Law("law.conflict-refused", "what is declared to be refused as a conflict is refused", _CUSTOM),
        Law("law.reference-refused", "a reference to what does not exist is refused", _CUSTOM),
        Law("law.owner-checked", "a thing is not found below another than its own", _CUSTOM),
        Law("law.unknown-refused", "what does not exist is not found", _CUSTOM),
        Law("law.refusal-traceless", "what is refused leaves no trace", _CUSTOM),
        Law("law.refusal-as-declared", "a refusal of a kind comes as it is declared", _CUSTOM),
        Law("law.fault-told-truly", "a fault names what it is about", _CUSTOM),
        Law("law.acting-does", "an action that succeeds does something", _CUSTOM),
        Law("law.state-consistent", "the same action in the same state comes to the same", _CUSTOM),
        Law(
            "law.job-ends",
            "a job that was begun comes to an end, and gives what it was begun for",
            "RFC 9110, section 15.3.3",
        ),
        Law("law.valid-taken", "a valid value is taken where others are", _CUSTOM),
        Law(
            "law.sign-in-asked",
            "without a right credential nothing is told or done",
            "RFC 9110, section 15.5.2, and the declared security",
            must=True,
        ),
        Law("law.role-refused", "a role is refused where it may be", _CUSTOM),
    )
}
