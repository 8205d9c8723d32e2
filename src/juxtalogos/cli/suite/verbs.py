"""What a verb of `juxtalogos suite` is."""

from __future__ import annotations

import argparse
from collections.abc import Callable
from dataclasses import dataclass

from juxtalogos.cli.shared.options import Arguments
from juxtalogos.model.errors import UsageError
from juxtalogos.suite.document.managing import SuitePlace, place_of


class SuiteArguments(Arguments):
    """The arguments that the verbs have in common."""

    verb: str
    place: str


@dataclass(frozen=True, slots=True)
class Verb:
    """One verb: its own arguments, and what it does. The exit status comes back."""

    add_arguments: Callable[[argparse.ArgumentParser], None]
    run: Callable[..., int]
    example: str
    changes: bool = False
    """Whether it changes suites, so that `suite undo` can take it back."""
    json: bool = False
    """Whether it can print data."""


SUITE, CASE, STEP = "SUITE", "SUITE#CASE", "SUITE#CASE#STEP"


def add_place(parser: argparse.ArgumentParser, form: str, *, optional: bool = False) -> None:
    """The place that a verb is about; a step may be given by its number."""
    parser.add_argument("place", nargs="?" if optional else None, default="", metavar=form)


def case_place(text: str, command: str) -> SuitePlace:
    """A place that names a case. UsageError where it names a suite or a step."""
    place = place_of(text)
    if not place.case or place.step:
        raise UsageError(f"{text} names no case", mend=f"juxtalogos suite {command}")
    return place


def step_place(text: str, command: str) -> SuitePlace:
    """A place that names a step, or a case (which stands for its only step)."""
    place = place_of(text)
    if not place.case:
        raise UsageError(f"{text} names no step", mend=f"juxtalogos suite {command}")
    return place
