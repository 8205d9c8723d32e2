"""`import`: a definition -> a contract."""

from __future__ import annotations

import argparse
import getpass
import re
import sys
from collections import Counter
from urllib.parse import urlsplit

from juxtalogos.cli.shared.options import (
    EXIT_FAILED,
    EXIT_HELD,
    EXIT_UNUSABLE,
    Arguments,
    add_common,
    add_credential,
    add_grant,
    header_field,
    terminal,
    workspace,
)
from juxtalogos.documents.positions import position
from juxtalogos.model.contract import Contract, DefinitionFault
from juxtalogos.model.errors import UsageError, quoted
from juxtalogos.model.location import Position
from juxtalogos.workspace.changes import changes
from juxtalogos.workspace.config import check_url
from juxtalogos.workspace.importing import Imported, catalogue, keep, other_source, read_again, read_source
from juxtalogos.workspace.remote import Access
from juxtalogos.workspace.secrets import CredentialSource, credential_source
from juxtalogos.workspace.trust import Grant, Trust
from juxtalogos.workspace.workspace import Workspace

DESCRIPTION = """\
Import a definition (OpenAPI 2.0, 3.0 or 3.1, WSDL 1.1, OData metadata; JSON, YAML or XML) with all
documents that it refers to. SOURCE is a file, a folder, a zip archive, a URL, or a catalogue
(RFC 9727). Every fault is listed with its line and its remedy; sound operations are kept.

--refresh reads the source of a contract again and reports what changed. References over the network
are followed to the source's own origin only, unless you allow others. Secrets are named as env:NAME,
file:PATH or keyring:SERVICE/NAME and never stored.

exit status: 0 no faults; 1 faults were found, sound operations are kept; 2 nothing can be used."""
EXAMPLE = """\
  juxtalogos import berths.yaml
  juxtalogos import definitions/ --root api/main.yaml --name berths
  juxtalogos import https://merrow.example/berths.yaml --credential basic=office:env:OFFICE_PASSWORD
  juxtalogos import --refresh berths
"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "source",
        nargs="?",
        default="",
        metavar="SOURCE",
        help="a file, folder, zip archive, URL or catalogue; with --refresh a contract",
    )
    parser.add_argument("--name", default="", help="the contract's name (default: from the file's name)")
    parser.add_argument(
        "--root", default="", metavar="FILE", help="in a folder or archive: the root document"
    )
    parser.add_argument(
        "--entry",
        action="append",
        default=[],
        metavar="TEXT",
        help="in a catalogue: only definitions whose address contains this text, or whose number this is",
    )
    parser.add_argument(
        "--list",
        dest="only_list",
        action="store_true",
        help="list a catalogue's definitions with their numbers only",
    )
    parser.add_argument("--replace", action="store_true", help="replace a contract of the same name")
    parser.add_argument(
        "--refresh", action="store_true", help="read the source of one contract, or of all, again"
    )
    network = parser.add_argument_group("options of a URL")
    add_credential(network, "SCHEME is basic or bearer")
    network.add_argument(
        "--header",
        action="append",
        default=[],
        metavar="'NAME: VALUE'",
        help="send this; VALUE may end in env:NAME, file:PATH or keyring:SERVICE/NAME",
    )
    network.add_argument("--proxy", default="", metavar="URL", help="go through this proxy")
    network.add_argument(
        "--proxy-credential", default="", metavar="basic=USER:env:NAME", help="sign in at the proxy"
    )
    network.add_argument(
        "--ca-file", default="", metavar="FILE", help="trust the certificate authorities in this PEM file"
    )
    network.add_argument(
        "--allow-origin",
        action="append",
        default=[],
        metavar="URL",
        help="follow references to this origin too",
    )
    network.add_argument("--allow-private", action="store_true", help="follow them to private addresses too")
    add_grant(parser)
    add_common(parser)


class _ImportArguments(Arguments):
    source: str
    name: str
    root: str
    refresh: bool
    replace: bool
    entry: list[str]
    only_list: bool
    credential: list[str]
    header: list[str]
    proxy: str
    proxy_credential: str
    ca_file: str
    allow_origin: list[str]
    allow_private: bool
    trust: str
    sends: list[str]


def run(args: _ImportArguments) -> int:
    home = workspace(args)
    if args.only_list and args.refresh:
        raise UsageError("--list and --refresh exclude each other", mend="give one of them")
    if args.refresh:
        names = [args.source] if args.source else home.contract_names()
        grant = Grant.of(args.trust, args.sends)
        given = _access(args)
        found: list[tuple[Imported, Contract | None]] = []
        for name in names:
            again = read_again(home, name, given if given != Access() else None, grant)
            found.append((again, home.contract(name)))
    elif not args.source:
        raise UsageError("no source given", mend="name a file, folder, archive or URL")
    elif args.only_list:
        return _list(args)
    else:
        found = [
            (one, None) for one in read_source(args.source, _access(args), args.root, args.name, args.entry)
        ]
    statuses = [_finish(args, home, one, before) for one, before in found]
    if args.json:
        data = [_as_data(one.contract, before) for one, before in found if one.contract]
        terminal(args).json(data[0] if len(found) == 1 and data else {"version": 1, "contracts": data})
    kept = [status for status in statuses if status != EXIT_UNUSABLE]
    return (
        EXIT_UNUSABLE
        if not kept and statuses
        else max(min(status, EXIT_FAILED) for status in statuses)
        if statuses
        else EXIT_HELD
    )


def _list(args: _ImportArguments) -> int:
    """What a catalogue has, by number."""
    addresses = catalogue(args.source or "", _access(args))
    out = terminal(args)
    if args.json:
        out.json({"version": 1, "entries": addresses})
    else:
        out.table(("number", "definition"), list(enumerate(addresses, 1)), styles=("", "name"), right=(0,))
    return EXIT_HELD


def _finish(args: _ImportArguments, home: Workspace, found: Imported, before: Contract | None) -> int:
    """Keeps what can be used and tells of it; the exit status that this one alone would have."""
    contract = found.contract
    if contract is None:
        terminal(args).warn(str(found.error))
        return EXIT_UNUSABLE
    elsewhere = other_source(home, found) if not args.replace and before is None else ""
    if elsewhere:
        what = f"the contract {contract.name} exists already, from {elsewhere}"
        mend = (
            "--replace replaces it, --name NAME keeps both; to read its source again: "
            f"juxtalogos import --refresh {contract.name}"
        )
        terminal(args).warn(str(UsageError(what, mend=mend)))
        return EXIT_UNUSABLE
    kept = bool(contract.operations or contract.outgoing)
    replaced = keep(home, found) if kept else False
    if kept and before is None:  # who typed how it is reached allows that to be done again
        sends: dict[str, list[str]] = {}
        for reference, place in found.access.sends(found.source):
            sends.setdefault(reference, []).append(place)
        if sends:
            Trust(home.root).allow(sends=sends)
    if not args.json:
        _tell(args, contract, kept, replaced, found.base)
        if before is not None and kept:
            _tell_changes(args, contract, before)
    if not kept:
        return EXIT_UNUSABLE
    return EXIT_FAILED if any(fault.severity == "fault" for fault in contract.faults) else EXIT_HELD


def _access(args: _ImportArguments) -> Access:
    for origin_url in args.allow_origin:
        check_url(origin_url)
    if "@" in urlsplit(args.proxy).netloc:
        raise UsageError(
            "the login of a proxy has its own option", mend="--proxy-credential basic=USER:env:NAME"
        )
    nobody = CredentialSource(""), ""
    signed = [_login(text, "--credential", ("basic", "bearer")) for text in args.credential]
    by_scheme = {one.scheme: (one, secret) for one, secret in signed}
    basic, password = by_scheme.get("basic", nobody)
    proxy, proxy_password = (
        _login(args.proxy_credential, "--proxy-credential", ("basic",)) if args.proxy_credential else nobody
    )
    return Access(
        basic.user,
        password,
        tuple(map(header_field, args.header)),
        args.proxy,
        proxy.user,
        proxy_password,
        by_scheme.get("bearer", nobody)[1],
        args.ca_file,
        tuple(args.allow_origin),
        args.allow_private,
    )


def _login(text: str, option: str, known: tuple[str, ...]) -> tuple[CredentialSource, str]:
    """(where the secret is, the reference to it or what was typed)."""
    typed = re.fullmatch(r"basic=([^:=\s]+)", text)
    if typed and sys.stdin.isatty():
        return CredentialSource("basic", user=typed[1]), getpass.getpass(f"password of {typed[1]}: ")
    found = credential_source(text, option)
    if found.scheme not in known:
        raise UsageError(
            f"{option}: {quoted(found.scheme)} is no way to sign in here", mend=f"write {' or '.join(known)}"
        )
    return found, found.reference()


def _tell_changes(args: Arguments, contract: Contract, before: Contract) -> None:
    out = terminal(args)
    found = list(changes(before, contract))
    if not found:
        out.line("nothing changed")
        return
    out.line((f"changed: {len(found)}", "head"))
    out.table(("operation", "what changed"), found, styles=("name",))


def _as_data(contract: Contract, before: Contract | None) -> dict[str, object]:
    changed = (
        [{"operation": operation or None, "what": what} for operation, what in changes(before, contract)]
        if before
        else []
    )
    return {
        **({"changes": changed} if before else {}),
        "contract": contract.name,
        "format": contract.format,
        "version": contract.version,
        "operations": len(contract.operations),
        "problems": [
            {
                "what": fault.what,
                "severity": fault.severity,
                "document": fault.location.document,
                "pointer": fault.location.pointer,
                "line": place.line,
                "column": place.column,
                "mend": fault.mend,
            }
            for fault, place in ((fault, _place(contract, fault)) for fault in contract.faults)
        ],
    }


def _place(contract: Contract, fault: DefinitionFault) -> Position:
    return position(contract.documents[fault.location.document], fault.location.pointer)


_OWN = re.compile(r"'[^']*'|`[^`]*`|\S*[#/{}\d]\S*")
"""What is one fault's own in its words, so that many of a kind can be told together."""
FEW, SHOWN = 5, 3


def _tell_faults(args: Arguments, contract: Contract) -> None:
    """Each fault with its place and remedy; of many that are alike the first ones and how many more."""
    out = terminal(args)
    kinds: dict[tuple[str, str], list[tuple[str, int, int, DefinitionFault]]] = {}
    for fault in contract.faults:
        place = _place(contract, fault)
        kind = (fault.severity, _OWN.sub("", fault.what) + fault.mend.partition(";")[0])
        kinds.setdefault(kind, []).append((fault.location.document, place.line, place.column, fault))
    for (severity, _), found in sorted(kinds.items(), key=lambda one: min(row[:3] for row in one[1])):
        found.sort(key=lambda one: one[:3])
        shown = found if args.verbose or len(found) <= FEW else found[:SHOWN]
        style = "deviation" if severity == "fault" else "remark"
        for document, line, column, fault in shown:
            where = f"{document}:{line}:{column}"
            out.line((where, "name"), "  ", (severity, style), f"  {fault.what}")
            out.line((fault.mend, "note"), indent=2)
        if len(shown) < len(found):
            out.line(
                (f"and {len(found) - len(shown)} more like it (-v or --json lists all)", style), indent=2
            )
    if len(contract.faults) > FEW:
        counts = Counter(fault.severity for fault in contract.faults)
        told = " and ".join(f"{count} {name}{'s' if count > 1 else ''}" for name, count in counts.items())
        out.line((f"{told} of {len(kinds)} kinds in all", "note"))


def _tell(args: Arguments, contract: Contract, kept: bool, replaced: bool, base: str) -> None:
    out = terminal(args)
    _tell_faults(args, contract)
    if not kept:
        out.line(("no valid operation is left, so nothing was imported", "deviation"))
        return
    verb = "read again" if replaced else "read"
    count = len(contract.operations)
    out.line(
        f"{verb} ",
        (contract.name, "name"),
        f": {contract.title or 'without a title'}, {contract.format} {contract.version}, {count}"
        f" operation{'s' if count != 1 else ''}, {len(contract.documents)}"
        f" document{'s' if len(contract.documents) > 1 else ''}",
    )
    if out.verbose:
        for uri, document in contract.documents.items():
            out.note((f"document {uri}: {document.syntax}, {len(document.text):,} bytes", "note"))
    if base:
        out.note(
            (
                (
                    f"the catalogue names the server {base}; to use it: juxtalogos targets set NAME "
                    f"{base} --contract {contract.name}"
                ),
                "note",
            )
        )
    for server in contract.servers:
        out.note(
            (
                (
                    f"the definition names the server {server}; to use it: juxtalogos targets set "
                    f"NAME {server}"
                ),
                "note",
            )
        )
    out.note((f"next: juxtalogos show {contract.name}", "note"))
