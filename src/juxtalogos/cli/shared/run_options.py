"""What a run is of and how it goes: the options that `run` and `plans` share, and how a stored plan fills
them.
"""

from __future__ import annotations

import argparse
from dataclasses import fields, replace
from typing import Any

from juxtalogos.model.errors import UsageError, nearest, quoted
from juxtalogos.workspace.plans import StoredPlan
from juxtalogos.workspace.workspace import Workspace

ORDERS = ("given", "needed-first")
LISTS = ("what", "tag", "operation")
NUMBERS = ("jobs", "processes", "repeat", "seed", "pace")


def add_run_options(parser: argparse.ArgumentParser) -> None:
    """The options that a plan can hold. Those with a value are None where nobody typed them."""
    parser.add_argument("--tag", action="append", default=[], metavar="TAG", help="only cases with this tag")
    parser.add_argument(
        "--operation",
        action="append",
        default=[],
        metavar="OPERATION",
        help="only cases that call this operation",
    )
    parser.add_argument("--jobs", type=int, metavar="N", help="cases run side by side (4)")
    parser.add_argument(
        "--processes",
        type=int,
        metavar="N",
        help="distribute the cases to this many processes (1), which share the jobs",
    )
    parser.add_argument(
        "--repeat", type=int, metavar="N", help="run each case, or each row of its table, this many times"
    )
    parser.add_argument(
        "--seed",
        type=int,
        metavar="N",
        help="seed of generated values (0); the same seed gives the same values",
    )
    parser.add_argument("--pace", type=float, metavar="SECONDS", help="minimum time between two requests")
    parser.add_argument(
        "--order",
        choices=ORDERS,
        default="",
        help="needed-first: before each case those that test what it prepares with (default: as in suites)",
    )
    parser.add_argument(
        "--stop-at-first", action="store_true", help="begin no further case after one that failed"
    )
    parser.add_argument(
        "--strict", action="store_true", help="count unproven, refused and skipped cases as failed"
    )
    parser.add_argument(
        "--strict-clean",
        action="store_true",
        help="create nothing that no operation of the contract removes",
    )
    parser.add_argument(
        "--set",
        dest="settings",
        action="append",
        default=[],
        metavar="NAME=VALUE",
        help="an input of the cases",
    )


def typed_plan(args: Any) -> StoredPlan:
    """What was typed, but for the inputs."""
    told = {one.name: getattr(args, one.name) for one in fields(StoredPlan) if one.name != "inputs"}
    told |= {name: tuple(told[name]) for name in LISTS}
    told |= {name: told[name] or "" for name in ("target", "role", "order")}
    return StoredPlan(**told)


def over(typed: StoredPlan, stored: StoredPlan) -> StoredPlan:
    """A plan with what was typed in place of what it says."""
    values = {one.name: getattr(typed, one.name) for one in fields(StoredPlan)}
    unsaid: tuple[Any, ...] = (None, "", (), False, {})
    said = {
        name: value
        for name, value in values.items()
        if (value is not None if name in NUMBERS else value not in unsaid)
    }
    return replace(stored, **said)


def stored_plan(home: Workspace, name: str) -> StoredPlan:
    """A plan of the configuration. UsageError with the nearest."""
    found = home.config.plans.get(name)
    if found is None:
        mend = nearest(name, home.config.plans) or f"juxtalogos plans set {name} SUITE ..."
        raise UsageError(f"there is no plan {quoted(name)}", mend=mend)
    return found


def numbers_fit(plan: StoredPlan) -> None:
    """UsageError for a number of an option that nothing can be done with."""
    for name in ("jobs", "processes", "repeat"):
        number = getattr(plan, name)
        if number is not None and not 1 <= number <= 10_000:
            raise UsageError(f"--{name} {number}", mend=f"give a number from 1: --{name} 4")
    if plan.pace is not None and not 0 <= plan.pace <= 3600:
        raise UsageError(f"--pace {plan.pace:g}", mend="give seconds from 0 to 3600")
