"""The target of a command: told before anything is sent; what changes something at a guarded one is sent only
after somebody agreed to it.
"""

from __future__ import annotations

import argparse
from collections.abc import Mapping
from dataclasses import replace

from juxtalogos.cli.shared.confirming import confirmed
from juxtalogos.cli.shared.terminal import Terminal
from juxtalogos.model.contract import Contract
from juxtalogos.model.errors import UsageError, quoted
from juxtalogos.workspace.config import GIVEN, Target


def add_agreement(parser: argparse.ArgumentParser) -> None:
    """The option that says yes without being asked."""
    parser.add_argument(
        "--yes-to",
        default="",
        metavar="TARGET",
        help="send what changes something to this guarded target without asking",
    )


def show_target(out: Terminal, target: Target, contracts: Mapping[str, Contract]) -> None:
    """Where requests are about to go."""
    urls = dict.fromkeys(target.base_url(contract) for contract in contracts.values())
    name = "" if target.name == GIVEN else f"{target.name}   "
    out.note(("target ", "note"), (name, "name"), ("  ".join(urls), "note"))


def agreed(target: Target, yes_to: str, *, writes: bool) -> Target:
    """The target, no longer guarded where a person agreed. UsageError where nobody did, or to another one."""
    if yes_to and yes_to != (target.guarded or target.name):
        raise UsageError(
            f"--yes-to names {quoted(yes_to)}, and the target is {target.guarded or target.name}",
            mend=f"--yes-to {target.guarded or target.name}, or --target {yes_to}",
        )
    if not target.guarded or not writes:
        return target
    question = f"{target.guarded} is guarded: may this change something there?"
    if not yes_to and not confirmed(question):
        raise UsageError(
            f"the target {target.guarded} is guarded, and this may change something there; nothing was sent",
            mend=f"--yes-to {target.guarded}",
        )
    return replace(target, guarded="")
