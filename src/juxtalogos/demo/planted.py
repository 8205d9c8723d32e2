"""The deviations planted in the harbour's services, each with the findings it must lead to, and no others."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class Planted:
    name: str
    operation: str
    what: str
    findings: tuple[tuple[str, str], ...]
    """(finding kind, place in the exchange with indices as *)."""
    contract: str = "berths"


PLANTED: tuple[Planted, ...] = (
    Planted(
        "status", "registerVessel", "returns 200 where 201 is declared", (("status.undeclared", "status"),)
    ),
    Planted(
        "total",
        "listVessels",
        "leaves out the required header X-Total-Count",
        (("header.missing", "header.X-Total-Count"),),
    ),
    Planted("length", "getVessel", "gives the length as a text", (("body.type", "body/lengthMetres"),)),
    Planted(
        "surface", "listBerths", "has a surface outside the enumeration", (("body.enum", "body/*/surface"),)
    ),
    Planted("services", "getBerth", "lists a service twice", (("body.unique", "body/services/*"),)),
    Planted(
        "stamp",
        "announcePortCall",
        "writes announcedAt as no RFC 3339 date-time",
        (("body.format", "body/announcedAt"),),
    ),
    Planted(
        "page", "listPortCalls", "adds a property that the schema closes out", (("body.extra", "body/shard"),)
    ),
    Planted("state", "getPortCall", "leaves out the required state", (("body.required", "body/state"),)),
    Planted(
        "plain",
        "amendPortCall",
        "declares a JSON body as text/plain",
        (("media.undeclared", "header.Content-Type"),),
    ),
    Planted(
        "chatter", "withdrawPortCall", "sends a body where none is declared", (("body.unexpected", "body"),)
    ),
    Planted(
        "reference",
        "allotBerth",
        "writes a reference that does not match its pattern",
        (("body.pattern", "body/reference"),),
    ),
    Planted(
        "lines", "handleLines", "counts more lines than the maximum", (("body.range", "body/linesAshore"),)
    ),
    Planted(
        "departure",
        "closePortCall",
        "gives a departure that matches no alternative",
        (("body.branch", "body/departure"),),
    ),
    Planted(
        "gauge",
        "listTides",
        "sends a header that is no number",
        (("header.malformed", "header.X-Station-Depth"),),
    ),
    Planted("quotes", "listNotices", "returns text that is not JSON", (("media.untrue", "body"),)),
    Planted(
        "office",
        "postNotice",
        "fails with 500 on every notice",
        (("status.server-error", "status"),),
    ),
    *(
        Planted(name, operation, what, findings, "pilotage")
        for name, operation, what, findings in (
            (
                "moment",
                "planJob",
                "writes the planned moment with a blank instead of the T",
                (("body.type", "body/job/order/plannedFor"),),
            ),
            (
                "draught",
                "getJob",
                "leaves the required draught out",
                (
                    ("body.required", "body/job/order/vessel"),
                    ("body.required", "body/job/order/vessel/callSign"),
                ),
            ),
            (
                "towage",
                "listJobs",
                "gives a kind outside the enumeration",
                (("body.enum", "body/job[*]/order/kind"),),
            ),
            (
                "tugs",
                "assignTugs",
                "writes a tug's parts in the wrong order",
                (("body.required", "body/job/tug[*]/pullTonnes"), ("body.order", "body/job/tug[*]/code")),
            ),
            (
                "clerk",
                "cancelJob",
                "adds an element that no schema declares",
                (("body.extra", "body/clerk"),),
            ),
            (
                "echo",
                "reportPosition",
                "returns for a one-way message an envelope",
                (("body.unexpected", "body"),),
            ),
            (
                "envelope",
                "listPilots",
                "wraps the response in the other version's envelope",
                (("envelope.version", "body"),),
            ),
            (
                "wrapper",
                "rosterPilot",
                "returns the element of another operation",
                (("body.other", "body"),),
            ),
            (
                "depth",
                "tideGate",
                "gives a depth of more digits than allowed",
                (("body.range", "body/window[*]/depthMetres"),),
            ),
            (
                "currency",
                "quoteFee",
                "leaves out the required currency",
                (("body.required", "body/total/@currency"),),
            ),
            (
                "reasonless",
                "cancelJob",
                "sends a fault without its faultstring",
                (("fault.form", "body/Fault"),),
            ),
            (
                "numberless",
                "getJob",
                "leaves the number out of a fault's detail",
                (("body.required", "body/detail/NoSuchJob"),),
            ),
            (
                "smooth",
                "assignTugs",
                "returns 200 with a fault",
                (("status.protocol", "status"), ("criterion.unmet", "written")),
            ),
        )
    ),
    *(
        Planted(name, operation, what, findings, "registry")
        for name, operation, what, findings in (
            (
                "ensign",
                "Owners.read",
                "adds a property that the type does not declare",
                (("body.extra", "body/Ensign"),),
            ),
            (
                "mooring",
                "Owners.create",
                "does not state where the new owner is",
                (("header.missing", "header.Location"),),
            ),
            ("muster", "Owners.list", "counts wrongly", (("control.untrue", "body/@odata.count"),)),
            ("decks", "Vessels.read", "gives a decimal as a text", (("body.type", "body/Measures/Length"),)),
            (
                "rust",
                "Vessels.list",
                "has a condition outside the enumeration",
                (("body.enum", "body/value/*/Condition"),),
            ),
            ("sieve", "Vessels.list", "ignores the filter", (("option.dropped", "body/value/*"),)),
            (
                "knots",
                "Vessels.read",
                "leaves the code out of an error",
                (("body.required", "body/error/code"),),
            ),
            ("drift", "Certificates.list", "ignores the order", (("option.dropped", "body/value/*/Number"),)),
            (
                "longhand",
                "Certificates.list",
                "has texts longer than MaxLength",
                (("body.length", "body/value/*/Kind"),),
            ),
            (
                "scuttle",
                "Certificates.delete",
                "returns 200 for a deletion",
                (("status.undeclared", "status"),),
            ),
            ("haul", "Inspections.list", "sends more than $top", (("option.dropped", "body/value"),)),
            ("inline", "Inspections.read", "does not expand", (("option.dropped", "body/Vessel"),)),
            (
                "amnesia",
                "Inspections.read",
                "acknowledges a change of Minutes, and keeps the old value",
                (("change.lost", "body/Minutes"),),
            ),
            (
                "bearing",
                "Plans.read",
                "leaves the context URL out",
                (("control.untrue", "body/@odata.context"),),
            ),
        )
    ),
    *(
        Planted(name, operation, what, findings, "registry-v2")
        for name, operation, what, findings in (
            (
                "ballast",
                "Vessels.read",
                "gives a decimal as a number",
                (("body.type", "body/d/Measures/Length"), ("body.type", "body/d/Measures/Draught")),
            ),
            ("almanac", "Owners.read", "writes a date as V4 does", (("body.format", "body/d/Registered"),)),
            (
                "tally",
                "Vessels.list",
                "leaves out the count that was asked for",
                (("option.dropped", "body/d/__count"),),
            ),
            ("undated", "Owners.list", "leaves atom:updated out", (("control.untrue", "body"),)),
        )
    ),
)


HIDDEN: tuple[Planted, ...] = tuple(
    Planted(name, operation, what, findings)
    for name, operation, what, findings in (
        (
            "lax",
            "registerVessel",
            "accepts vessels longer than the maximum",
            (("request.accepted", "body/lengthMetres"),),
        ),
        (
            "stumble",
            "replaceVessel",
            "fails on an invalid agent's code",
            (("status.server-error", "status"),),
        ),
        (
            "overfull",
            "listVessels",
            "puts one more on a page than was asked for",
            (("law.page-bounded", "query.limit"),),
        ),
        (
            "tallied",
            "listVessels",
            "counts all vessels, ignoring the filter",
            (("law.total-counts", "query.kind"),),
        ),
        (
            "deaf",
            "listPortCalls",
            "ignores the state that was asked for",
            (("law.filter-keeps", "query.state"),),
        ),
        (
            "stubborn",
            "getPortCall",
            "keeps the draught that was amended",
            (("law.changed-kept", "body/draughtMetres"),),
        ),
        ("ghost", "amendPortCall", "amends a call that was withdrawn", (("law.deleted-gone", "answer"),)),
        (
            "smudge",
            "amendPortCall",
            "keeps a part of what it refuses",
            (("law.refusal-traceless", "body/arrives"),),
        ),
        (
            "eager",
            "handleLines",
            "accepts lines for a call without a berth, which is declared a conflict",
            (("law.conflict-refused", "status conflict"),),
        ),
        ("ajar", "listNotices", "shows notices without a sign-in", (("law.sign-in-asked", "status"),)),
    )
)
"""Deviations that no valid request by itself shows: exploring finds them."""


def planted_names(text: str) -> frozenset[str]:
    """`all`, `none`, or names separated by commas; ValueError for an unknown one."""
    known = [one.name for one in (*PLANTED, *HIDDEN)]
    if text == "all":
        return frozenset(known)
    names = frozenset(name.strip() for name in text.split(",") if name.strip() and text != "none")
    for name in names:
        if name not in known:
            raise ValueError(name)
    return names


def expected_findings(names: frozenset[str], contract: str = "") -> set[tuple[str, str, str]]:
    """(operation, kind, place) of every finding that these deviations must lead to; of
    one contract, or all.
    """
    return {
        (planted.operation, kind, at)
        for planted in PLANTED
        if planted.name in names and contract in ("", planted.contract)
        for kind, at in planted.findings
    }
