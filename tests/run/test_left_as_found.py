"""A service is left as it was found, and that is said only when somebody looked: the built program against
stand-ins on which a careless client does harm.
"""

from __future__ import annotations

import sqlite3
from contextlib import closing
from dataclasses import replace
from pathlib import Path
from typing import Any

import pytest

from conftest import answers, definition, read_contract
from juxtalogos.model.wire import Inputs
from juxtalogos.run.gate.places import Sites, lies_below
from juxtalogos.run.gate.removal import removal
from juxtalogos.run.undo.created import AskedFor
from styles.desk import Jux, workspace
from styles.harm import (
    JOURNALS,
    LEFT_AS_FOUND,
    LEFT_OVER,
    Fragile,
    Journal,
    Locked,
    Settings,
    SignedOut,
    Store,
    SwitchedOff,
)
from styles.lies import LIES, Liar
from styles.rest import Service


def others(service: Service) -> Any:
    """What was there before the program came, as it is now."""
    kept = service.state()
    kept = kept if isinstance(kept, dict) else {"": kept}
    return {key: kept.get(key) for key in type(service)().state() if isinstance(kept, dict)}


@pytest.mark.parametrize("kind", LEFT_AS_FOUND)
def test_learning_and_running_leave_the_service_as_it_was(
    kind: type[Service], tmp_path: Path, jux: Jux
) -> None:
    service = kind()
    before = service.state()
    with workspace(service, tmp_path / "w", jux) as go:
        learned = go("compose", "quay", "--learn=writing", "--json").json
        assert service.state() == before, "after learning"
        ran = go("run", "--jobs", "4", "--json").json
        assert service.state() == before, "after the run"
        for told in (learned["learned"], ran):
            assert told["state"]["verdict"] in ("as before", "not known", "only read"), told["state"]
        if kind.__name__ != "UnreadableList":
            assert ran["state"]["verdict"] in ("as before", "only read")


@pytest.mark.parametrize(
    "words", [("compose", "quay", "--learn=writing", "--replace"), ("run",), ("explore",)]
)
def test_what_the_service_keeps_of_it_is_told_apart(words: tuple[str, ...], tmp_path: Path, jux: Jux) -> None:
    service = Journal()
    with workspace(service, tmp_path / "w", jux) as go:
        go("compose", "quay")
        shown = go(*words).out
        told = go(*words, "--json").json
    state = told["learned"]["state"] if "learned" in told else told["state"]
    assert state["verdict"] == "as before" and "state as before" in shown
    told_apart = {one["operation"] for one in state["changes"] if one["byService"]}
    assert told_apart == {f"quay:GET /{name}" for name in JOURNALS} and len(state["changes"]) == len(JOURNALS)
    assert "more entries, which only the service adds" in shown


def test_a_setting_is_changed_in_one_member(tmp_path: Path, jux: Jux) -> None:
    """The rest keeps its present value, whatever the definition gives as an example."""
    service = Settings()
    with workspace(service, tmp_path / "w", jux) as go:
        go("compose", "quay")
        ran = go("run", "--json").json
    assert service.most == 1 and {case["verdict"] for case in ran["cases"]} == {"passed"}


@pytest.mark.parametrize("kind", LEFT_AS_FOUND)
def test_exploring_leaves_the_service_as_it_was(kind: type[Service], tmp_path: Path, jux: Jux) -> None:
    service = kind()
    before = service.state()
    with workspace(service, tmp_path / "w", jux) as go:
        told = go("explore", "quay", "--json").json
        assert service.state() == before
        assert told["state"]["verdict"] in ("as before", "not known", "only read"), told["state"]


@pytest.mark.parametrize("command", ["run", "explore"])
@pytest.mark.parametrize("kind", LEFT_OVER)
def test_what_stays_is_told_and_nothing_of_others_is_touched(
    kind: type[Service], command: str, tmp_path: Path, jux: Jux
) -> None:
    service = kind()
    before = service.state()
    with workspace(service, tmp_path / "w", jux) as go:
        if command == "run":
            learned = go("compose", "quay", "--learn=writing", "--json").json["learned"]
            assert service.state() == before or learned["state"]["verdict"] != "as before"
        told = go(command, "--json").json
        after = service.state()
        assert {key: after.get(key) for key in before} == before
        assert after == before or told["state"]["verdict"] != "as before", told["state"]
        go("clean", "--all")
        after = service.state()
        assert {key: after.get(key) for key in before} == before


def test_a_service_that_fails_under_several_requests_is_asked_again_alone(tmp_path: Path, jux: Jux) -> None:
    """No finding comes of an answer that is right when asked alone, but a remark; nothing is left."""
    service = Fragile()
    before = service.state()
    with workspace(service, tmp_path / "w", jux) as go:
        go("compose", "quay")
        alone = go("run", "--jobs", "1", "--json").json
        crowded = go("run", "--jobs", "8", "--json").json
        assert service.state() == before
        assert {one["case"]: one["verdict"] for one in crowded["cases"]} == {
            one["case"]: one["verdict"] for one in alone["cases"]
        }
        busy = [one for one in crowded["remarks"] if one["kind"] == "load.busy"]
        assert busy and not crowded["findings"]
        assert "requests at once" in busy[0]["observed"]


@pytest.mark.parametrize("kind", [SwitchedOff, SignedOut])
@pytest.mark.parametrize("command", ["compose --learn=writing", "run", "explore"])
def test_a_service_that_changes_for_everybody_is_left_alone(
    command: str, kind: type[SwitchedOff], tmp_path: Path, jux: Jux
) -> None:
    service = kind()
    with workspace(service, tmp_path / "w", jux) as go:
        if command == "run":
            go("compose", "quay")
        words = command.split()
        found = go(words[0], *(() if command == "run" else ("quay",)), *words[1:], "--json").json
        state = found["learned"]["state"] if "learned" in found else found["state"]
        asked, service.off = service.off, 0
    assert 0 < asked < 40, "requests after it was switched off"
    assert any("POST /watch/note" in text and str(kind.status) in text for text in state["broke"]), state
    assert state["verdict"] != "as before"
    assert {"old-1", "old-2"} <= set(service.state())


@pytest.mark.parametrize("edit", ["method = 'DELETE'", "url = replace(url, '/items', '/elsewhere')"])
def test_an_edited_ledger_is_never_sent(edit: str, tmp_path: Path, jux: Jux) -> None:
    """`pin --twice` makes its request anew: a row that somebody changed becomes no other request."""
    service, home = Store(), tmp_path / "w"
    before = service.state()
    with workspace(service, home, jux) as go:
        assert go("call", "GET /items/{itemId}", "--set", "itemId=old-1").status == 0
        with closing(sqlite3.connect(home / ".juxtalogos" / "ledger.sqlite")) as db, db:
            db.execute(f"UPDATE exchange SET {edit}")
        seen = len(service.seen)
        told = go("pin", "--whole", "first", "--twice", "--exchange", "1")
        assert told.status == 2 and "the kept request is no call of" in told.err, told
        assert service.seen[seen:] == [] and service.state() == before


RUN = ("run", "--json")
EXPLORE = ("explore", "quay", "--requests", "100", "--json")
LEARN = ("compose", "quay", "--learn=writing", "--replace", "--json")


def under_a_lie(lie: str, commands: tuple[tuple[str, ...], ...], home: Path, jux: Jux) -> None:
    """Nothing of others is changed, and what stays of the program's own is told: `state as before` is said
    only where it is true.
    """
    service = Liar(lie)
    before = service.state()
    with workspace(service, home, jux) as go:
        go("compose", "quay")
        for words in commands:
            held = service.state()
            found = go(*words).json
            told = found["learned"]["state"] if "learned" in found else found["state"]
            after = service.state()
            assert {key: after.get(key) for key in before} == before, words
            assert {key for key in held if key.startswith("other")} <= set(after), words
            assert after == held or told["verdict"] != "as before", (words, told)
        go("clean", "--all")
        assert {key: service.state().get(key) for key in before} == before


@pytest.mark.parametrize("lie", [one for number, one in enumerate(LIES) if number % 6 < 3])
def test_whatever_a_store_says_nothing_of_others_is_changed(lie: str, tmp_path: Path, jux: Jux) -> None:
    further: tuple[tuple[str, ...], ...] = ((EXPLORE,), (LEARN,), ())[LIES.index(lie) % 3]
    under_a_lie(lie, (RUN, *further), tmp_path / "w", jux)


@pytest.mark.slow
@pytest.mark.parametrize("lie", LIES)
def test_all_lies_told_to_every_command(lie: str, tmp_path: Path, jux: Jux) -> None:
    under_a_lie(lie, (RUN, EXPLORE, LEARN, RUN), tmp_path / "w", jux)


def test_what_was_never_sent_is_not_left_behind(tmp_path: Path, jux: Jux) -> None:
    """Where every connection is refused nothing was created, and nothing is known of the state."""
    service, home = Store(), tmp_path / "w"
    with workspace(service, home, jux) as go:
        go("compose", "quay")
    told = jux("run", "--json", "-C", home, status=None).json
    assert {one["verdict"] for one in told["cases"]} <= {"error", "skipped"} and told["leftBehind"] == 0
    assert told["state"]["verdict"] == "not known"
    assert "lists nothing that all runs left behind" in jux("clean", "--all", "-C", home).out


@pytest.mark.parametrize("command", ["compose", "run", "explore"])
def test_a_name_that_somebody_else_has_by_now_is_not_cleaned_up(
    command: str, tmp_path: Path, jux: Jux
) -> None:
    """What was left behind is proven again before it is removed: its name may be another item's since."""
    service = Locked()
    with workspace(service, tmp_path / "w", jux) as go:
        go("compose", "quay", *(("--learn=writing",) if command == "compose" else ()))
        if command != "compose":
            go(command)
        ours = list(service.items)[2:]
        assert len(ours) > 1
        service.items[ours[0]] = {"name": "Clara's"}
        service.locked = False
        cleaned = go("clean", "--all")
        assert list(service.items) == ["old-1", "old-2", ours[0]], cleaned.out
        assert "may be somebody else's by now" in " ".join(cleaned.out.split())
        assert service.items[ours[0]] == {"name": "Clara's"}


def test_a_request_that_a_person_wrote_is_sent_as_it_is(tmp_path: Path, jux: Jux) -> None:
    """An edited case is its editor's: the item that it names is changed, whoever made it."""
    service, home = Store(), tmp_path / "w"
    with workspace(service, home, jux) as go:
        go("compose", "quay")
        path = home / "suites" / "quay.arazzo.yaml"
        text = path.read_text()
        assert "x-juxtalogos-composed" in text
        at = text.index("workflowId: PUT-items-itemId")
        edited = text[at:].replace("value: $steps.POST-items.outputs.id", "value: old-1", 1)
        path.write_text(text[:at] + edited)
        ran = go("run", "quay#PUT-items-itemId", "--json")
        assert ran.status == 0 and ran.json["cases"][0]["verdict"] == "passed", ran.err
        assert service.state()["old-1"] != {"name": "Anna's"}


def test_where_a_request_aims_and_what_lies_below() -> None:
    """An equal key of another resource is another item, and a part of an address is never made up."""

    def operation(*names: str) -> Any:
        given = [
            {"name": name, "in": "path", "required": True, "schema": {"type": "string"}} for name in names
        ]
        return {"parameters": given, "responses": answers()}

    contract = read_contract(
        definition(
            {
                "/yards": {"get": operation(), "post": operation()},
                "/yards/{id}": {"get": operation("id"), "delete": operation("id")},
                "/yards/{id}/berths": {"get": operation("id"), "post": operation("id")},
                "/ships/{id}/boats": {"get": operation("id"), "post": operation("id")},
                "/passes": {"post": operation()},
                "/passes/{port}/{day}": {"delete": operation("port", "day")},
            }
        )
    )
    sites = Sites(contract)

    def aim(name: str, **values: str) -> Any:
        found = contract.operation(name)
        assert found is not None
        return sites.aim(found, Inputs({f"path.{key}": value for key, value in values.items()}))

    yard = aim("DELETE /yards/{id}", id="7")
    berths, boats = aim("POST /yards/{id}/berths", id="7"), aim("POST /ships/{id}/boats", id="7")
    assert yard.key == ("7",) and berths.place.parents == boats.place.parents == (("7",),)
    assert lies_below(berths.place, yard.place, ("7",))
    assert not lies_below(berths.place, yard.place, ("8",))
    assert not lies_below(boats.place, yard.place, ("7",))
    remove = contract.operation("DELETE /passes/{port}/{day}")
    assert remove is not None
    both = aim("DELETE /passes/{port}/{day}", port="Merrow", day="3")
    assert both.key == ("Merrow", "3")
    assert removal(sites, remove, both) is not None
    assert removal(sites, remove, replace(both, key=("Merrow",))) is None, "no part of a key is made up"


@pytest.mark.parametrize(
    ("kept", "marks", "member"),
    [
        ({"listing": "l", "marks": ["ab", "abcdefgh-1"], "member": "slug"}, ("abcdefgh-1",), "slug"),
        ({"listing": "l", "selector": "$.items[*].code", "marks": []}, (), "code"),
        ({"selector": "$[*]['a b']", "marks": []}, (), "a b"),
        ({"selector": "//p:job/h:jobId", "marks": []}, (), "jobId"),
    ],
)
def test_what_was_asked_for_is_read_of_earlier_versions_too(
    kept: dict[str, Any], marks: tuple[str, ...], member: str
) -> None:
    """A short text tells nothing from what others made: `clean` removes nothing by it."""
    found = AskedFor.read(kept)
    assert (found.marks, found.member) == (marks, member)
