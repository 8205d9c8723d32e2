"""What a tester does by hand: a call that is kept keeps its outcome, exchanges have names, slips are refused
before anything is sent.
"""

from __future__ import annotations

import sys
from collections.abc import Callable, Iterator
from pathlib import Path
from socket import create_connection, socket

import pytest
import yaml

from conftest import KEY_ENV, Result, add_target, serving
from juxtalogos.cli.main import main

Jux = Callable[..., Result]


@pytest.fixture
def office(berths: Path, jux: Jux) -> Iterator[tuple[Path, Jux]]:
    """Berths and pilotage in one workspace, each with its target, the harbour running without deviations."""
    with serving() as url:
        add_target(berths, url)
        soap = url.replace("/v1", "/pilotage")
        jux("import", f"{soap}/pilotage.wsdl", "-C", berths)
        jux("targets", "set", "quay", soap, "--contract", "pilotage", "-C", berths)
        jux("targets", "set", "quay", "--credential", "token=desk:env:MERROW_KEY", "-C", berths)

        def go(*words: object, status: int | None = 0) -> Result:
            return jux(*words, "-C", berths, env=KEY_ENV, status=status)

        yield berths, go


def steps_of(home: Path, name: str) -> list[dict[str, object]]:
    return list(
        yaml.safe_load((home / "suites" / f"{name}.arazzo.yaml").read_text())["workflows"][0]["steps"]
    )


OUTCOMES = (
    # words of the call, --expect, the criteria written, the status of a run of it
    (("getBerth", "--set", "berthId=B2"), "", [{"condition": "$statusCode >= 200 && $statusCode < 300"}], 0),
    (("getVessel", "--set", "vesselId=V-9999"), "", [{"condition": "$statusCode == 404"}], 0),
    (
        ("getVessel", "--set", "vesselId=V-9999"),
        "success",
        [{"condition": "$statusCode >= 200 && $statusCode < 300"}],
        1,
    ),
    (("getVessel", "--set", "vesselId=V-9999"), "any", None, 0),
    (("getJob", "--set", "body/jobId=PJ-999999"), "", "NoSuchJob", 0),
    (("planJob",), "404", [{"condition": "$statusCode == 404"}], 1),
)


@pytest.mark.parametrize(
    ("words", "expect", "criteria", "status"), OUTCOMES, ids=[f"{row[0][0]} {row[1]}" for row in OUTCOMES]
)
def test_a_kept_call_keeps_its_outcome(
    office: tuple[Path, Jux], words: tuple[str, ...], expect: str, criteria: object, status: int
) -> None:
    home, go = office
    told = go(
        "call", *words, "--save", "kept#one", *(("--expect", expect) if expect else ()), status=None
    ).err
    assert "saved in" in told
    (step,) = steps_of(home, "kept")
    if isinstance(criteria, str):
        assert criteria in str(step["successCriteria"]) and "xpath" in str(step["successCriteria"])
    else:
        assert step.get("successCriteria") == criteria
    ran = go("run", "kept", status=status)
    assert ("expectations: 1" in ran.out) == (status == 1)


def test_a_call_without_an_answer_is_not_saved(office: tuple[Path, Jux]) -> None:
    home, go = office
    told = go("call", "getBerth", "--target", "http://127.0.0.1:9", "--save", "kept#one", status=3)
    assert (
        "not saved: no response was received" in told.err
        and not (home / "suites" / "kept.arazzo.yaml").exists()
    )


def test_exchanges_have_names(office: tuple[Path, Jux]) -> None:
    home, go = office
    go("call", "registerVessel", "--save", "kept#one")
    go("call", "planJob", "--save", "jobs#one")
    go("call", "getVessel", "--set", "vesselId=@registerVessel#/vesselId", "--save", "kept#one")
    go("call", "getJob", "--set", "body/jobId=@pilotage:planJob#/job/jobId", "--save", "jobs#one")
    assert "$steps.registerVessel.outputs.vesselId" in str(steps_of(home, "kept")[1])
    assert go("exchanges", "@last", "--json").json["operation"] == "getJob"
    assert go("exchanges", "@getVessel", "--json").json["exchange"] == 3
    assert go("exchanges", "2", "--json").json == go("exchanges", "@2", "--json").json
    go("pin", "body/kind", "--exchange", "@getVessel")
    for suite in ("kept", "jobs"):  # each contract at its own target
        assert "1 case, 1 passed" in go("run", suite).out


SLIPS = (
    # words, what is told, how to mend it
    (
        ("call", "getVessel", "--set", "vesselId=@regsterVessel#/vesselId"),
        "@regsterVessel names no exchange",
        "registerVessel",
    ),
    (
        ("call", "getVessel", "--set", "vesselId=@postNotice#/x"),
        "no exchange of postNotice has a response yet",
        "call it first",
    ),
    (("call", "getVessel", "--set", "vesselId=@99#/x"), "there is no exchange 99", "juxtalogos exchanges"),
    (("call", "getVessel", "--set", "vesselId=@registerVessel#/vesselNo"), "/vesselNo", ""),
    (("call", "getVessel", "--set", "vesselId=@last#/nope"), "/nope", ""),
    (("call", "getVesel"), "no operation getVesel", "getVessel"),
    (("call", "registerVessel", "--set", "body/knd=bulk"), "there is no body/knd", "body/kind"),
    (("call", "registerVessel", "--set", "kind"), "has no =", "ADDRESS=VALUE"),
    (("call", "registerVessel", "--save", "kept"), "is no SUITE#CASE", "first#announce"),
    (
        ("call", "getJob", "--save", "x#y", "--expect", "fault:NoSuchJop"),
        "declares no fault NoSuchJop",
        "NoSuchJob",
    ),
    (
        ("call", "getBerth", "--save", "x#y", "--expect", "fault:Gone"),
        "declares no fault Gone",
        "success, a status",
    ),
    (("call", "getBerth", "--save", "x#y", "--expect", "fine"), "fine is no outcome", "success, a status"),
    (("call", "getBerth", "--target", "locl"), "there is no target locl", "local"),
    (("call", "getBerth", "--role", "chief"), "has no role chief", "roles.chief"),
    (
        ("call", "getBerth", "--credential", "harbourKy=env:MERROW_KEY"),
        "no contract has such a scheme",
        "harbourKey",
    ),
    (("call", "getBerth", "--header", "X-Desk"), "is no header field", "NAME: VALUE"),
    (("exchanges", "@getVesel"), "@getVesel names no exchange", "getVessel"),
    (("pin", "body/kind", "--exchange", "@getBerth"), "no exchange of getBerth has a response", ""),
    (("run", "kpt"), "there is no suite kpt", "kept"),
    (("run", "kept#oen"), "there is no case oen", "one"),
    (("run", "kept#one#regster"), "has no step regster", "registerVessel"),
    (("run", "kept", "--tag", "nightli"), "no case has the tag nightli", "nightly"),
    (("run", "kept", "--operation", "getVesel"), "no operation getVesel", "getVessel"),
    (("run", "kept", "--operation", "postNotice"), "no case is left of", "suite list"),
    (("run", "kept", "--set", "vessle=1"), "no case has an input vessle", ""),
    (("run", "kept", "--still-failing"), "no case is left of", ""),
    (("suite", "set", "kept#one#registerVessel", "body/nme=x"), "has no body/nme", "body/name"),
    (
        ("suite", "set", "kept#one#getVessel", "vesselId=@regster#/vesselId"),
        "no step before",
        "registerVessel",
    ),
    (
        ("suite", "set", "kept#one#getVessel", "vesselId=@registerVessel#/vesselNo"),
        "has /vesselNo",
        "/vesselId",
    ),
    (("suite", "set", "kept#oen#getVessel", "vesselId=x"), "there is no case oen", "one"),
    (("suite", "set", "kept#one#getVessel", "--check", "body/kind equal x"), "", ""),
    (("suite", "table", "kept#one", "none.csv"), "there is no table none.csv", ""),
    (("suite", "table", "kept#one", "rows.csv", "--link", "knd=body/kind"), "no column knd", "kind"),
    (("suite", "table", "kept#one", "rows.csv", "--link", "kind=body/knd"), "has no body/knd", "body/kind"),
    (("suite", "rename", "kept#oen", "x"), "oen", ""),
    (("targets", "set", "quay", "http://127.0.0.1:1/x"), "there are several contracts", "--contract"),
    (
        ("targets", "set", "local", "--credential", "harborKey=env:X"),
        "no contract has a scheme harborKey",
        "harbourKey",
    ),
    (
        ("targets", "set", "local", "--credential", "harbourKey=s3cret"),
        "names no secret by reference",
        "env:NAME",
    ),
    (("targets", "set", "lo cal", "http://127.0.0.1:1", "--every"), "is no target name", ""),
    (("coverage", "--contract", "berhts"), "there is no contract berhts", "berths"),
    (
        ("call", "--url", "http://127.0.0.1:9/x/{berth}", "--save", "a#b"),
        "{berth} in the URL has no value",
        "--set berth=VALUE",
    ),
    (
        ("call", "--url", "http://127.0.0.1:9/x/{berth}", "--set", "bert=1", "--save", "a#b"),
        "the URL has no {bert}",
        "",
    ),
    (
        ("call", "--url", "http://127.0.0.1:9/x", "--save", "a#b", "--contract", "berths"),
        "is a contract of a definition",
        "--contract NAME",
    ),
    (
        ("call", "--url", "http://127.0.0.1:9/x", "--save", "a#b", "--target", "http://127.0.0.1:9"),
        "a target with a name",
        "",
    ),
    (
        ("call", "--url", "http://127.0.0.1:9/x?token=s3cret", "--save", "a#b"),
        "carries a credential as token",
        "--credential",
    ),
    (
        ("call", "uploadStowagePlan", "--set", "callId=PC-1000", "--set", "body=file:plan.cvs"),
        "no such file",
        "file:PATH",
    ),
    (
        ("call", "uploadStowagePlan", "--set", "callId=PC-1000", "--set", "body=file:../s"),
        "is no file that may be sent",
        "in the workspace",
    ),
    (("call", "getVessel", "--set", "vesselId=@last#$.vesselNo"), "no value at $.vesselNo", "pin --list"),
    (("call", "getVessel", "--set", "vesselId=@last#$.["), "is no JSONPath", "$.items"),
    (
        ("suite", "set", "kept#one#getVessel", "vesselId=@registerVessel#$.vesselNo"),
        "has vesselNo",
        "vesselId",
    ),
    (("suite", "set", "kept#one#getVessel", "vesselId=@registerVessel#vesselId"), "vesselId", "/vesselId"),
    (
        ("suite", "table", "kept#one", "rows.csv", "--once", "regster"),
        "there is no step regster",
        "registerVessel",
    ),
    (("pin", "body/nme", "--report-as", "name"), "nothing at body/nme", "body/name"),
    (("pin", "--renew", "vessls"), "the kept response is missing", "pin --whole vessls"),
    (
        ("rules", "getVesel", "--off", "body.format", "--reason", "local times"),
        "no operation getVesel",
        "getVessel",
    ),
    (
        ("rules", "getVessel", "--off", "body.formt", "--reason", "local times"),
        "no kind of check body.formt",
        "body.format",
    ),
    (("rules", "getVessel", "--off", "body.format"), "needs a reason", "--reason"),
    (("rules", "--remove", "4"), "there is no rule 4", "juxtalogos rules"),
    (
        ("rules", "allotBerth", "body/berthId=@listBerth#/0/berthId"),
        "unknown operation listBerth",
        "listBerths",
    ),
    (("rules", "allotBerth", "body/berthId=@listBerths#/0/bertId"), "has /0/bertId", "/0/berthId"),
)


def test_slips_are_refused_before_anything_is_sent(
    office: tuple[Path, Jux], monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    home, go = office
    for name, text in KEY_ENV.items():
        monkeypatch.setenv(name, text)
    go("call", "registerVessel", "--save", "kept#one")
    go("call", "getVessel", "--set", "vesselId=@last#/vesselId", "--save", "kept#one")
    go("suite", "tag", "kept#one", "nightly")
    go("run", "kept")
    (home / "tables").mkdir(exist_ok=True)
    (home / "tables" / "rows.csv").write_text("kind\nbulk\n")
    before = go("exchanges", "@last", "--json").json["exchange"]
    kept = [home / "suites" / "kept.arazzo.yaml", home / "juxtalogos.toml"]
    files = [path.read_bytes() for path in kept]
    assert len(SLIPS) >= 60
    for words, what, mend in SLIPS:
        assert main([*words, "-C", str(home)]) == 2, words  # in this process: a start for each takes long
        told = capsys.readouterr().err.replace("'", "")
        assert what in told and mend in told, (words, told)
        assert "s3cret" not in told
    assert go("exchanges", "@last", "--json").json["exchange"] == before
    assert [path.read_bytes() for path in kept] == files and not (home / "definitions" / "calls").exists()


def test_a_run_of_a_selection(office: tuple[Path, Jux]) -> None:
    _, go = office
    go("call", "getBerth", "--set", "berthId=B2", "--save", "team/quays#one")
    go("call", "listTides", "--save", "team/water#tides")
    go(
        "call",
        "getVessel",
        "--set",
        "vesselId=V-9999",
        "--save",
        "fleet#gone",
        "--expect",
        "success",
        status=None,
    )
    go("suite", "tag", "team/water#tides", "nightly")

    def cases(*words: str, status: int | None = 0) -> set[str]:
        return {
            f"{one['suite']}#{one['case']}"
            for one in go("run", *words, "--json", status=status).json["cases"]
        }

    assert cases("team/") == cases("team") == {"team/quays#one", "team/water#tides"}
    assert cases("team/quays", "fleet#gone", status=1) == {"team/quays#one", "fleet#gone"}
    assert cases("--tag", "nightly") == {"team/water#tides"}
    assert cases("--operation", "getVessel", status=1) == {"fleet#gone"}
    assert cases("--still-failing", status=1) == {"fleet#gone"}
    assert cases(status=1) == {"team/quays#one", "team/water#tides", "fleet#gone"}


def test_sign_in_that_is_missing_is_told_and_the_service_blamed_for_nothing(berths: Path, jux: Jux) -> None:
    with serving() as url:
        jux("targets", "set", "local", url, "-C", berths)
        called = jux("call", "listNotices", "-C", berths, status=1)
        command = "juxtalogos targets set local --credential harbourKey=env:NAME"
        assert f"has no such credential; set it: {command}" in called.err
        assert "sent without a credential for harbourKey" in called.out and "\ndeviation" not in called.out
        jux("call", "listNotices", "--save", "desk#one", "--expect", "success", "-C", berths, status=1)
        jux("call", "listNotices", "--save", "desk#two", "-C", berths, status=1)  # as it came: 401, wanted so
        ran = jux("run", "desk", "--json", "-C", berths, status=1).json
        assert ran["findings"] == [] and [one["verdict"] for one in ran["cases"]] == ["failed", "passed"]
        assert command in ran["cases"][0]["reason"]
        jux("targets", "set", "local", "--credential", "harbourKey=env:MERROW_KEY", "-C", berths)
        assert (
            '[targets.local.credentials.harbourKey]\nenv = "MERROW_KEY"'
            in (berths / "juxtalogos.toml").read_text()
        )
        assert "passed" in jux("call", "listNotices", "-C", berths, env=KEY_ENV).out
        assert (
            "passed" in jux("call", "listNotices", "--no-credentials", "-C", berths).out
        )  # asked for: the declared 401


def test_notes_and_the_report_of_one_case(office: tuple[Path, Jux]) -> None:
    """A note stands beside its check in every form, held or not; a report may be of one case, or of one
    exchange.
    """
    _, go = office
    go("call", "getBerth", "--set", "berthId=B2", "--save", "kept#one")
    go("pin", "body/quay", "--note", "as the harbour master says", "--exchange", "@getBerth")
    go("call", "listTides", "--save", "kept#tides")
    go("run", "kept")
    held = go("exchanges", "@getBerth").out
    assert "as the harbour master says (holds today's behaviour fast)" in " ".join(held.split())
    checks = go("exchanges", "@getBerth", "--json").json["checks"]
    assert [one["note"] for one in checks if "note" in one] == [
        "as the harbour master says (holds today's behaviour fast)"
    ]
    go("suite", "set", "kept#one", "--check", "body/quay equals elsewhere")
    failed = go("run", "kept", status=1)
    assert "note: as the harbour master says" in failed.out
    junit = go("report", "--form", "junit", "-o", "-").out
    assert "as the harbour master says" in junit
    whole = Path(go("report", "--json").json["path"]).read_text()
    one = Path(go("report", "--case", "kept#one", "--json").json["path"])
    assert one.name.endswith("-kept-one.html") and "as the harbour master says" in one.read_text()
    assert "listTides" in whole and "listTides" not in one.read_text()
    single = Path(go("report", "--exchange", "@listTides", "--json").json["path"]).read_text()
    assert "getBerth" not in single and single.count('<details class="exchange"') == 1
    assert "has no case kept#oen" in go("report", "--case", "kept#oen", status=2).err


def test_bodies_from_files_are_kept_as_people_read_them(office: tuple[Path, Jux], tmp_path: Path) -> None:
    home, go = office
    (tmp_path / "vessel.json").write_text('{"name": "Skerry", "kind": "bulk", "lengthMetres": 80}')
    go("call", "registerVessel", "--body-file", tmp_path / "vessel.json", "--save", "kept#one")
    (step,) = steps_of(home, "kept")
    assert step["requestBody"] == {
        "contentType": "application/json",
        "payload": {"name": "Skerry", "kind": "bulk", "lengthMetres": 80},
    }
    body = '<p:GetJob xmlns:p="urn:merrow:pilotage"><p:jobId>PJ-999999</p:jobId></p:GetJob>'
    (tmp_path / "job.xml").write_text(body)
    go("call", "getJob", "--body-file", tmp_path / "job.xml", "--save", "jobs#one")
    assert "!!binary" not in (home / "suites" / "jobs.arazzo.yaml").read_text() and body in str(
        steps_of(home, "jobs")
    )
    for suite in ("kept", "jobs"):
        assert "1 passed" in go("run", suite).out


def test_suite_check_tells_what_is_required_and_stale_in_both_formats(office: tuple[Path, Jux]) -> None:
    home, go = office
    go("call", "planJob", "--save", "jobs#one")
    job = go("exchanges", "@planJob", "--json").json
    number = job["response"]["body"].partition("jobId>")[2].partition("<")[0]
    go("call", "getJob", "--set", f"body/jobId={number}", "--save", "jobs#one")
    go("call", "registerVessel", "--save", "kept#one")
    go("call", "getVessel", "--set", "vesselId=V-9999", "--save", "kept#one")  # refused, and wanted so
    told = go("suite", "check").out
    assert (
        "juxtalogos suite set jobs#one#getJob body/jobId=@planJob#/job/jobId" in told
        and "valid: 2 suites with 2 cases" in told
    )
    definition = home / "definitions" / "berths" / "berths.yaml"
    text = definition.read_text()
    assert "required: [name, kind, lengthMetres]" in text
    definition.write_text(
        text.replace("required: [name, kind, lengthMetres]", "required: [name, kind, lengthMetres, built]")
    )
    checked = go("suite", "check", status=1).out
    assert "body/built is required, and the step does not set it" in checked
    assert (
        "juxtalogos suite set kept#one#registerVessel body/built=VALUE" in checked
        and "1 lack required inputs" in checked
    )
    wsdl = home / "definitions" / "pilotage" / "pilotage.wsdl"
    wsdl.write_text(
        wsdl.read_text().replace(
            '<xs:element name="jobId" type="h:JobId"/>',
            '<xs:element name="jobId" type="h:JobId"/><xs:element name="desk" type="xs:string"/>',
            1,
        )
    )
    assert "body/desk is required" in go("suite", "check", "jobs", status=1).out


def test_limits_patterns_and_formulas_are_pinned_by_address_in_both_formats(office: tuple[Path, Jux]) -> None:
    home, go = office
    go("call", "registerVessel", "--set", "body/lengthMetres=80", "--save", "kept#one")
    go("pin", "body/lengthMetres", "--above", "5", "--below", "421", "--note", "what the quay takes")
    go("pin", "body/vesselId", "--matches", "^V-")
    go("pin", "body/lengthMetres", "--computed", "40 * 2")
    go("call", "planJob", "--save", "jobs#one")
    go("pin", "body/job/order/vessel/lengthMetres", "--above", "0")
    checks = steps_of(home, "kept")[0]["x-juxtalogos-checks"]
    assert isinstance(checks, list) and [set(one) - {"at", "note"} for one in checks] == [
        {"above"},
        {"below"},
        {"matches"},
        {"computed"},
    ]
    for suite in ("kept", "jobs"):
        assert "1 passed" in go("run", suite).out
    go("pin", "body/job/order/vessel/lengthMetres", "--above", "500", "--exchange", "@planJob")
    assert "expectations: 1" in go("run", "jobs", status=1).out
    assert (
        "there is nothing at"
        in go("pin", "body/jb/state", "--above", "1", "--exchange", "@planJob", status=2).err
    )


def test_composed_folders_lie_where_they_are_said_to(office: tuple[Path, Jux]) -> None:
    home, go = office
    told = go("compose", "berths", "--folders", "--suite", "team/all", "--json").json
    assert told["path"] == str(home / "suites" / "team" / "all")
    files = list((home / "suites").rglob("*.arazzo.yaml"))
    assert files and all(path.is_relative_to(told["path"]) for path in files)
    assert "error" not in go("run", "team/all/", status=None).out


def test_inputs_of_cases_in_other_suites_that_are_needed_may_be_given(office: tuple[Path, Jux]) -> None:
    """Their names are known, though only the suite that leads to them is named."""
    home, go = office
    for name in ("first", "second"):
        go("call", "getVessel", "--set", "vesselId=V-9999", "--save", f"{name}#one")
    go("suite", "set", "first#one", "vesselId=$inputs.vessel", status=None)
    path = home / "suites" / "second.arazzo.yaml"
    document = yaml.safe_load(path.read_text())
    document["sourceDescriptions"].append({"name": "other", "type": "arazzo", "url": "first.arazzo.yaml"})
    document["workflows"][0]["dependsOn"] = ["$sourceDescriptions.other.one"]
    path.write_text(yaml.safe_dump(document, sort_keys=False))
    assert "passed" in go("run", "second", "--set", "vessel=V-9998").out
    assert "no case has an input vesel" in go("run", "second", "--set", "vesel=V-9998", status=2).err


def test_a_recorded_exchange_becomes_a_step(office: tuple[Path, Jux], tmp_path: Path) -> None:
    """Recorded, judged, pinned and saved in one: REST and SOAP, each with what its request said."""
    home, go = office
    go("call", "getBerth", "--set", "berthId=B4")
    go("call", "planJob", "--set", "body/order/vessel/name=Tern")
    go("exchanges", "--har", tmp_path / "day.har")
    go("audit", tmp_path / "day.har", "--target", "quay", "--contract", "pilotage")
    assert "save it as a step with --save" in go("pin", "body/job/state").err
    assert "nothing at body/job/stat" in go("pin", "body/job/stat", "--save", "seen#plan", status=2).err
    assert not (home / "suites" / "seen.arazzo.yaml").exists()
    go("pin", "body/job/state", "--exchange", "@planJob", "--save", "seen#plan")
    go("pin", "--whole", "berth", "--exchange", "@getBerth", "--save", "berths#seen")
    (plan,) = steps_of(home, "seen")
    assert plan["requestBody"]["payload"]["order"]["vessel"]["name"] == "Tern"  # type: ignore[index]
    for suite, target in (("seen", "quay"), ("berths", "local")):
        assert go("run", suite, "--target", target, "--json").json["verdict"] == "passed"


def test_a_trusted_system_is_started_for_a_call(berths: Path, jux: Jux) -> None:
    with socket() as free:
        free.bind(("127.0.0.1", 0))
        port = free.getsockname()[1]
    words = [
        sys.executable,
        "-m",
        "juxtalogos",
        "demo",
        "--serve",
        "--port",
        str(port),
        "--deviations",
        "none",
    ]
    base = f"http://127.0.0.1:{port}"
    jux("targets", "set", "own", f"{base}/v1", "-C", berths)
    with (berths / "juxtalogos.toml").open("a") as out:
        out.write(f'\n[targets.own.system]\nstart = {words!r}\nready = "{base}/ready"\n')
    untrusted = jux("call", "listBerths", "--target", "own", "-C", berths, status=3)
    assert "its commands are not trusted" in untrusted.err
    jux("trust", "-C", berths)
    assert "passed  listBerths" in jux("call", "listBerths", "--target", "own", "-C", berths).out
    with pytest.raises(OSError), create_connection(("127.0.0.1", port), 1):  # and stopped again
        pass
