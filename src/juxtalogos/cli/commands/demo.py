"""`demo`: the whole walk on the harbour's data."""

from __future__ import annotations

import argparse
import os
import shlex
import shutil
import tempfile
import threading
from importlib import resources
from pathlib import Path

from juxtalogos.cli.shared.options import EXIT_FAILED, EXIT_HELD, Arguments, add_common, terminal
from juxtalogos.cli.shared.terminal import Terminal
from juxtalogos.demo.planted import HIDDEN, PLANTED, Planted, expected_findings, planted_names
from juxtalogos.demo.server import KEY, base_url, make_server
from juxtalogos.model.errors import UsageError, nearest
from juxtalogos.model.findings import general_path

DESCRIPTION = """\
Start the services of the Port of Merrow on a loopback port: berths (OpenAPI), pilotage (WSDL and
SOAP) and registry (OData V4 and V2). Run import, show, call, compose, run, explore, coverage and
report in a temporary workspace, and compare the findings with the deviations planted in the services.

exit status: 0 the findings are exactly the planted ones; 1 they are not."""
EXAMPLE = """\
  juxtalogos demo
  juxtalogos demo --deviations none
  juxtalogos demo --serve --port 8480
"""
_KEY_VARIABLE = "MERROW_KEY"
_FILES = ("berths.yaml",)
_CONTRACTS = ("berths", "pilotage", "registry", "registry-v2")


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "--deviations",
        default="all",
        metavar="NAMES",
        help="planted deviations to switch on: all, none, or names separated by commas",
    )
    parser.add_argument("--list", action="store_true", help="list the planted deviations")
    parser.add_argument("--serve", action="store_true", help="only start the services, until interrupted")
    parser.add_argument(
        "--port", type=int, default=0, metavar="N", help="the port of the services (default: any free one)"
    )
    parser.add_argument(
        "--into", type=Path, metavar="DIR", help="create the workspace here instead of in a temporary folder"
    )
    add_common(parser, json=False)


class _DemoArguments(Arguments):
    deviations: str
    list: bool
    serve: bool
    port: int
    into: Path | None


def run(args: _DemoArguments) -> int:
    out = terminal(args)
    try:
        odd = planted_names(args.deviations)
    except ValueError as error:
        raise UsageError(
            f"there is no planted deviation {str(error)!r}",
            mend=nearest(str(error), [one.name for one in (*PLANTED, *HIDDEN)]),
        ) from None
    if args.list:
        out.table(
            ("deviation", "contract", "operation", "what the service does", "finding"),
            [
                (one.name, one.contract, one.operation, one.what, one.findings[0][0])
                for one in (*PLANTED, *HIDDEN)
            ],
            styles=("name",),
        )
        return EXIT_HELD
    try:
        server = make_server(args.port, odd)
    except OSError as error:
        raise UsageError(
            f"the port {args.port} cannot be used: {error.strerror}", mend="give another with --port"
        ) from None
    if args.serve:
        out.line(
            "serving ",
            (base_url(server), "name"),
            ", ",
            (base_url(server, "pilotage"), "name"),
            ", ",
            (base_url(server, "registry"), "name"),
            " and ",
            (base_url(server, "registry-v2"), "name"),
            f" with {len(odd)} deviations; the harbour key is {KEY}; stop with Ctrl-C",
        )
        out.out.file.flush()
        try:
            server.serve_forever()
        except KeyboardInterrupt:
            server.server_close()
        return EXIT_HELD
    threading.Thread(target=server.serve_forever, daemon=True).start()
    try:
        return _walk(out, args, odd, {name: base_url(server, name) for name in _CONTRACTS})
    finally:
        server.shutdown()
        server.server_close()


def _walk(out: Terminal, args: _DemoArguments, odd: frozenset[str], urls: dict[str, str]) -> int:
    folder = args.into or Path(tempfile.mkdtemp(prefix="juxtalogos-demo-"))
    definitions = Path(tempfile.mkdtemp(prefix="juxtalogos-definition-"))
    for name in _FILES:
        (definitions / name).write_bytes(resources.files("juxtalogos.demo").joinpath(name).read_bytes())
    os.environ.setdefault(_KEY_VARIABLE, KEY)
    try:
        _steps(out, folder, definitions / "berths.yaml", urls["berths"])
        found = _found(folder)
        words = "Explore: requests that violate a rule, laws over several exchanges, sign-in, sequences."
        _say(out, words, ["explore", "berths", "--token", "harbour", "-C", str(folder)])
        explored = _found(folder)
        _second_service(out, folder, urls["pilotage"])
        found |= _found(folder)
        _data_service(out, folder, urls["registry"])
        found |= _found(folder)
        _older_face(out, folder, urls["registry-v2"])
        found |= _found(folder)
    finally:
        shutil.rmtree(definitions, ignore_errors=True)
    return _compare(out, folder, odd, found, explored)


def _steps(out: Terminal, folder: Path, definition: Path, url: str) -> None:
    place = ["-C", str(folder)]
    _say(out, "Create a workspace for definitions, suites and the ledger of runs.", ["init", str(folder)])
    _say(
        out,
        "Import the definition. Faults would be listed here with their lines.",
        ["import", str(definition), *place],
    )
    _say(
        out,
        "Set the base URL. Servers that a definition names are never called on their own.",
        ["targets", "set", "quayside", url, *place],
    )
    words = (
        "Two operations require a credential. Only its place is stored, never the "
        "secret; it is sent to this target only."
    )
    _say(
        out, words, ["targets", "set", "quayside", "--credential", f"harbourKey=env:{_KEY_VARIABLE}", *place]
    )
    _say(out, "Show the operations of the contract.", ["show", "berths", *place])
    _say(
        out,
        "Call one operation with sample values and judge the response.",
        ["call", "getBerth", *place],
    )
    _say(
        out,
        "List how operations depend on one another, with the reasons.",
        ["compose", "berths", "--dependencies", *place],
    )
    _say(
        out,
        "Write a suite: a case per operation and a flow per resource.",
        ["compose", "berths", *place],
    )
    _say(out, "Run the suite. Every exchange is judged and stored.", ["run", "berths", *place])
    _say(out, "Show how much of the definition the run exercised.", ["coverage", *place])
    _say(out, "Write the report: one HTML file, and JUnit XML for pipelines.", ["report", *place])
    _say(out, "", ["report", "--form", "junit", *place])


def _second_service(out: Terminal, folder: Path, url: str) -> None:
    place = ["-C", str(folder)]
    _say(
        out,
        "The second service uses SOAP. The same command imports its WSDL from its URL.",
        ["import", f"{url}?wsdl", *place],
    )
    _say(out, "", ["targets", "set", "quayside", url, "--contract", "pilotage", *place])
    _say(
        out,
        "",
        ["targets", "set", "quayside", "--credential", f"token=night desk:env:{_KEY_VARIABLE}", *place],
    )
    _say(out, "Show its operations with service, port, version and style.", ["show", "pilotage", *place])
    _say(
        out,
        ("Call one: inputs by address, sent in the order of the schema, with a WS-Security token."),
        ["call", "planJob", "--set", "body/order/vessel/name=Tern", "--set", "body/order/tugs=2", *place],
    )
    words = (
        "The name of tideGate does not say what it does, so compose would leave it out. "
        "A rule says that it reads."
    )
    _say(out, words, ["rules", "tideGate", "--does", "read", *place])
    _say(
        out,
        ("Write its suite: values are linked by type and name, declared faults are provoked."),
        ["compose", "pilotage", *place],
    )
    _say(out, "", ["run", "pilotage", *place])
    _say(out, "Show its coverage: elements, attributes, choices, nil and faults.", ["coverage", *place])
    _say(out, "", ["report", *place])


def _data_service(out: Terminal, folder: Path, url: str) -> None:
    place = ["-C", str(folder)]
    words = "The third service uses OData: its root leads to the metadata, and entity sets become operations."
    _say(out, words, ["import", url, *place])
    _say(out, "", ["targets", "set", "quayside", url, "--contract", "registry", *place])
    words = "Write a request for a new entity with its parts (deep insert)."
    _say(out, words, ["skeleton", "Inspections.create", "--full", *place])
    words = "Query options are inputs, and the response is compared with what they ask for."
    _say(
        out,
        words,
        [
            "call",
            "Vessels.list",
            "--set",
            "$filter=Condition eq Merrow.Registry.Condition'Sound'",
            "--set",
            "$count=true",
            *place,
        ],
    )
    words = (
        "Keys and entity tags flow along the metadata; each query option is tried by itself; actions,"
        " functions, batches."
    )
    _say(out, words, ["compose", "registry", *place])
    _say(out, "", ["run", "registry", *place])
    _say(out, "Query options and navigation count as covered or not.", ["coverage", *place])
    _say(out, "", ["report", *place])


def _older_face(out: Terminal, folder: Path, url: str) -> None:
    place = ["-C", str(folder)]
    _say(
        out,
        "The same registry as it was spoken to before: OData V2, JSON and Atom.",
        ["import", url, "--name", "registry-v2", *place],
    )
    _say(out, "", ["targets", "set", "quayside", url, "--contract", "registry-v2", *place])
    _say(out, "", ["compose", "registry-v2", *place])
    _say(out, "", ["run", "registry-v2", *place])
    _say(out, "", ["report", *place])


def _say(out: Terminal, words: str, command: list[str]) -> None:
    from juxtalogos.cli.main import main

    shown = shlex.join(command)
    if words:
        out.line()
        out.line((words, "note"))
    out.line(("$ juxtalogos " + shown, "head"))
    out.out.file.flush()
    status = main([*command, "-q"])
    if status not in (0, 1):
        raise UsageError(
            f"the demo stopped: `juxtalogos {shown}` ended with status {status}",
            mend="see what it said above; give another folder with --into",
        )


def _found(folder: Path) -> set[tuple[str, str, str]]:
    """(operation, kind, place) of what the last run found."""
    from juxtalogos.ledger import open_ledger

    with open_ledger(folder / ".juxtalogos" / "ledger.sqlite") as ledger:
        return {
            (told.finding.operation, told.finding.result.kind, general_path(told.finding.result.at))
            for told in ledger.findings(ledger.run().id)
        }


def _compare(
    out: Terminal,
    folder: Path,
    odd: frozenset[str],
    found: set[tuple[str, str, str]],
    explored: set[tuple[str, str, str]],
) -> int:
    expected = expected_findings(odd)
    out.line()
    out.line(("Planted deviations and what was found", "head"))
    rows = [_row(planted, found) for planted in PLANTED if planted.name in odd]
    if rows:
        out.table(("", "operation", "planted", "finding"), rows)
    hidden = [planted for planted in HIDDEN if planted.name in odd]
    if hidden:
        out.line()
        out.line(("Planted deviations that only explore can find", "head"))
        out.table(("", "operation", "planted", "finding"), [_row(entry, explored) for entry in hidden])
    for operation, kind, at in sorted(found - expected):
        out.line(("not planted, yet found: ", "deviation"), f"{operation} {kind} at {at}")
    told = {
        (operation, kind, at)
        for operation, kind, at in explored
        if kind != "request.refused" and not kind.endswith(".undeclared")
    }
    for operation, kind, at in sorted(told) if not odd else ():
        out.line(("nothing is planted, yet exploring found: ", "deviation"), f"{operation} {kind} at {at}")
    missed = len(expected - found) + sum(not _hit(entry, explored) for entry in hidden)
    many = len(found - expected) + (len(told) if not odd else 0)
    total = f"{len(odd)} planted, {missed} findings missed, {many} too many"
    out.line((total, "held" if not missed and not many else "deviation"))
    for page in sorted((folder / "reports").glob("run-*.html")):
        out.line("the report: ", (page, "name"))
    return EXIT_HELD if not missed and not many else EXIT_FAILED


def _hit(one: Planted, found: set[tuple[str, str, str]]) -> bool:
    return all((one.operation, kind, at) in found for kind, at in one.findings)


def _row(one: Planted, found: set[tuple[str, str, str]]) -> tuple[object, ...]:
    mark = ("found", "held") if _hit(one, found) else ("missed", "deviation")
    return mark, one.operation, one.what, one.findings[0][0]
