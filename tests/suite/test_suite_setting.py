"""Inputs, links, formulas, checks and tables put into suites without an editor; comments and order stay."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
import yaml

from conftest import FLEET, KEY_ENV, Result, add_target, serving, trusting
from juxtalogos.model.errors import JuxtalogosError, SuiteError, UsageError
from juxtalogos.suite.document.managing import place_of
from juxtalogos.suite.document.setting import add_check, attach_table, set_input
from juxtalogos.workspace.workspace import Workspace

Jux = Callable[..., Result]


@pytest.fixture
def home(berths: Path) -> Workspace:
    (berths / "suites").mkdir(exist_ok=True)
    (berths / "suites" / "fleet.arazzo.yaml").write_text(FLEET)
    return Workspace(berths)


def case_of(home: Workspace) -> Any:
    text = (home.suites / "fleet.arazzo.yaml").read_text()
    assert (
        "# kept by the office" in text
        and "# one vessel from its registration on" in text
        and "# as agreed" in text
    )
    found = yaml.safe_load(text)["workflows"][0]
    assert next(iter(found)) == "workflowId"
    return found


SET: list[tuple[str, str, str, Callable[[Any], Any], Any]] = [
    # step, address, text, what of the case, what it is then
    (
        "register",
        "body/kind",
        "tanker",
        lambda case: case["steps"][0]["requestBody"]["payload"],
        {"name": "Grey Tern", "kind": "tanker", "lengthMetres": 118.5},
    ),
    (
        "register",
        "body/lengthMetres",
        "80",
        lambda case: case["steps"][0]["requestBody"]["payload"]["lengthMetres"],
        80,
    ),
    (
        "register",
        "body/owner/mail",
        "a@quay.example",
        lambda case: case["steps"][0]["requestBody"]["payload"]["owner"],
        {"mail": "a@quay.example"},
    ),
    (
        "register",
        "body/name",
        "@@home",
        lambda case: case["steps"][0]["requestBody"]["payload"]["name"],
        "@home",
    ),
    (
        "register",
        "body/name",
        "=='x' + 'y'",
        lambda case: case["steps"][0]["requestBody"]["payload"]["name"],
        "='x' + 'y'",
    ),
    (
        "register",
        "body/built",
        "=format(today(), 'YYYY-MM-DD')",
        lambda case: (
            case["steps"][0]["requestBody"]["payload"]["built"],
            case["inputs"]["properties"]["built"],
        ),
        ("$inputs.built", {"type": "string", "x-juxtalogos-value": "format(today(), 'YYYY-MM-DD')"}),
    ),
    (
        "read",
        "vesselId",
        "@register#/vesselId",
        lambda case: (case["steps"][0]["outputs"], case["steps"][1]["parameters"]),
        (
            {"vesselId": "$response.body#/vesselId"},
            [{"name": "vesselId", "in": "path", "value": "$steps.register.outputs.vesselId"}],
        ),
    ),
    (
        "read",
        "path.vesselId",
        "@register#header.Location",
        lambda case: case["steps"][0]["outputs"],
        {"Location": "$response.header.Location"},
    ),
]


@pytest.mark.parametrize(
    ("step", "address", "text", "part", "value"), SET, ids=[f"{row[1]}={row[2]}" for row in SET]
)
def test_an_input_is_set(
    home: Workspace, step: str, address: str, text: str, part: Callable[[Any], Any], value: Any
) -> None:
    set_input(home, place_of(f"fleet#vessel#{step}"), address, text)
    assert part(case_of(home)) == value
    set_input(home, place_of(f"fleet#vessel#{step}"), address, text)  # twice is once
    assert part(case_of(home)) == value


REFUSED = [
    ("register", "body/knd", "x", "registerVessel has no body/knd", "body/kind"),
    ("read", "query.limit", "3", "getVessel has no input query.limit", "path.vesselId"),
    ("read", "vesselId", "@registr#/vesselId", "registr is no step before read", "did you mean register?"),
    ("register", "body/name", "@read#/name", "read is no step before register", ""),
    (
        "read",
        "vesselId",
        "@register#/vesselNo",
        "no response of registerVessel has /vesselNo",
        "did you mean",
    ),
    ("read", "vesselId", "@register", "names no value of a step", "@STEP#/path"),
    ("read", "vesselId", "$steps.nowhere.outputs.x", "reads from a step that does not come before", ""),
    ("register", "body/built", "=today( +", "", ""),
    ("rgister", "body/kind", "x", "there is no step", "did you mean register?"),
]


@pytest.mark.parametrize(
    ("step", "address", "text", "what", "mend"),
    REFUSED,
    ids=[f"{row[0]} {row[1]}={row[2]}" for row in REFUSED],
)
def test_what_leads_nowhere_is_refused_and_the_file_stays(
    home: Workspace, step: str, address: str, text: str, what: str, mend: str
) -> None:
    with pytest.raises((UsageError, SuiteError)) as caught:
        set_input(home, place_of(f"fleet#vessel#{step}"), address, text)
    assert what in str(caught.value).replace("'", "") and mend in str(caught.value)
    assert (home.suites / "fleet.arazzo.yaml").read_text() == FLEET


def test_checks(home: Workspace) -> None:
    place = place_of("fleet#vessel#read")
    for text, wanted in (
        ("body/kind equals bulk", {"at": "body/kind", "equals": "bulk"}),
        ("body/lengthMetres within [5, 420]", {"at": "body/lengthMetres", "within": [5, 420]}),
        ("body/kind among bulk,tanker", {"at": "body/kind", "among": ["bulk", "tanker"]}),
        ("body/vesselId exists", {"at": "body/vesselId", "exists": True}),
        ("body/lengthMetres computed 100 + 18.5", {"at": "body/lengthMetres", "computed": "100 + 18.5"}),
    ):
        assert add_check(home, place, text) == wanted
    assert len(case_of(home)["steps"][1]["x-juxtalogos-checks"]) == 5
    before = (home.suites / "fleet.arazzo.yaml").read_bytes()
    for wrong in ("body/kind", "body/kind equal bulk", "body/kind computed 1 +"):
        with pytest.raises(JuxtalogosError):
            add_check(home, place, wrong)
    assert (home.suites / "fleet.arazzo.yaml").read_bytes() == before


def test_tables(home: Workspace) -> None:
    place = place_of("fleet#vessel")
    (home.root / "tables").mkdir(exist_ok=True)
    (home.root / "tables" / "v.csv").write_text("kind,metres,draughtMetres,other\nbulk,80,4,x\n")
    fed = attach_table(
        home,
        place,
        "v.csv",
        [{"kind": "bulk", "metres": "80", "draughtMetres": "4", "other": "x"}],
        {"metres": "register#body/lengthMetres"},
    )
    assert fed == [
        ("kind", "register", "body/kind"),
        ("metres", "register", "body/lengthMetres"),
        ("draughtMetres", "register", "body/draughtMetres"),
    ]
    case = case_of(home)
    assert case["x-juxtalogos-table"] == {"file": "v.csv"}
    assert case["steps"][0]["requestBody"]["payload"] == {
        "name": "Grey Tern",
        "kind": "$inputs.kind",
        "lengthMetres": "$inputs.metres",
        "draughtMetres": "$inputs.draughtMetres",
    }
    assert case["inputs"]["properties"] == {
        "kind": {"type": "string"},
        "metres": {"type": "number"},
        "draughtMetres": {"type": "number"},
        "other": {},
    }
    with pytest.raises(UsageError, match="no column"):
        attach_table(home, place, "v.csv", [{"kind": "bulk"}], {"knd": "body/kind"})
    with pytest.raises(UsageError, match="has no body/length"):
        attach_table(home, place, "v.csv", [{"kind": "bulk"}], {"kind": "register#body/length"})


def test_from_the_command_line_over_rest_and_soap(home: Workspace, jux: Jux, tmp_path: Path) -> None:
    root = home.root
    with serving() as url:
        add_target(root, url)
        jux(
            "suite",
            "set",
            "fleet#vessel#read",
            "path.vesselId=@register#/vesselId",
            "--check",
            "body/kind equals $inputs.kind",
            "-C",
            root,
        )
        (tmp_path / "rows.csv").write_text("kind,lengthMetres\nbulk,80\ntanker,120\n")
        told = jux("suite", "table", "fleet#vessel", tmp_path / "rows.csv", "-C", root).out
        assert "column kind feeds register body/kind" in told and (root / "tables" / "rows.csv").is_file()
        assert "2 cases, 2 passed" in jux("run", "fleet", "-C", root, env=KEY_ENV).out
        assert (
            "has no body/lenght"
            in jux("suite", "set", "fleet#vessel#register", "body/lenght=3", "-C", root, status=2).err
        )
        soap = url.replace("/v1", "/pilotage")
        jux("import", f"{soap}/pilotage.wsdl", "-C", root)
        with (root / "juxtalogos.toml").open("a") as config:
            config.write(
                f'\n[targets.quay]\nurl = "{soap}"\n[targets.quay.credentials.token]\nuser = "desk"\nenv ='
                ' "MERROW_KEY"\n'
            )
        trusting(root)
        jux("call", "planJob", "--target", "quay", "--save", "jobs#one", "-C", root, env=KEY_ENV)
        jux(
            "call",
            "getJob",
            "--set",
            "body/jobId=PJ-1001",
            "--target",
            "quay",
            "--save",
            "jobs#one",
            "-C",
            root,
            env=KEY_ENV,
            status=None,
        )
        jux(
            "suite",
            "set",
            "jobs#one#getJob",
            "body/jobId=@planJob#/job/jobId",
            "--check",
            "body/job/state equals planned",
            "-C",
            root,
        )
        assert "1 passed" in jux("run", "jobs", "--target", "quay", "-C", root, env=KEY_ENV).out
        jux("suite", "set", "jobs#one#getJob", "--check", "body/job/state equals sunk", "-C", root)
        failed = jux("run", "jobs", "--target", "quay", "-C", root, env=KEY_ENV, status=1).out
        assert "expectations: 1" in failed and "sunk" in failed


def test_a_value_of_another_case(home: Workspace, jux: Jux) -> None:
    root = home.root
    with serving() as url:
        add_target(root, url)
        jux("call", "announcePortCall", "--save", "fleet#visit", "-C", root, env=KEY_ENV)
        jux("suite", "set", "fleet#visit", "body/vesselId=@vessel#register/vesselId", "-C", root)
        document = yaml.safe_load((home.suites / "fleet.arazzo.yaml").read_text())
        vessel, visit = document["workflows"]
        assert vessel["outputs"] == {"vesselId": "$steps.register.outputs.vesselId"} and visit[
            "dependsOn"
        ] == ["vessel"]
        assert visit["steps"][0]["requestBody"]["payload"]["vesselId"] == "$workflows.vessel.outputs.vesselId"
        ran = jux("run", "fleet#visit", "-C", root, env=KEY_ENV).out
        assert "1 passed" in ran or "2 passed" in ran
        for wrong, mend in (
            ("@vesel#register/vesselId", "vessel"),
            ("@vessel#regster/vesselId", "register"),
            ("@vessel#register/vesselNo", "vesselId"),
            ("@visit#announcePortCall/callId", "no other case"),
        ):
            assert (
                mend in jux("suite", "set", "fleet#visit", f"body/vesselId={wrong}", "-C", root, status=2).err
            )
