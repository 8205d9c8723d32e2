"""`compose`: a contract -> a suite."""

from __future__ import annotations

import argparse
from collections.abc import Sequence
from pathlib import Path

from juxtalogos.cli.options import EXIT_FAILED, EXIT_HELD, Arguments, add_common, terminal, workspace
from juxtalogos.cli.terminal import Terminal
from juxtalogos.compose.composer import Scope, by_folder, compose
from juxtalogos.compose.dependencies import LIMIT, Dependency, Finder
from juxtalogos.model.contract import Contract
from juxtalogos.model.errors import UsageError
from juxtalogos.suite.document.saving import source_url
from juxtalogos.suite.document.writer import to_yaml
from juxtalogos.workspace.files import write_whole
from juxtalogos.workspace.known import NO_HINTS
from juxtalogos.workspace.workspace import Workspace

DESCRIPTION = """\
Write a suite (Arazzo 1.0.1) for everything in a contract: a case per operation with the calls that give what it
needs, and for each resource a flow that creates, reads, updates and deletes. The same contract gives the same file.
With --dependencies the dependencies between operations are listed with their reasons; juxtalogos.toml can correct them."""
EXAMPLE = """\
  juxtalogos compose berths
  juxtalogos compose berths --dependencies
  juxtalogos compose berths --folders
"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("contract", nargs="?", metavar="CONTRACT", help="the contract; the only one when left out")
    parser.add_argument("--dependencies", action="store_true", help="list dependencies only")
    parser.add_argument("--suite", metavar="NAME", help="the suite's name; the contract's when left out")
    parser.add_argument(
        "--folders",
        action="store_true",
        help="several suites in a folder, by tag or first part of the path, as the definition has them",
    )
    parser.add_argument(
        "--replace", action="store_true", help="write over a suite that was edited since it was composed"
    )
    parser.add_argument("--only-reading", action="store_true", help="only cases that change nothing")
    parser.add_argument(
        "--include-destructive",
        action="store_true",
        help="also operations that destroy what the run did not make: that empty, reset, shut down",
    )
    add_common(parser)


class _ComposeArguments(Arguments):
    contract: str | None
    dependencies: bool
    suite: str | None
    folders: bool
    replace: bool
    only_reading: bool
    include_destructive: bool


def run(args: _ComposeArguments) -> int:
    home = workspace(args)
    out = terminal(args)
    names = home.contract_names()
    if args.contract is None and len(names) != 1:
        raise UsageError(
            "name the contract", mend=", ".join(names) or "import a definition first: juxtalogos import FILE"
        )
    contract = home.contract(args.contract or names[0])
    settings = home.config.contracts.get(contract.name)
    hints = settings.hints if settings else NO_HINTS
    finder = Finder(contract, hints.dependencies)
    if args.dependencies:
        return _tell(out, contract, finder.found(), as_json=args.json)
    dependencies = [one for one in finder.found() if one.sure >= LIMIT]
    name = args.suite or contract.name
    path = _path(home, name)
    composed = compose(
        contract,
        dependencies,
        source_url(home.root, path, contract),
        Scope(hints, args.include_destructive, args.only_reading),
    )
    documents = {name: composed.document}
    if args.folders:

        def below(one: str) -> str:
            return name + one.removeprefix(contract.name)

        found = by_folder(contract, composed, lambda one: source_url(home.root, _path(home, below(one)), contract))
        documents = {below(one): document for one, document in found.items()}
    texts = {_path(home, one): to_yaml(document).encode() for one, document in documents.items()}
    for place, text in texts.items():
        _guard(home, place, text, args.replace)
    for place, text in texts.items():
        write_whole(place, text)
        _mark(home, place, text)
    written = home.suites / name if args.folders else path
    if args.json:
        left_out = [{"operation": operation, "reason": reason} for operation, reason in composed.left_out]
        out.json({"version": 1, "suite": name, "path": str(written), "cases": composed.cases, "leftOut": left_out})
    else:
        out.line(
            "written: ",
            (written, "name"),
            f"  {composed.cases} cases for {len(contract.operations)} operations, {len(dependencies)} dependencies",
        )
        for operation, reason in composed.left_out:
            out.line(("left out: ", "remark"), operation, f"  {reason}")
        out.note(("next: juxtalogos run", "note"))
    return EXIT_FAILED if composed.left_out else EXIT_HELD


def _tell(out: Terminal, contract: Contract, dependencies: Sequence[Dependency], *, as_json: bool) -> int:
    """The dependencies that would be composed, each with its reason."""
    rows = [(one.operation, one.input, one.source, one.value, one.reason) for one in dependencies]
    if as_json:
        keys = ("operation", "input", "from", "value", "reason")
        out.json({"version": 1, "contract": contract.name, "dependencies": [dict(zip(keys, row)) for row in rows]})
    else:
        out.table(
            ("operation", "input", "from", "value", "reason"),
            [(*row[:4], (row[4], "note")) for row in rows],
            styles=("name",),
        )
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
            "this suite was edited since it was composed",
            where=str(path),
            mend="give --suite NAME for another file, or --replace to write over it",
        )


def _mark(home: Workspace, path: Path, text: bytes) -> None:
    import hashlib
    import json

    known = {**_known(home), _key(home, path): hashlib.sha256(text).hexdigest()}
    write_whole(_marks(home.state), json.dumps(known).encode())


def _key(home: Workspace, path: Path) -> str:
    return path.relative_to(home.suites).as_posix()


def _known(home: Workspace) -> dict[str, str]:
    """Digests of suites as they were composed, by their place below `suites/`."""
    import json

    try:
        return dict(json.loads(_marks(home.state).read_text("utf-8")))
    except (OSError, ValueError, TypeError):
        return {}
