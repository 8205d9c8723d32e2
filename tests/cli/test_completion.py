"""What the shells offer: driven through bash, zsh and fish themselves, and by tables."""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path

import pytest

from conftest import Result
from juxtalogos.cli.commands.completion import SCRIPTS
from juxtalogos.cli.completing.answering import _split

Go = Callable[..., Result]


@pytest.fixture
def offered(go: Go, work: Path, jux: Go) -> Callable[..., list[str]]:
    go("targets", "set", "acceptance", "http://127.0.0.1:9/v1")
    go("plans", "set", "nightly", "fleet")
    go("parameters", "set", "ship=Tern")
    go("suite", "tag", "fleet#vessel", "smoke")
    go("compose", "berths", "--folders", "--suite", "parts")
    return lambda *words: jux("completion", "words", "zsh", *words, cwd=work).out.splitlines()


@pytest.mark.parametrize(
    ("words", "wanted", "unwanted"),
    [
        (("com",), {"compose", "compare", "completion"}, {"run"}),
        (("call", "regis"), {"registerVessel"}, {"getVessel"}),
        (("call", "berths:regis"), {"berths:registerVessel"}, {"registerVessel"}),
        (("show", ""), {"berths", "registerVessel"}, {"fleet"}),
        (("call", "registerVessel", "--set", "body/"), {"body/name=", "body/kind="}, {"path.vesselId="}),
        (("call", "registerVessel", "--set", "body/kind="), {"body/kind=tanker", "body/kind=ro-ro"}, set()),
        (("call", "getVessel", "--set", ""), {"path.vesselId="}, {"body/name="}),
        (("call", "getVessel", "--target", ""), {"local", "acceptance"}, {"berths"}),
        (("call", "getVessel", "--target=acc"), {"--target=acceptance"}, {"--target=local"}),
        (("run", "fl"), {"fleet", "fleet#"}, {"parts"}),
        (("run", "par"), {"parts/"}, {"fleet"}),
        (("run", "fleet#"), {"fleet#vessel"}, {"fleet"}),
        (("run", "fleet#vessel#"), {"fleet#vessel#register", "fleet#vessel#read"}, set()),
        (("run", "--plan", ""), {"nightly"}, set()),
        (("run", "--tag", ""), {"smoke"}, set()),
        (("run", "--set", ""), {"ship="}, set()),
        (("run", "--order", ""), {"given", "needed-first"}, set()),
        (("run", "--st"), {"--still-failing", "--strict", "--stop-at-first"}, {"--jobs"}),
        (("suite", ""), {"show", "set", "undo"}, {"run"}),
        (("suite", "show", "--"), {"--json"}, {"--check"}),
        (("suite", "set", "fleet#vessel#register", "body/k"), {"body/kind="}, {"path.vesselId="}),
        (("suite", "set", "fleet#vessel#read", ""), {"path.vesselId="}, {"body/kind="}),
        (("suite", "move", "fleet#vessel#read", "--before", ""), {"register", "read"}, set()),
        (("targets", ""), {"set", "show"}, {"local"}),
        (("targets", "show", ""), {"local"}, {"nightly"}),
        (("plans", "remove", ""), {"nightly"}, {"local"}),
        (("contracts", "rename", ""), {"berths"}, {"local"}),
        (("compose", "be"), {"berths"}, set()),
        (("nix", ""), set(), {"berths"}),
        (("call", "nix", "--set", ""), set(), {"body/kind="}),
        (("call", "getVessel", "--pace", ""), set(), {"local"}),
    ],
)
def test_what_is_offered(
    offered: Callable[..., list[str]], words: tuple[str, ...], wanted: set[str], unwanted: set[str]
) -> None:
    found = set(offered(*words))
    assert wanted <= found and not unwanted & found, found


def test_nothing_is_offered_outside_a_workspace_and_nothing_breaks(tmp_path: Path, jux: Go) -> None:
    for words in (("call", ""), ("run", ""), ("call", "x", "--set", "a="), ()):
        done = jux("completion", "words", "zsh", *words, cwd=tmp_path)
        assert not done.err
    for words in (("words",), ("words", "bash"), ("words", "bash", "jux call", "many")):
        assert jux("completion", *words).out == ""


def test_a_definition_that_cannot_be_read_is_tried_once_and_odd_names_are_not_offered(
    go: Go, work: Path, jux: Go
) -> None:
    suite = work / "suites" / "fleet.arazzo.yaml"
    suite.write_text(suite.read_text().replace("workflowId: vessel", 'workflowId: "ves\x1bsel"'))
    (work / "definitions" / "berths" / "berths.yaml").write_text("no definition")
    for _ in range(2):
        assert jux("completion", "words", "zsh", "call", "", cwd=work).out == ""
    assert (work / ".juxtalogos" / "words" / "berths.json").read_text().endswith('"operations":{}}')
    assert "\x1b" not in jux("completion", "words", "zsh", "run", "fleet#", cwd=work).out


@pytest.mark.parametrize(
    ("line", "typed", "current"),
    [
        ("jux ", [], ""),
        ("jux ca", [], "ca"),
        ("jux call getVessel --set ", ["call", "getVessel", "--set"], ""),
        ("jux call x --set 'body/a=b c' --t", ["call", "x", "--set", "body/a=b c"], "--t"),
        ("jux call x --set 'body/a=b", ["call", "x", "--set"], "body/a=b"),
        ("jux run a#b#c", ["run"], "a#b#c"),
    ],
)
def test_a_line_is_split_as_bash_has_it(line: str, typed: list[str], current: str) -> None:
    assert _split(line) == (typed, current)


DRIVERS = {
    "bash": """
source {script}
COMP_LINE="$1"; COMP_POINT=${{#COMP_LINE}}
_juxtalogos juxtalogos
printf '%s\\n' "${{COMPREPLY[@]}}"
""",
    "zsh": """
compdef() {{ :; }}
compadd() {{ while [[ "$1" != -- ]]; do shift; done; shift; print -rl -- "$@" }}
source {script}
words=("${{(@z)1}}")
[[ "$1" == *' ' ]] && words+=('')
CURRENT=$#words
_juxtalogos
""",
    "fish": """
source {script}
complete -C "$argv[1]"
""",
}


@pytest.mark.parametrize("shell", SCRIPTS)
def test_the_shells_themselves(shell: str, go: Go, work: Path, tmp_path: Path) -> None:
    if shutil.which(shell) is None:
        pytest.skip(f"{shell} is not installed (README, what the tests need)")
    script, driver, home = tmp_path / "script", tmp_path / "driver", tmp_path / "home"
    script.write_text(SCRIPTS[shell])
    driver.write_text(DRIVERS[shell].format(script=script))
    program = tmp_path / "bin"
    program.mkdir()
    (program / "juxtalogos").write_text(f'#!/bin/sh\nexec {sys.executable} -m juxtalogos "$@"\n')
    (program / "juxtalogos").chmod(0o755)
    environment = {**os.environ, "PATH": f"{program}:{os.environ['PATH']}", "HOME": str(home)}

    def told(line: str) -> set[str]:
        words = [shell, str(driver), line]
        done = subprocess.run(words, cwd=work, env=environment, capture_output=True, text=True, timeout=60)
        return {one.partition("\t")[0].strip() for one in done.stdout.splitlines()} - {""}

    assert {"registerVessel"} <= told("juxtalogos call regis")
    kinds = told("juxtalogos call registerVessel --set body/kind=")
    assert {"bulk", "ro-ro"} <= {one.rpartition("=")[2] for one in kinds}
    assert "fleet#vessel" in told("juxtalogos run fleet#v")
    assert "--stop-at-first" in told("juxtalogos run --sto")
