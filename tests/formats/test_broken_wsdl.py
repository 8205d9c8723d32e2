"""Every node of the demo's WSDL and its schema broken in turn: no operation goes, sound answers are accused
by nothing that is broken.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator
from importlib import resources
from pathlib import Path

from lxml import etree

from conftest import KEY_ENV, Result, serving, trusting
from juxtalogos.exchange.har import read_har
from juxtalogos.formats import FORMATS, wire_of
from juxtalogos.model.contract import Contract
from juxtalogos.model.exchange import Exchange
from juxtalogos.run.judging.judge import judge
from juxtalogos.workspace.files import folder_fetch

FILES = ("pilotage.wsdl", "pilotage-types.xsd")
SOUND = {name: resources.files("juxtalogos.demo").joinpath(name).read_bytes() for name in FILES}
REFERENCES = (
    "type",
    "element",
    "ref",
    "base",
    "message",
    "part",
    "binding",
    "itemType",
    "substitutionGroup",
    "schemaLocation",
)
BASE = "http://pilotage.merrow.example/pilotage"
EVERY = 11


def answered(tmp_path: Path, jux: Callable[..., Result]) -> list[Exchange]:
    """What the service answers to a whole suite, without deviations."""
    home = tmp_path / "work"
    for name, data in SOUND.items():
        (tmp_path / name).write_bytes(data)
    with serving() as url:
        url = url.replace("/v1", "/pilotage")
        jux("init", home)
        jux("import", tmp_path / FILES[0], "-C", home)
        jux("compose", "pilotage", "-C", home)
        with (home / "juxtalogos.toml").open("a") as config:
            config.write(
                f'\n[targets.quay]\nurl = "{url}"\n[targets.quay.credentials.token]\nuser = "desk"\nenv ='
                ' "MERROW_KEY"\n'
            )
        trusting(home)
        jux("run", "-C", home, env=KEY_ENV)
        jux("exchanges", "--har", tmp_path / "all.har", "-C", home)
    text = (tmp_path / "all.har").read_bytes().replace(url.encode(), BASE.encode())
    return [entry.exchange for entry in read_har(text, "all.har") if entry.exchange]


def breakages(data: bytes) -> Iterator[tuple[str, bytes, bool]]:
    """(what, the document with one reference that leads nowhere, or a node gone or made something else;
    whether only a reference is lost).
    """
    root = etree.fromstring(data)
    for node in list(root.iter("{*}*"))[1:]:
        name, above = f"{etree.QName(node).localname} at line {node.sourceline}", node.getparent()
        assert above is not None
        for key in [key for key in REFERENCES if key in node.attrib]:
            kept = str(node.attrib[key])
            node.attrib[key] = re.sub(r"[^:]*$", "Nothing", kept)
            yield f"{name}: {key}={kept}", etree.tostring(root), True
            node.attrib[key] = kept
        at, tag = list(above).index(node), node.tag
        node.tag = "{urn:other}thing"
        yield f"{name}: another thing", etree.tostring(root), False
        node.tag = tag
        above.remove(node)
        yield f"{name}: gone", etree.tostring(root), False
        above.insert(at, node)


def test_every_node_of_a_wsdl_broken_in_turn(tmp_path: Path, jux: Callable[..., Result]) -> None:
    exchanges = answered(tmp_path, jux)
    assert len(exchanges) > 15
    judged = unproven = 0
    number = 0
    for file, data in SOUND.items():
        for what, text, only_reference in breakages(data):
            number += 1
            if number % EVERY:
                continue
            (tmp_path / file).write_bytes(text)
            contract = FORMATS["soap"].read("pilotage", FILES[0], folder_fetch(tmp_path))
            assert len(contract.operations) == _bound(tmp_path / FILES[0]), what
            verdicts = [_verdict(contract, one, what) for one in exchanges]
            judged += len(verdicts)
            unproven += verdicts.count("unproven")
            if only_reference:
                assert contract.faults and not set(verdicts) - {"passed", "unproven"}, (
                    what,
                    verdicts,
                    contract.faults,
                )
        (tmp_path / file).write_bytes(data)
    assert 0 < unproven < 0.2 * judged


def _bound(path: Path) -> int:
    """How many operations the bindings of a document name."""
    return len(etree.parse(path).findall("{*}binding/{http://schemas.xmlsoap.org/wsdl/}operation"))


def _verdict(contract: Contract, exchange: Exchange, what: str) -> str:
    """The verdict of an exchange: `unproven` too where nothing of it can be called any more."""
    wire = wire_of(contract)
    found = wire.match(exchange.request, BASE)
    for operation in contract.operations:
        assert next(iter(wire.elements(operation))), what
    if not found:
        return "unproven" if any(one.not_callable for one in contract.operations) else "unknown"
    judgement = judge(wire, found[0], exchange, BASE)
    return str(judgement.verdict)
