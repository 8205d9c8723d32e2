"""Checks, their results, and findings: the table of kinds is the one place where they are named."""

from __future__ import annotations

import hashlib
import re
from dataclasses import dataclass, field
from enum import StrEnum

from juxtalogos.model.laws import LAWS
from juxtalogos.model.location import Location

FINGERPRINT_VERSION = 3
"""2: places in the definition by name or content where 1 took indices; 1 is told beside it as what it was
formerly."""


class Severity(StrEnum):
    """How much a check that did not pass weighs."""

    DEVIATION = "deviation"
    """The definition or a written check forbids it."""
    REMARK = "remark"
    """Doubtful, but nothing forbids it; steers no verdict."""
    LENIENT = "lenient"
    """What the definition does not allow was taken, which nothing forbids; steers no verdict."""
    DOUBT = "doubt"
    """A law that nobody stated is broken; steers no verdict."""


class ResultClass(StrEnum):
    """What a result that did not hold is."""

    FINDING = "finding"
    """The contract, or a MUST of its protocol, forbids what was seen."""
    EXPECTATION = "expectation"
    """A person wrote that it should be otherwise."""
    REFUSAL = "refusal"
    """A declared refusal of a request that was made up."""
    REMARK = "remark"
    """Doubtful, but nothing forbids it."""
    LENIENT = "lenient"
    """The service took what the definition does not allow."""
    DOUBT = "doubt"
    """A law that nobody stated does not hold."""


KINDS: dict[str, str] = {
    "operation.undeclared": "a request under the base URL that no operation declares",
    "status.undeclared": "the status code is not among the declared responses",
    "status.server-error": "the service failed (5xx)",
    "media.undeclared": "the media type is not declared for this status",
    "media.missing": "a body without a Content-Type",
    "media.untrue": "the body does not match its media type",
    "body.missing": "a body is declared, but the response has none",
    "body.unexpected": "no body is declared, but the response has one",
    "body.incomplete": "the body could not be read or compared completely",
    "body.type": "a value of another type",
    "body.required": "a required property is missing",
    "body.extra": "a property or item that the schema excludes",
    "body.enum": "a value outside its enumeration",
    "body.const": "a value other than the constant",
    "body.range": "a number outside its limits",
    "body.length": "a text outside its length limits",
    "body.pattern": "a text that does not match its pattern",
    "body.format": "a text that does not match its format",
    "body.count": "too few or too many items or properties",
    "body.unique": "an item occurs twice in a list of unique items",
    "body.branch": "a value matches none, or too many, of its alternatives",
    "body.dependency": "a property without another one that it requires",
    "body.name": "a property name that the schema forbids",
    "body.forbidden": "a value that the schema forbids",
    "body.direction": "a write-only property in a response",
    "body.order": "an element at the place of another one",
    "body.other": "the body contains another element than the declared one",
    "body.reference": "a reference to nothing",
    "fault.form": "a fault that is not built as the protocol requires",
    "fault.undeclared": "a fault that the operation does not declare",
    "status.protocol": "the protocol requires another status code",
    "header.missing": "a declared, required header is missing",
    "header.malformed": "a declared header does not match its schema",
    "check.unmet": "a written check failed",
    "criterion.unmet": "a written success criterion failed",
    "load.busy": "the service failed under several requests at once, and not when asked alone",
    "security.undeclared": "the service requires a credential that the definition does not declare",
    "request.refused": "a generated request met a declared refusal",
    "request.accepted": "a request that the definition does not allow succeeded",
    "answer.none": "the connection was closed without a response",
    **{law.name: f"violated: {law.told}" for law in LAWS.values()},
}
"""Every finding kind, in our own words. The part before the dot is where it was seen."""

REFUSED, ACCEPTED = "request.refused", "request.accepted"
WRITTEN_KINDS = frozenset(("check.unmet", "criterion.unmet"))
"""Kinds of what a person wrote down."""

KEYWORD_KINDS: dict[str, str] = {
    "type": "body.type",
    "nullable": "body.type",
    "required": "body.required",
    "enum": "body.enum",
    "const": "body.const",
    "minimum": "body.range",
    "maximum": "body.range",
    "exclusiveMinimum": "body.range",
    "exclusiveMaximum": "body.range",
    "multipleOf": "body.range",
    "minLength": "body.length",
    "maxLength": "body.length",
    "pattern": "body.pattern",
    "format": "body.format",
    "contentEncoding": "body.format",
    "contentMediaType": "body.format",
    "minItems": "body.count",
    "maxItems": "body.count",
    "minProperties": "body.count",
    "maxProperties": "body.count",
    "contains": "body.count",
    "minContains": "body.count",
    "maxContains": "body.count",
    "uniqueItems": "body.unique",
    "additionalProperties": "body.extra",
    "unevaluatedProperties": "body.extra",
    "additionalItems": "body.extra",
    "items": "body.extra",
    "unevaluatedItems": "body.extra",
    "oneOf": "body.branch",
    "anyOf": "body.branch",
    "not": "body.branch",
    "discriminator": "body.branch",
    "dependentRequired": "body.dependency",
    "dependencies": "body.dependency",
    "propertyNames": "body.name",
    "false": "body.forbidden",
    "writeOnly": "body.direction",
    "readOnly": "body.direction",
    "missing": "body.required",
    "undeclared": "body.extra",
    "text": "body.extra",
    "order": "body.order",
    "abstract": "body.branch",
    "xsi:type": "body.branch",
    "nillable": "body.type",
    "fixed": "body.const",
    "length": "body.length",
    "totalDigits": "body.range",
    "fractionDigits": "body.range",
    "minExclusive": "body.range",
    "maxExclusive": "body.range",
    "minInclusive": "body.range",
    "maxInclusive": "body.range",
    "enumeration": "body.enum",
    "id": "body.unique",
    "unique": "body.unique",
    "key": "body.unique",
    "keyref": "body.reference",
    "idref": "body.reference",
}
"""Which kind the deviation of a schema's keyword, facet or rule is."""

_OF_SCHEMAS = frozenset(KEYWORD_KINDS.values())
FAILURES = frozenset(("status.server-error", "answer.none"))
"""Kinds of failures of the service itself."""

OF_VALUES = frozenset(
    (
        "enumeration",
        "pattern",
        "type",
        "minInclusive",
        "maxInclusive",
        "minExclusive",
        "maxExclusive",
        "enum",
        "minimum",
        "maximum",
    )
)
"""Keywords that a single value breaks, and not its absence, its length or what lies around it."""

SIDES: dict[str, int] = {
    **dict.fromkeys(
        ("minLength", "minInclusive", "minExclusive", "minimum", "exclusiveMinimum", "minItems", "length"), -1
    ),
    **dict.fromkeys(
        ("maxLength", "maxInclusive", "maxExclusive", "maximum", "exclusiveMaximum", "maxItems"), 1
    ),
}
"""Keywords that set a limit: -1 for a lower one, 1 for an upper one."""


@dataclass(frozen=True, slots=True)
class Deviation:
    """One place where a value is not as its schema says."""

    path: str
    """JSON Pointer into the value; of XML an XPath of local names."""
    keyword: str
    location: Location
    """The keyword in the definition."""
    declared: str
    observed: str
    advisory: bool = False
    """True where the dialect only annotates (a `format` in 2020-12)."""
    undecided: bool = False
    """True where nothing is known: a pattern passed its time limit. Advisory too."""
    because: tuple[Deviation, ...] = field(default=(), compare=False)
    """Why the nearest branch failed, for `oneOf` and `anyOf`; it tells no two apart, for it may lie deep."""

    @property
    def kind(self) -> str:
        return KEYWORD_KINDS.get(self.keyword, "body.forbidden")


@dataclass(frozen=True, slots=True)
class CheckResult:
    """One comparison of declared and observed, kept whether it held or not."""

    kind: str
    held: bool
    at: str
    """Place in the exchange: `status`, `header.NAME`, `body`, `body/vessel/name`."""
    declared: str
    observed: str
    location: Location | None = None
    severity: Severity = Severity.DEVIATION
    proving: bool = True
    """Whether it could have failed on what came back."""
    detail: str = ""
    anchor: str = ""
    """The pointer of the location with its indices replaced, where it has any: it survives a reordering."""
    former: str = ""
    """The pointer that it had in fingerprints of version 2, where that named no node."""

    @property
    def is_finding(self) -> bool:
        return not self.held

    @property
    def result_class(self) -> ResultClass:
        """What it is when it did not hold."""
        if self.severity in (Severity.LENIENT, Severity.DOUBT):
            return ResultClass.LENIENT if self.severity is Severity.LENIENT else ResultClass.DOUBT
        if self.severity is Severity.REMARK:
            return ResultClass.REFUSAL if self.kind == REFUSED else ResultClass.REMARK
        return ResultClass.EXPECTATION if self.kind in WRITTEN_KINDS else ResultClass.FINDING

    @property
    def fails(self) -> bool:
        return not self.held and self.severity is Severity.DEVIATION


@dataclass(frozen=True, slots=True)
class Finding:
    """A check that did not hold, with whose it is."""

    result: CheckResult
    contract: str
    operation: str
    status: int

    @property
    def fingerprint(self) -> str:
        """Stable across runs and reorderings: no lines, observed values or message text, no index into the
        definition.

        Version 3 where version 2 had a place that does not exist; every other finding keeps version 2.
        """
        version = FINGERPRINT_VERSION if self.result.former else 2
        return self._fingerprint(version, self.result.anchor or self._pointer)

    @property
    def former_fingerprint(self) -> str:
        """As the version before made it, by which older runs and marks know it."""
        if self.result.former:
            return self._fingerprint(2, self.result.former)
        return self._fingerprint(1, self._pointer)

    @property
    def cause(self) -> tuple[str, ...]:
        """What groups findings for people to read; it never replaces the fingerprint.

        Findings of schemas are grouped by the node of the schema, whatever the names of the members of a map;
        failures of the service by operation, code and the message without its numbers; the rest by place.
        """
        result = self.result
        if result.kind == REFUSED:
            return result.kind, result.anchor
        if result.kind in FAILURES:
            return (
                result.kind,
                self.operation,
                str(self.status),
                re.sub(r"[\w-]*\d[\w-]*", "0", result.observed),
            )
        at = general_path(result.at)
        if result.location is None:
            return result.kind, self.contract, self.operation, at, result.declared
        node = result.location.document, result.anchor or result.location.pointer
        if result.kind in _OF_SCHEMAS:
            at = at.rpartition("/")[2] if result.kind == "body.required" else ""
        return result.kind, self.contract, *node, at, result.declared

    @property
    def _pointer(self) -> str:
        return self.result.location.pointer if self.result.location else ""

    def _fingerprint(self, version: int, pointer: str) -> str:
        """Indices of the value's path count as `*`."""
        document = self.result.location.document if self.result.location else ""
        parts = (
            *((self.result.result_class,) if version > 1 else ()),
            self.result.kind,
            self.contract,
            self.operation,
            self.status,
            document,
            pointer,
            general_path(self.result.at),
        )
        digest = hashlib.sha256("\x00".join(map(str, parts)).encode("utf-8", "backslashreplace")).hexdigest()
        return f"{version}:{digest[:20]}"


def general_path(at: str) -> str:
    """A value path with its indices as `*`."""
    return re.sub(r"\[\d+\]", "[*]", re.sub(r"/\d+(?=/|$)", "/*", at))
