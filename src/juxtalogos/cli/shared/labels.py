"""Labels of runs: typed by a person, or read from the variables that pipelines set."""

from __future__ import annotations

import os
import re
from collections.abc import Iterable, Mapping

from juxtalogos.model.errors import UsageError, quoted

VARIABLES = {
    "branch": ("BRANCH_NAME", "GIT_BRANCH", "CI_COMMIT_BRANCH", "CI_COMMIT_REF_NAME"),
    "commit": ("GIT_COMMIT", "CI_COMMIT_SHA", "COMMIT_SHA"),
    "build": ("BUILD_NUMBER", "BUILD_ID", "CI_PIPELINE_ID"),
}
"""By label the variables of the environment, the first that is set counts."""
MAX_VALUE = 200
_NAME = re.compile(r"[A-Za-z][A-Za-z0-9_.-]{0,39}")


def labels_typed(words: Iterable[str]) -> tuple[tuple[str, str], ...]:
    """NAME=TEXT each. UsageError for what is none."""
    found: list[tuple[str, str]] = []
    for word in words:
        name, equals, value = word.partition("=")
        if not equals or not _NAME.fullmatch(name) or not value.strip() or len(value) > MAX_VALUE:
            raise UsageError(
                f"{quoted(word)} is no label",
                mend=f"write NAME=TEXT, such as branch=main; the text has at most {MAX_VALUE} characters",
            )
        if any(name == known for known, _ in found):
            raise UsageError(f"the label {name} is given twice", mend="give it once")
        found.append((name, " ".join(value.split())))
    return tuple(found)


def labels_of_run(
    words: Iterable[str], plan: str, environment: Mapping[str, str] = os.environ
) -> tuple[tuple[str, str], ...]:
    """The labels of a run: what was typed, the plan, and what the pipeline says of the rest."""
    found = dict(labels_typed(words))
    if plan:
        found.setdefault("plan", plan)
    for name, variables in VARIABLES.items():
        told = next((environment[one] for one in variables if environment.get(one, "").strip()), "")
        if told:
            found.setdefault(name, " ".join(told.split())[:MAX_VALUE])
    return tuple(found.items())


def shown(labels: Iterable[tuple[str, str]]) -> str:
    """Labels for a person, without the digests of definitions."""
    return " ".join(f"{name}={value}" for name, value in labels if not name.startswith("definition."))
