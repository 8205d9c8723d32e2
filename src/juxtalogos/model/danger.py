"""What an operation does to what a run did not make."""

from __future__ import annotations

from enum import StrEnum


class Danger(StrEnum):
    """The judgement of an operation, the least first."""

    READS = "reads"
    CREATES = "creates"
    OWN = "changes its own"
    """It changes or removes the item that it names, which may be one that the run made."""
    OTHERS = "changes others'"
    """It reaches what the run did not make: it sends to people, publishes, pays."""
    SWITCHES = "switches the service"
    """It changes how the service works for everybody: it restarts, locks, logs out, turns maintenance on."""
    DESTROYS = "destroys"
    """It removes what the run did not make: it purges, resets, empties."""

    @property
    def withheld(self) -> bool:
        """Whether it is left out unless a person asks for it."""
        return self in (Danger.OTHERS, Danger.SWITCHES, Danger.DESTROYS)
