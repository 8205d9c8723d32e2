"""Calls of a URL without a definition: they go where they were typed, with what file and content say."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import pytest

from conftest import Result
from juxtalogos.formats.guessing import media_type_of_file
from juxtalogos.formats.soap.names import ENVELOPES

Jux = Callable[..., Result]
ENVELOPE = (
    '<env:Envelope xmlns:env="{}"><env:Body><p:GetJob xmlns:p="urn:merrow:pilotage"><p:jobId>PJ-1001</p:jobId>'
    "</p:GetJob></env:Body></env:Envelope>"
)


@pytest.mark.parametrize(
    ("name", "body", "kind"),
    [
        ("a.xml", ENVELOPE.format(ENVELOPES["1.1"]).encode(), "text/xml"),
        ("a.xml", ENVELOPE.format(ENVELOPES["1.2"]).encode(), "application/soap+xml"),
        ("a.xml", b"\xef\xbb\xbf <berth/>", "application/xml"),
        ("a.xml", b"<broken", "application/xml"),
        ("a", b"<berth/>", "application/xml"),
        ("a", b'{"a": 1}', "application/json"),
        ("a.json", b"{broken", "application/json"),
        ("a.csv", b"a,b\n", "text/csv"),
        ("a.png", b"\x89PNG", "image/png"),
        ("a", b"plain words", "text/plain"),
        ("a.unknown", b"\xff\xfe\x00", "application/octet-stream"),
        ("", b"", "text/plain"),
    ],
)
def test_the_media_type_of_a_file(name: str, body: bytes, kind: str) -> None:
    assert media_type_of_file(name, body)[0] == kind


def test_a_call_goes_exactly_where_it_was_typed(work: Path, harbour: str, jux: Jux, tmp_path: Path) -> None:
    """Also where the URL is the base URL of a target, or ends in a slash."""
    (tmp_path / "v.json").write_text('{"name": "Tern"}')
    base = harbour.removesuffix("/v1")
    jux("targets", "set", "office", f"{base}/pilotage", "-C", work)
    for number, path in enumerate(("/pilotage", "/pilotage/", "/pilotage?wsdl", "/pilotage/jobs/")):
        place = f"desk#c{number}"
        words = ("call", "--url", base + path, "--body-file", tmp_path / "v.json", "--save", place)
        called = jux(*words, "--target", "office", "-C", work)
        assert f"sent  POST {path}" in called.out and "Content-Type: application/json" in called.out
        assert "sent by POST" in called.err and "by the file's name" in called.err
        jux("run", place, "--target", "office", "-C", work)
        assert f"sent  POST {path}\n" in jux("exchanges", "@last", "-C", work).out.replace("   to", "\n")
    typed = ("--method", "PUT", "--header", "Content-Type: text/plain")
    called = jux("call", "--url", f"{base}/x", *typed, "--body-file", tmp_path / "v.json", "-C", work)
    assert "sent  PUT /x" in called.out and "text/plain" in called.out and "body is sent as" not in called.err


def test_xml_without_a_definition_is_pinned_by_prefixes(
    work: Path, harbour: str, jux: Jux, tmp_path: Path
) -> None:
    (tmp_path / "job.xml").write_text(ENVELOPE.format(ENVELOPES["1.1"]))
    url = harbour.replace("/v1", "/pilotage/jobs")
    action = ("--header", 'SOAPAction: "urn:merrow:pilotage:getJob"')
    words = ("call", "--url", url, *action, "--body-file", tmp_path / "job.xml", "--save", "watch#job")
    jux(*words, "-C", work)
    listed = jux("pin", "--list", "--json", "-C", work).json["places"]
    place = next(one for one in listed if "PJ-1001" in str(one["value"]))
    assert "local-name" not in str(listed)
    jux("pin", str(place["number"]), "-C", work)
    suite = (work / "suites" / "watch.arazzo.yaml").read_text()
    assert "x-juxtalogos-namespaces" in suite and "urn:merrow:pilotage" in suite
    target = jux("targets", "--json", "-C", work).json["targets"]
    name = next(one["name"] for one in target if one["contract"] == "calls")
    assert "1 passed" in jux("run", "watch", "--target", name, "-C", work).out


def test_a_refusal_of_made_up_values_is_told_as_one(work: Path, jux: Jux) -> None:
    refused = jux("call", "registerVessel", "--set", "body/kind=yacht", "-C", work)
    assert "\nrefused  registerVessel: 400" in refused.out and "made up" in refused.out
    given = ("--set", "body/name=Tern", "--set", "body/kind=yacht", "--set", "body/lengthMetres=80")
    assert "\npassed  registerVessel" in jux("call", "registerVessel", *given, "-C", work).out
    assert "\npassed  getBerth" in jux("call", "getBerth", "-C", work).out
