"""What a response means, in one closed set for every protocol; and what may be wrong with a request.

A protocol's own codes stay in its format. Everything above the formats asks for one of these.
"""

from __future__ import annotations

from enum import StrEnum


class Outcome(StrEnum):
    """What a response means for whoever sent the request."""

    SUCCEEDED = "succeeded"
    BEGUN = "begun"
    """Accepted, and not finished yet."""
    INVALID = "refused as invalid"
    """The request is wrong: a value, a form, a size."""
    ABSENT = "refused as absent"
    """What it names does not exist."""
    CONFLICT = "refused as a conflict"
    """The state of what it names does not allow it."""
    STALE = "refused as stale"
    """It was made for an earlier version of what it names, or does not say for which."""
    UNAUTHENTICATED = "refused as unauthenticated"
    FORBIDDEN = "refused as forbidden"
    THROTTLED = "refused as throttled"
    UNSUPPORTED = "refused as unsupported"
    """The service does not offer this: a method, a media type, a feature."""
    FAILED = "service failed"
    BUSY = "service busy"
    """The service failed for now: the same request may succeed later."""
    NO_RESPONSE = "no response"
    UNKNOWN = "unknown"
    """Neither a success, a refusal nor a failure: a redirection, an informational response."""

    @property
    def succeeded(self) -> bool:
        """Whether the service did what was asked for, or has begun to."""
        return self in _SUCCESSES

    @property
    def refused(self) -> bool:
        """Whether the service declined the request, and did not fail."""
        return self in _REFUSALS

    @property
    def failed(self) -> bool:
        """Whether the service itself failed."""
        return self in (Outcome.FAILED, Outcome.BUSY)

    @property
    def about_caller(self) -> bool:
        """Whether it is about who asks and how often, not about what is asked for."""
        return self in _ABOUT_CALLER


_SUCCESSES = frozenset((Outcome.SUCCEEDED, Outcome.BEGUN))
_ABOUT_CALLER = frozenset((Outcome.UNAUTHENTICATED, Outcome.FORBIDDEN, Outcome.THROTTLED))
_REFUSALS = _ABOUT_CALLER | {
    Outcome.INVALID,
    Outcome.ABSENT,
    Outcome.CONFLICT,
    Outcome.STALE,
    Outcome.UNSUPPORTED,
}


class Wrong(StrEnum):
    """A kind of request that a service should refuse, by what is wrong with it."""

    GONE = "gone"
    """It names what existed before and was removed."""
    UNKNOWN = "unknown"
    """It names what never existed."""
    VALUE = "broken"
    """One of its values violates the schema."""
    SYNTAX = "syntax"
    """Its body is not in the form that its media type says."""
    MEDIA = "media"
    """Its body has another media type than declared."""
    METHOD = "method"
    """Its method is declared for no operation of its address."""
    UNSIGNED = "unsigned"
    """It carries no credential, or a wrong one."""
    ROLE = "role"
    """Its role may not do this."""
    CONFLICT = "conflict"
    """The state of what it names does not allow it."""
    REFERENCE = "unknown reference"
    """One of its values refers to what does not exist."""
