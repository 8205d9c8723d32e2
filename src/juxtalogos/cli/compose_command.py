"""`compose`: a contract -> a suite."""

from __future__ import annotations

import argparse
from pathlib import Path

from juxtalogos.cli.options import EXIT_FAILED, EXIT_HELD, Arguments, add_common, terminal, workspace
from juxtalogos.model.errors import UsageError
from juxtalogos.suite.compose import compose
from juxtalogos.suite.dependencies import find_dependencies
from juxtalogos.suite.save import source_url
from juxtalogos.suite.write import to_yaml
from juxtalogos.workspace.files import write_whole

DESCRIPTION = """\
Write a suite (Arazzo 1.0.1) for everything in a contract: a case per operation with the calls that give what it
needs, and for each resource a flow that creates, reads, updates and deletes. The same contract gives the same file.
With --dependencies the dependencies between operations are listed with their reasons; juxtalogos.toml can correct them."""
EXAMPLE = """\
  juxtalogos compose berths
  juxtalogos compose berths --dependencies
"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("contract", nargs="?", metavar="CONTRACT", help="the contract; the only one when left out")
    parser.add_argument("--dependencies", action="store_true", help="list dependencies only")
    parser.add_argument("--suite", metavar="NAME", help="the suite's name; the contract's when left out")
    parser.add_argument(
        "--replace", action="store_true", help="write over a suite that was edited since it was composed"
    )
    add_common(parser)


class _ComposeArguments(Arguments):
    contract: str | None
    dependencies: bool
    suite: str | None
    replace: bool


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
    dependencies = find_dependencies(contract, settings.dependencies if settings else ())
    if args.dependencies:
        if args.json:
            rows = [
                {
                    "operation": one.operation,
                    "input": one.input,
                    "from": one.source,
                    "value": one.value,
                    "reason": one.reason,
                }
                for one in dependencies
            ]
            out.json({"version": 1, "contract": contract.name, "dependencies": rows})
        else:
            out.table(
                ("operation", "input", "from", "value", "reason"),
                [(one.operation, one.input, one.source, one.value, (one.reason, "note")) for one in dependencies],
                styles=("name",),
            )
        return EXIT_HELD
    name = args.suite or contract.name
    path = home.suites / f"{name}.arazzo.yaml"
    composed = compose(contract, dependencies, source_url(home.root, path, contract))
    text = to_yaml(composed.document).encode()
    _guard(path, text, args.replace)
    write_whole(path, text)
    _mark(home.state, path, text)
    if args.json:
        left_out = [{"operation": operation, "reason": reason} for operation, reason in composed.left_out]
        out.json({"version": 1, "suite": name, "path": str(path), "cases": composed.cases, "leftOut": left_out})
    else:
        out.line(
            "written: ",
            (path, "name"),
            f"  {composed.cases} cases for {len(contract.operations)} operations, {len(dependencies)} dependencies",
        )
        for operation, reason in composed.left_out:
            out.line(("left out: ", "remark"), operation, f"  {reason}")
        out.note(("next: juxtalogos run", "note"))
    return EXIT_FAILED if composed.left_out else EXIT_HELD


def _marks(state: Path) -> Path:
    return state / "composed.json"


def _guard(path: Path, text: bytes, replace: bool) -> None:
    """A suite that people edited is not written over unasked."""
    if replace or not path.exists() or path.read_bytes() == text:
        return
    import hashlib
    import json

    try:
        known = json.loads(_marks(path.parents[1] / ".juxtalogos").read_text("utf-8")).get(path.name)
    except (OSError, ValueError, AttributeError):
        known = None
    if known != hashlib.sha256(path.read_bytes()).hexdigest():
        raise UsageError(
            "this suite was edited since it was composed",
            where=str(path),
            mend="give --suite NAME for another file, or --replace to write over it",
        )


def _mark(state: Path, path: Path, text: bytes) -> None:
    import hashlib
    import json

    try:
        known = dict(json.loads(_marks(state).read_text("utf-8")))
    except (OSError, ValueError, TypeError):
        known = {}
    known[path.name] = hashlib.sha256(text).hexdigest()
    write_whole(_marks(state), json.dumps(known).encode())
