"""`compose`: a contract -> a suite."""

from __future__ import annotations

import argparse
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

from juxtalogos.cli.shared.compose_arguments import ComposeArguments
from juxtalogos.cli.shared.layout import counted
from juxtalogos.cli.shared.options import (
    EXIT_FAILED,
    EXIT_HELD,
    EXIT_INTERRUPTED,
    add_common,
    add_grant,
    add_identity,
    add_pace,
    add_strict_clean,
    add_target,
    terminal,
    workspace,
)
from juxtalogos.cli.shared.targeting import add_agreement, agreed
from juxtalogos.cli.shared.terminal import Terminal
from juxtalogos.compose.composer import Composed, ComposeScope, by_folder, compose
from juxtalogos.compose.dependencies import LIMIT, Finder
from juxtalogos.compose.relating import Dependency
from juxtalogos.model.contract import Contract
from juxtalogos.model.errors import ConfigError, UsageError
from juxtalogos.suite.document.history import noted
from juxtalogos.suite.document.saving import source_url
from juxtalogos.suite.document.writer import to_yaml
from juxtalogos.workspace.config import Target
from juxtalogos.workspace.files import write_whole
from juxtalogos.workspace.workspace import Workspace

if TYPE_CHECKING:
    from juxtalogos.run.learning.sending import LearningResult

DESCRIPTION = """\
Write a suite (Arazzo 1.0.1) for a contract: one case per operation with the calls that provide its
inputs, and for each resource a flow that creates, reads, updates and deletes. The same contract and
the same known values give the same file. Operations that reach more than the run creates are left
out and listed.

--learn calls the service first, with requests that only read. --learn=writing tries all operations,
reads refusals, tries other values, and removes what it created. What was learned is stored in
learned/TARGET/CONTRACT.toml and used from then on.

--dependencies lists the dependencies between operations with their reasons; juxtalogos.toml can
correct them."""
EXAMPLE = """\
  juxtalogos compose berths
  juxtalogos compose berths --learn=writing --target local
  juxtalogos compose berths --dependencies
"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "contract", nargs="?", metavar="CONTRACT", help="the contract (default: the only one)"
    )
    parser.add_argument("--dependencies", action="store_true", help="list dependencies only")
    parser.add_argument("--suite", metavar="NAME", help="the suite's name (default: the contract's)")
    parser.add_argument(
        "--folders",
        action="store_true",
        help="write several suites into a folder, one per tag or first path segment",
    )
    parser.add_argument(
        "--replace", action="store_true", help="overwrite a suite that was edited after it was composed"
    )
    parser.add_argument(
        "--learn",
        nargs="?",
        const="reading",
        default="",
        choices=("reading", "writing"),
        help="call the service first: reading requests only, or all",
    )
    parser.add_argument(
        "--budget", type=int, default=2_000, metavar="N", help="requests that learning may send (2,000)"
    )
    parser.add_argument("--only-reading", action="store_true", help="only cases that do not change anything")
    parser.add_argument(
        "--include-destructive",
        action="store_true",
        help="include operations that destroy, switch the service or reach others",
    )
    add_target(parser)
    add_agreement(parser)
    add_identity(parser)
    add_pace(parser)
    add_strict_clean(parser)
    add_grant(parser)
    add_common(parser)


def run(args: ComposeArguments) -> int:
    home, out = workspace(args), terminal(args)
    names = home.contract_names()
    if args.contract is None and len(names) != 1:
        raise UsageError(
            "name the contract", mend=", ".join(names) or "import a definition first: juxtalogos import FILE"
        )
    contract = home.contract(args.contract or names[0])
    target = _target(args, home, contract)
    lessons: LearningResult | None = None
    if args.learn and target is not None:
        from juxtalogos.cli.shared.learning import learn  # what sends is loaded only where something is sent

        lessons = learn(args, home, out, contract, target)
    hints = home.hints(contract.name, target)
    finder = Finder(contract, hints.dependencies, only_reading=args.only_reading)
    if args.dependencies:
        return _tell(out, contract, finder.found(), as_json=args.json)
    dependencies = [item for item in finder.found() if item.sure >= LIMIT]
    name = args.suite or contract.name
    path = _path(home, name)
    scope = ComposeScope(hints, args.include_destructive, args.only_reading, strict_clean=args.strict_clean)
    composed = compose(contract, dependencies, source_url(home.root, path, contract), scope, finder.resources)
    written = _write(args, home, contract, composed, name)
    if args.json:
        told: dict[str, Any] = {"version": 2, "suite": name, "path": str(written), "cases": composed.cases}
        told |= {
            "leftOut": _pairs(composed.left_out),
            "withheld": _pairs(composed.withheld),
            "lasting": composed.lasting,
            "cramped": composed.cramped,
        }
        if lessons is not None:
            from juxtalogos.cli.shared.learning import learned_data

            told["learned"] = learned_data(lessons)
        out.json(told)
    else:
        if lessons is not None:
            from juxtalogos.cli.shared.learning import show_learned

            show_learned(out, lessons, contract)
        _show(out, contract, composed, written, len(dependencies))
    if lessons is not None and lessons.interrupted:
        return EXIT_INTERRUPTED
    return EXIT_FAILED if composed.left_out else EXIT_HELD


def _pairs(found: list[tuple[str, str]]) -> list[dict[str, str]]:
    return [{"operation": operation, "reason": reason} for operation, reason in found]


def _target(args: ComposeArguments, home: Workspace, contract: Contract) -> Target | None:
    """The target of which something is, or will be, learned; None where none is meant."""
    if args.learn or args.target:
        target = home.target(args.target, [contract.name])
        return agreed(target, args.yes_to, writes=args.learn == "writing")
    try:
        return home.target(None, [contract.name]) if home.config.targets else None
    except ConfigError:  # which one is meant is not known
        return None


def _write(
    args: ComposeArguments, home: Workspace, contract: Contract, composed: Composed, name: str
) -> Path:
    """Writes the suite, or its parts in a folder; gives where."""
    documents = {name: composed.document}
    if args.folders:

        def below(one: str) -> str:
            return name + one.removeprefix(contract.name)

        found = by_folder(
            contract, composed, lambda one: source_url(home.root, _path(home, below(one)), contract)
        )
        documents = {below(one): document for one, document in found.items()}
    texts = {_path(home, one): to_yaml(document).encode() for one, document in documents.items()}
    for place, text in texts.items():
        _guard(home, place, text, args.replace)
    with noted(home, f"compose {contract.name}"):
        for place, text in texts.items():
            write_whole(place, text)
    for place, text in texts.items():
        _mark(home, place, text)
    return home.suites / name if args.folders else _path(home, name)


def _show(out: Terminal, contract: Contract, composed: Composed, written: Path, dependencies: int) -> None:
    out.line(
        "written: ",
        (written, "name"),
        f"  {counted(composed.cases, 'case')} for {counted(len(contract.operations), 'operation')}, "
        f"{dependencies} {'dependency' if dependencies == 1 else 'dependencies'}",
    )
    for operation, reason in composed.left_out:
        out.line(("left out: ", "remark"), operation, f"  {reason}")
    by_reason: dict[str, list[str]] = {}
    for operation, reason in composed.withheld:
        by_reason.setdefault(reason, []).append(operation)
    for reason, operations in by_reason.items():
        out.line(("left out: ", "remark"), _few(operations), f"  {reason}")
    if by_reason:
        out.note(("to include them: --include-destructive", "note"))
    if composed.lasting:
        out.line(
            ("lasting: ", "remark"),
            _few(composed.lasting),
            "  no operation of the contract removes what they create",
        )
    for place, room in list(composed.cramped.items())[:3]:
        told = f"only {room:,} different values" if room else "no room for unique names"
        out.line(("names: ", "remark"), place, f"  its schema leaves {told}; two runs may pick the same one")
    out.note(("next: juxtalogos run", "note"))


def _few(names: list[str], most: int = 6) -> str:
    more = f" and {len(names) - most} more" if len(names) > most else ""
    return ", ".join(names[:most]) + more


def _tell(out: Terminal, contract: Contract, dependencies: Sequence[Dependency], *, as_json: bool) -> int:
    """The dependencies that would be composed, each with its reason; then those that are but suggestions."""
    rows = [
        (
            dependency.operation,
            dependency.input,
            dependency.source,
            dependency.value,
            dependency.reason,
            dependency.sure,
        )
        for dependency in dependencies
    ]
    if as_json:
        keys = ("operation", "input", "from", "value", "reason", "sure")
        out.json(
            {"version": 2, "contract": contract.name, "dependencies": [dict(zip(keys, row)) for row in rows]}
        )
        return EXIT_HELD
    for used in (True, False):
        chosen = [(*row[:4], (row[4], "note")) for row in rows if (row[5] >= LIMIT) is used]
        if chosen and not used:
            out.line()
            out.line(
                ("suggestions that are not used", "head"),
                ("   write one you want under [[contracts.NAME.dependencies]]", "note"),
            )
        if chosen or used:
            out.table(("operation", "input", "from", "value", "reason"), chosen, styles=("name",))
    return EXIT_HELD


def _path(home: Workspace, name: str) -> Path:
    return home.suites / f"{name}.arazzo.yaml"


def _marks(state: Path) -> Path:
    return state / "composed.json"


def _guard(home: Workspace, path: Path, text: bytes, replace: bool) -> None:
    """A suite that people edited is not written over unasked."""
    if replace or not path.exists() or path.read_bytes() == text:
        return
    import hashlib

    if _known(home).get(_key(home, path)) != hashlib.sha256(path.read_bytes()).hexdigest():
        raise UsageError(
            "this suite was edited after it was composed",
            where=str(path),
            mend="give --suite NAME for another file, or --replace to overwrite it",
        )


def _mark(home: Workspace, path: Path, text: bytes) -> None:
    import hashlib
    import json

    known = {**_known(home), _key(home, path): hashlib.sha256(text).hexdigest()}
    write_whole(_marks(home.state), json.dumps(known).encode(), private=True)


def _key(home: Workspace, path: Path) -> str:
    return path.relative_to(home.suites).as_posix()


def _known(home: Workspace) -> dict[str, str]:
    """Digests of suites as they were composed, by their place below `suites/`."""
    import json

    try:
        return dict(json.loads(_marks(home.state).read_text("utf-8")))
    except (OSError, ValueError, TypeError):
        return {}
