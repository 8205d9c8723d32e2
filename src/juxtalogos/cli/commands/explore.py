"""`explore`: requests of our own, what must come back, and laws over several exchanges."""

from __future__ import annotations

import argparse
import fnmatch
import re
import secrets
import time
from collections.abc import Iterable
from dataclasses import replace
from pathlib import Path
from typing import Any

from juxtalogos.cli.shared.explored import covered_by, explored_data, show_explored, status_of
from juxtalogos.cli.shared.options import (
    Arguments,
    add_common,
    add_full,
    add_grant,
    add_identity,
    add_pace,
    add_remarks,
    add_strict_clean,
    add_target,
    header_field,
    terminal,
    workspace,
)
from juxtalogos.cli.shared.summary import formats_said
from juxtalogos.cli.shared.targeting import add_agreement, agreed, show_target
from juxtalogos.explore.exploration import Exploration, Wishes, explore
from juxtalogos.explore.prober.budget import Budget
from juxtalogos.explore.reporting.saving import Kept
from juxtalogos.ledger import open_ledger
from juxtalogos.model.contract import Contract
from juxtalogos.model.errors import UsageError, nearest, quoted
from juxtalogos.report.view import run_view
from juxtalogos.run.engine.loop import run_loop
from juxtalogos.run.target.session import Identity, Session, open_session
from juxtalogos.suite.document.reader import ENDINGS
from juxtalogos.suite.document.saving import source_url
from juxtalogos.suite.document.writer import document_of, to_yaml
from juxtalogos.workspace.files import write_whole
from juxtalogos.workspace.trust import Grant, Trust
from juxtalogos.workspace.workspace import Workspace

DESCRIPTION = """\
Generate requests and look for faults that a suite of valid requests cannot find: valid requests that
cover the definition, requests that violate one of its rules, laws over several exchanges (a created
item can be read, a deleted one is gone, pages are complete), sign-in, and sequences of states.

What explore creates it removes again. Every exchange is stored in the ledger as a run; an interrupt
keeps what was done.

Results are reported in classes: findings (the definition or its protocol forbids it), lenient (the
service accepted what the definition does not allow), and doubts (a law is violated that the
definition does not state). A doubt does not fail the run until you adopt it."""
EXAMPLE = """\
  juxtalogos explore berths --target local
  juxtalogos explore announcePortCall closePortCall --seconds 60
  juxtalogos explore --only-reading --leave-out 'tideTable=slow by nature'
"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "what",
        nargs="*",
        metavar="CONTRACT or OPERATION",
        help="what to explore (default: every contract)",
    )
    add_target(parser)
    add_agreement(parser)
    add_identity(parser)
    budget = parser.add_argument_group("budgets")
    budget.add_argument(
        "--seconds", type=float, default=600.0, metavar="N", help="stop after this time (600)"
    )
    budget.add_argument(
        "--requests", type=int, default=20_000, metavar="N", help="requests in total (20,000)"
    )
    budget.add_argument("--each", type=int, default=500, metavar="N", help="requests per operation (500)")
    budget.add_argument("--failures", type=int, default=0, metavar="N", help="stop after this many findings")
    budget.add_argument(
        "--weight",
        action="append",
        default=[],
        metavar="OPERATION=FACTOR",
        help="give an operation, or a pattern of operations, a larger or smaller share",
    )
    parser.add_argument(
        "--leave-out",
        action="append",
        default=[],
        metavar="OPERATION=REASON",
        help="do not explore an operation, or a pattern of them",
    )
    parser.add_argument("--only-reading", action="store_true", help="send only requests that read")
    parser.add_argument("--seed", type=int, default=0, metavar="N", help="seed of generated values (0)")
    parser.add_argument(
        "--token",
        default="",
        metavar="TEXT",
        help=(
            "base of unique names (default: random); the same seed, token and state of the "
            "service give the same requests"
        ),
    )
    parser.add_argument(
        "--save",
        default="",
        metavar="SUITE",
        help="write findings and successful requests as a suite",
    )
    add_pace(parser)
    add_strict_clean(parser)
    add_grant(parser)
    add_remarks(parser)
    add_full(parser)
    add_common(parser)


class ExploreArguments(Arguments):
    what: list[str]
    target: str | None
    yes_to: str
    no_credentials: bool
    role: str
    credential: list[str]
    header: list[str]
    seconds: float
    requests: int
    each: int
    failures: int
    weight: list[str]
    leave_out: list[str]
    only_reading: bool
    seed: int
    token: str
    save: str
    pace: float
    strict_clean: bool
    trust: str
    sends: list[str]
    no_remarks: bool
    full: bool


def run(args: ExploreArguments) -> int:
    home, out = workspace(args), terminal(args)
    chosen = chosen_operations(home, args.what)
    contracts = {name: home.contract(name) for name in chosen}
    if args.save:
        _may_save(args, home, contracts)
    session = _session(args, home, contracts)
    wishes = _wishes(args, home, session, contracts, chosen)
    show_target(out, session.target, session.contracts)
    with open_ledger(home.ledger_path, write=True) as ledger:
        done = _explored(args, home, out, session, wishes, ledger)
        view = run_view(ledger, done.number, session.contracts, remarks=not args.no_remarks)
        left = len(ledger.undone(done.number))
        covered = {name: covered_by(ledger, contracts[name], done.number) for name in done.explored}
    saved = _saved(args, home, done, contracts) if args.save else {}
    tolerant = {name for name in contracts if _inputs(home, name) == "tolerant"}
    if args.json:
        out.json(explored_data(view, done, left, covered))
    else:
        show_explored(out, view, done, left, covered, full=args.full, formats_said=formats_said(home))
        if not any(visit.worked for visit in done.explored.values()):
            wanted = next(
                (
                    scheme
                    for contract in contracts.values()
                    for operation in contract.operations
                    for scheme in session.unmet(contract, operation)
                ),
                "",
            )
            if wanted:
                out.line(
                    (f"sent without a credential for {wanted}: ", "remark"), session.sign_in_command(wanted)
                )
        for path, kept in saved.items():
            unsaid = (
                f"; {kept.unsaved} findings cannot be written as a case and are left out"
                if kept.unsaved
                else ""
            )
            out.line(
                ("written: ", "held"),
                f"{path}  {len(kept.cases)} cases{unsaid}",
                (
                    f"   juxtalogos run {path.relative_to(home.suites).as_posix().removesuffix(ENDINGS[0])}",
                    "note",
                ),
            )
    return status_of(view, done, tolerant)


def _explored(
    args: ExploreArguments, home: Workspace, out: Any, session: Session, wishes: Wishes, ledger: Any
) -> Exploration:
    what = f"explore {' '.join(args.what) or ' '.join(session.contracts)}"
    roles = tuple(session.target.roles)
    with out.progress("requests", min(args.requests, wishes.budget.requests)) as moved:
        return run_loop(
            explore(
                session, home.root, ledger, wishes, roles, what, lambda one: moved(one.requests, str(one))
            )
        )


def _saved(
    args: ExploreArguments, home: Workspace, done: Exploration, contracts: dict[str, Contract]
) -> dict[Path, Kept]:
    """By file written, what it has; a suite of its own for each contract where there are several."""
    found = {}
    for name, one in done.explored.items():
        if one.kept is None or not one.kept.cases:
            continue
        path = home.suites / f"{args.save if len(done.explored) == 1 else f'{args.save}-{name}'}{ENDINGS[0]}"
        document = document_of(
            contracts[name], source_url(home.root, path, contracts[name]), list(one.kept.cases.values())
        )
        document["info"]["title"] = f"{name}: what exploring found"
        write_whole(path, to_yaml(document).encode())
        found[path] = one.kept
    return found


def _may_save(args: ExploreArguments, home: Workspace, names: Iterable[str]) -> None:
    """UsageError before anything is sent, where a suite of that name is there already."""
    if not re.fullmatch(r"[A-Za-z0-9_\-]+(/[A-Za-z0-9_\-]+)*", args.save):
        raise UsageError(f"{quoted(args.save)} is no name of a suite", mend="write one such as --save found")
    for name in (args.save, *(f"{args.save}-{word}" for word in names)):
        path = home.suites / f"{name}{ENDINGS[0]}"
        if path.exists():
            raise UsageError(
                f"the suite {name} exists already",
                where=str(path),
                mend=f"give another name, or remove it: juxtalogos suite remove {name}",
            )


def chosen_operations(home: Workspace, words: list[str]) -> dict[str, frozenset[str]]:
    """By contract, the operations that are meant. UsageError for a word that means nothing."""
    names = home.contract_names()
    if not names:
        raise UsageError("there is no contract", mend="import a definition first: juxtalogos import FILE")
    found: dict[str, set[str]] = {}
    for word in words or names:
        contract_name, colon, operation_id = word.partition(":")
        if word in names:
            found.setdefault(word, set()).update(candidate.id for candidate in home.contract(word).operations)
            continue
        candidates = [contract_name] if colon and contract_name in names else names
        wanted = operation_id if colon and contract_name in names else word
        hits = [
            (name, candidate.id)
            for name in candidates
            for candidate in home.contract(name).operations
            if fnmatch.fnmatchcase(candidate.id, wanted)
        ]
        if not hits:
            known = [
                *names,
                *(candidate.id for name in names for candidate in home.contract(name).operations),
            ]
            raise UsageError(
                f"no contract and no operation is called {quoted(word)}", mend=nearest(word, known)
            )
        for name, operation in hits:
            found.setdefault(name, set()).add(operation)
    return {name: frozenset(ids) for name, ids in found.items()}


def _session(args: ExploreArguments, home: Workspace, contracts: dict[str, Contract]) -> Session:
    target = agreed(home.target(args.target, contracts), args.yes_to, writes=not args.only_reading)
    grant = Grant.of(args.trust, tuple(args.sends))
    if target.system:
        Trust(home.root, grant).require_commands()
    session = open_session(
        contracts,
        target,
        home.root,
        with_credentials=not args.no_credentials,
        config=home.config,
        seed=args.seed,
        now=time.time(),
        identity=Identity(args.role, tuple(args.credential), tuple(map(header_field, args.header))),
        roles=target.roles,
        grant=grant,
    )
    for contract in contracts.values():
        session.base_url(contract)
    if args.pace:
        session = replace(session, options=replace(session.options, pace=max(0.0, args.pace)))
    return session


def _wishes(
    args: ExploreArguments,
    home: Workspace,
    session: Session,
    contracts: dict[str, Contract],
    chosen: dict[str, frozenset[str]],
) -> Wishes:
    left_out: dict[str, dict[str, str]] = {}
    for pattern, reason in map(_pair, args.leave_out):
        for name, operation in _matching(contracts, pattern):
            left_out.setdefault(name, {})[operation] = f"left out: {reason}"
    weights = {
        match: _number(factor)
        for pattern, factor in map(_pair, args.weight)
        for match in _matching(contracts, pattern)
    }
    budget = Budget(
        max(1, args.requests),
        max(1, args.each),
        max(0.1, args.seconds),
        max(0, args.failures),
        weights=weights,
    )
    config = home.config.contracts
    return Wishes(
        chosen,
        budget,
        args.seed,
        args.token or secrets.token_hex(4),
        args.only_reading,
        {name: home.hints(name, session.target) for name in contracts},
        left_out,
        {name: config[name].adopted for name in contracts if name in config},
        frozenset(name for name in contracts if _inputs(home, name) == "enforced"),
        saving=bool(args.save),
        strict_clean=args.strict_clean,
    )


def _matching(contracts: dict[str, Contract], pattern: str) -> list[tuple[str, str]]:
    """(contract, operation) of those that a pattern means. UsageError where it means none."""
    known = [
        (name, candidate.id) for name, contract in contracts.items() for candidate in contract.operations
    ]
    found = [(name, operation) for name, operation in known if fnmatch.fnmatchcase(operation, pattern)]
    if not found:
        raise UsageError(
            f"there is no operation {quoted(pattern)}", mend=nearest(pattern, [one for _, one in known])
        )
    return found


def _inputs(home: Workspace, name: str) -> str:
    settings = home.config.contracts.get(name)
    return settings.inputs if settings else ""


def _pair(text: str) -> tuple[str, str]:
    name, equals, value = text.partition("=")
    if not equals or not name or not value.strip():
        raise UsageError(f"{quoted(text)} has no '='", mend="write OPERATION=TEXT")
    return name, value.strip()


def _number(text: str) -> float:
    try:
        return max(0.0, float(text))
    except ValueError:
        raise UsageError(f"{quoted(text)} is no number", mend="write --weight OPERATION=2") from None
