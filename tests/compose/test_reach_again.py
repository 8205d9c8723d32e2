"""What was learned, met again: changed definitions, damaged files, hostile words; texts that no encoding
holds.
"""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

from hypothesis import given, settings
from hypothesis import strategies as st
from test_reach import Jux, office

from juxtalogos.model.exchange import Exchange, Request, Response, Timings
from juxtalogos.model.wire import Inputs
from juxtalogos.run.judging.refusals import texts_of
from juxtalogos.run.learning.reading import named_inputs, wanted_values
from juxtalogos.run.learning.seen import SeenValues
from juxtalogos.workspace.known import Hints, KnownValue, Learned
from styles.harbour import Surveys
from styles.rest import TEXT, Call, Refused, Route, Service, many, shape

LEARNED = Path("learned", "local", "quay.toml")


def test_what_was_learned_is_met_again(tmp_path: Path, jux: Jux) -> None:
    service, home = Surveys(), tmp_path / "w"
    with office(service, home, jux) as go:
        go("compose", "quay", "--learn=writing")
        first = (home / LEARNED).read_text()
        go("compose", "quay", "--learn=writing")
        assert (home / LEARNED).read_text() == first
        assert "sv-1" in first.lower() or "known" in first, first

        changed = json.loads(service.definition())
        changed["paths"].pop(next(path for path in changed["paths"] if path.endswith("}")))
        (home / "d.json").write_text(json.dumps(changed))
        go("import", home / "d.json", "--name", "quay", status=None)
        go("compose", "quay")  # rules of operations that are gone do no harm
        go("run", status=None)

        (home / LEARNED).write_text(first + "\n[[known]]\nat = 3\n")
        told = go("compose", "quay", status=2).err
        assert str(LEARNED) in told and "Traceback" not in told


class Hostile(Service):
    """Says what no UTF-8 holds, in names and values, and takes nothing."""

    def kept(self) -> Any:
        return None

    def routes(self) -> list[Route]:
        port = shape((), **{"port id": TEXT, "name": TEXT})
        return [
            Route(
                "POST",
                "/ports",
                self.refuse,
                answer=port,
                body=shape(("name",), name=TEXT),
                status=201,
                summary="a\ud800b",
            ),
            Route(
                "GET",
                "/ports",
                lambda call: (200, [{"port id": "\ud800", "name": "\ud800q"}]),
                answer=many(port),
                query={"tone": {"type": "string", "example": "\ud800"}},
            ),
            Route(
                "GET",
                "/ports/{portId}",
                lambda call: (200, {"port id": "\ud800", "na\nme": "\ud800"}),
                answer=port,
            ),
        ]

    def refuse(self, call: Call) -> Any:
        raise Refused(400, "name \ud800 must be one of '\udc00x', 'b'", name="\ud800", **{"\ud800": "\ud800"})


def test_lone_surrogates_and_names_with_spaces_end_nothing(tmp_path: Path, jux: Jux) -> None:
    with office(Hostile(), tmp_path / "w", jux) as go:
        for words in (["compose", "quay"], ["compose", "quay", "--learn=writing"]):
            assert "GET /ports/{portId}" in go(*words, "--json").out or words
            verdicts = {one["case"]: one["verdict"] for one in go("run", "--json", status=None).json["cases"]}
            assert {"passed", "refused"} >= set(verdicts.values()) - {"skipped"}, verdicts
        assert verdicts and "error" not in verdicts.values()


TEXTS = st.text(st.characters(), max_size=60) | st.sampled_from(
    ("name must be one of 'a', 'b'", "between 3 and ", "/body/name", "\ud800", "at least 1e9")
)
VALUES = st.recursive(
    st.none() | st.booleans() | st.integers() | st.floats(allow_nan=False) | TEXTS,
    lambda inner: st.lists(inner, max_size=3) | st.dictionaries(TEXTS, inner, max_size=3),
    max_leaves=8,
)


@settings(deadline=None, max_examples=150)
@given(VALUES, VALUES, st.integers(200, 499))
def test_whatever_an_answer_says_is_read_without_a_fall(said: Any, sent: Any, status: int) -> None:
    body = json.dumps(said).encode()
    request = Request("POST", "http://127.0.0.1/x", (("Content-Type", "application/json"),), b"{}")
    exchange = Exchange(
        request, Response(status, "", (("Content-Type", "application/json"),), body), Timings(0.0, 0.0, 0.0)
    )
    inputs = Inputs({"query.name": sent, "path.id": "x"}, sent)
    for text in texts_of(body):
        text.encode()
    for named in named_inputs(exchange, inputs, ["query.name", "path.id", "body/name"]):
        list(wanted_values(named, sent))
    seen = SeenValues()
    seen.note("addPort", exchange)
    for pointer, value in seen.by_operation.get("addPort", {}).items():
        Learned(Path("x.toml"), Hints(known=(KnownValue(pointer or "x", "addPort", value),))).text().encode()
