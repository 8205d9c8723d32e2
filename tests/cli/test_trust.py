"""Trust, by the built program with a fresh home: what runs, and where secrets go, only as the user of this
folder allowed it.
"""

from __future__ import annotations

import shutil
import sys
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest

from conftest import KEY_ENV, Result, serving

Jux = Callable[..., Result]
SECRET = KEY_ENV["MERROW_KEY"]


@pytest.fixture
def office(berths: Path, jux: Jux) -> Iterator[tuple[Path, str, Jux]]:
    """(workspace, origin of the harbour, what runs the program there)."""
    with serving() as url:

        def go(*words: object, status: int | None = 0, cwd: Path = berths) -> Result:
            result = jux(*words, "-C", cwd, env=KEY_ENV, status=status)
            assert SECRET not in result.out + result.err
            return result

        yield berths, url.removesuffix("/v1"), go


def write(home: Path, text: str) -> None:
    with (home / "juxtalogos.toml").open("a") as out:
        out.write(text)


def test_no_secret_goes_where_nobody_allowed_it(office: tuple[Path, str, Jux], tmp_path: Path) -> None:
    home, place, go = office
    write(
        home, f'\n[targets.q]\nurl = "{place}/v1"\n[targets.q.credentials.harbourKey]\nenv = "MERROW_KEY"\n'
    )
    for words in (("call", "listNotices"), ("call", "getBerth", "--save", "a#b")):
        told = go(*words, status=2).err
        assert f"MERROW_KEY is not allowed to be sent to {place}" in told
        assert f"juxtalogos trust --send MERROW_KEY={place}" in told
    assert not (home / ".juxtalogos").exists(), "nothing was sent"
    go("call", "getBerth", "--no-credentials")  # needs none
    # For once, by a pipeline: the pair, or the digest; nothing but the right ones opens.
    for words in (("--send", f"MERROW_KEY={place}1"), ("--send", f"OTHER={place}"), ("--trust", "0" * 64)):
        go("call", "listNotices", *words, status=2)
    go("call", "listNotices", "--send", f"MERROW_KEY={place}")
    go("call", "listNotices", status=2)
    digest = go("trust", "--show", "--json", status=1).json["digest"]
    go("call", "listNotices", "--trust", digest)
    # Allowed for this folder; not for a copy of it, nor for another origin.
    go("trust", "--send", f"MERROW_KEY={place}")
    go("call", "listNotices")
    copy = tmp_path / "copy"
    shutil.copytree(home, copy)
    go("call", "listNotices", status=2, cwd=copy)
    go("call", "listNotices", "--trust", digest, cwd=copy)
    text = (home / "juxtalogos.toml").read_text()
    (home / "juxtalogos.toml").write_text(text.replace(place, "http://localhost:" + place.rpartition(":")[2]))
    assert "to be sent to http://localhost:" in go("call", "listNotices", status=2).err
    (home / "juxtalogos.toml").write_text(text.replace("jobs = 4", "jobs = 2") + "\n# an edit elsewhere\n")
    go("call", "listNotices")
    write(
        home,
        'origins = ["http://tokens.test"]\n[targets.q.roles.chief.headers]\nX-Chief = "env:HOME"\n'.replace(
            "origins", "# origins"
        ),
    )
    assert "HOME" in go("call", "listNotices", "--role", "chief", status=2).err
    # The origin stays, and where its host is connected to is another place: asked for.
    clean = (home / "juxtalogos.toml").read_text()
    host = place.rpartition("/")[2].partition(":")[0]
    (home / "juxtalogos.toml").write_text(
        clean.replace("[targets.q]", f'[targets.q]\naddresses = {{"{host}" = "elsewhere.test:81"}}')
    )
    assert "http://elsewhere.test:81" in go("call", "listNotices", status=2).err
    (home / "juxtalogos.toml").write_text(clean)
    go("trust", "--forget")
    go("call", "listNotices", status=2)


def test_who_types_where_a_secret_is_allows_it(office: tuple[Path, str, Jux]) -> None:
    home, place, go = office
    go("targets", "set", "q", f"{place}/v1", "--credential", "harbourKey=env:MERROW_KEY")
    go("call", "listNotices")
    go("targets", "set", "q", f"http://localhost:{place.rpartition(':')[2]}/v1")  # typed by its user too
    go("call", "listNotices", "--trial")
    go(
        "call",
        "listNotices",
        "--target",
        f"{place}/v1",
        "--credential",
        "harbourKey=env:MERROW_KEY",
        "--trial",
    )
    # Written into the file by somebody else: asked for.
    write(
        home,
        '\n[targets.other]\nurl = "http://elsewhere.test/v1"\n[targets.other.headers]\nX-K = "Key'
        ' env:MERROW_KEY"\n',
    )
    assert "http://elsewhere.test:80" in go("call", "listNotices", "--target", "other", status=2).err


def test_commands_are_trusted_with_the_files_they_name(office: tuple[Path, str, Jux], tmp_path: Path) -> None:
    home, place, go = office
    script, mark = home / "tools" / "up.py", tmp_path / "ran"
    script.parent.mkdir()
    script.write_text(f"import pathlib\npathlib.Path({str(mark)!r}).touch()\n")
    write(
        home,
        f'\n[targets.q]\nurl = "{place}/v1"\n[targets.q.system]\nreset = ["{sys.executable}",'
        f' "tools/up.py"]\nready = "{place}/ready"\nstop = ["true"]\n',
    )
    go("call", "getBerth", "--save", "a#b")
    told = go("run", "a", status=2).err
    assert "are not trusted" in told and not mark.exists()
    shown = go("trust", "--show", status=1).out
    assert "file tools/up.py" in shown and "true is found by PATH" in shown
    digest = go("trust", "--show", "--json", status=1).json["digest"]
    go("run", "a", "--trust", "f" * 64, status=2)
    assert not mark.exists()
    go("run", "a", "--trust", digest)
    assert mark.exists()
    mark.unlink()
    go("trust")
    go("run", "a")
    assert mark.exists()
    mark.unlink()
    script.write_text(script.read_text() + "# changed\n")  # the same words run another program now
    assert "or that changed" in go("run", "a", status=2).err
    go("run", "a", "--trust", digest, status=2)
    assert not mark.exists()
    go("trust")
    copy = tmp_path / "copy"
    shutil.copytree(home, copy)
    go("run", "a", status=2, cwd=copy)
    go("run", "a")


def test_credentials_of_a_catalogue_go_to_its_own_origin_only(jux: Jux, tmp_path: Path, berths: Path) -> None:
    import json

    from test_import import web

    text = (tmp_path / "berths.yaml").read_text()
    with web(**{"quay.yaml": text}) as (other, foreign), web(**{"tide.yaml": text}) as (url, own):
        linkset = json.dumps(
            {
                "linkset": [
                    {
                        "anchor": url,
                        "service-desc": [{"href": f"{url}/tide.yaml"}, {"href": f"{other}/quay.yaml"}],
                    }
                ]
            }
        )
        own.pages["/cat"] = (200, {"Content-Type": "application/linkset+json"}, linkset.encode())
        words = ("--credential", "bearer=env:MERROW_KEY", "--allow-origin", other, "-C", berths)
        jux("import", f"{url}/cat", *words, env=KEY_ENV)
        assert [SECRET in str(dict(seen)) for _, seen in own.seen] == [True, True] and foreign.seen
        assert not any(SECRET in str(dict(seen)) for _, seen in foreign.seen)
        jux("import", "--refresh", "quay", "-C", berths, env=KEY_ENV)
        assert not any(SECRET in str(dict(seen)) for _, seen in foreign.seen)
        # A workspace from elsewhere names a secret in where a definition came from.
        jux("trust", "--forget", "-C", berths)
        count = len(own.seen)
        told = jux("import", "--refresh", "tide", "-C", berths, env=KEY_ENV, status=2).err
        assert "MERROW_KEY is not allowed" in told and len(own.seen) == count
        jux("import", "--refresh", "tide", "--send", f"MERROW_KEY={url}", "-C", berths, env=KEY_ENV)


@pytest.mark.parametrize("place", ["suites", "reports", "kept", ".juxtalogos", "definitions", "tables"])
def test_what_is_written_stays_in_the_workspace(
    office: tuple[Path, str, Jux], tmp_path: Path, place: str
) -> None:
    home, url, go = office
    go("targets", "set", "q", f"{url}/v1")
    go("call", "getBerth", "--save", "a#b")
    outside = tmp_path / "outside"
    outside.mkdir()
    if (home / place).exists():
        shutil.move(home / place, outside / place)
    else:
        (outside / place).mkdir()
    (home / place).symlink_to(outside / place)
    before = sorted((path, path.stat().st_size) for path in outside.rglob("*"))
    for words in (
        ("call", "getBerth", "--save", "a#c"),
        ("run", "a"),
        ("report",),
        ("pin", "--whole", "x"),
        ("compose", "berths"),
    ):
        told = go(*words, status=2).err
        assert f"{place} leads out of the workspace" in told
    assert sorted((path, path.stat().st_size) for path in outside.rglob("*")) == before


_KEYRING = """
from keyring.backend import KeyringBackend
class Chest(KeyringBackend):
    priority = 1
    def get_password(self, service, username):
        return {("merrow/harbour", "desk"): "%s"}.get((service, username))
    set_password = delete_password = None
"""


def test_a_secret_in_a_keyring_is_read_where_it_may_go(
    office: tuple[Path, str, Jux], jux: Jux, tmp_path: Path
) -> None:
    home, place, _ = office
    shelf = tmp_path / "shelf"
    shelf.mkdir()
    (shelf / "chest.py").write_text(_KEYRING % SECRET)
    env = {"PYTHONPATH": str(shelf), "PYTHON_KEYRING_BACKEND": "chest.Chest"}
    write(
        home,
        f'\n[targets.q]\nurl = "{place}/v1"\n[targets.q.credentials.harbourKey]\nkeyring ='
        ' "merrow/harbour/desk"\n',
    )
    told = jux("call", "listNotices", "-C", home, env=env, status=2).err
    assert f"juxtalogos trust --send keyring:merrow/harbour/desk={place}" in told
    jux("trust", "--send", f"keyring:merrow/harbour/desk={place}", "-C", home, env=env)
    done = jux("call", "listNotices", "-C", home, env=env)
    assert SECRET not in done.out + done.err
    for name, what in (("merrow/harbour/mate", "holds nothing under"), ("desk", "names no service and name")):
        told = jux(
            "call", "listNotices", "--credential", f"harbourKey=keyring:{name}", "-C", home, env=env, status=2
        ).err
        assert what in told


def test_fields_that_are_listed_are_hidden(berths: Path, jux: Jux) -> None:
    write(berths, '\n[contracts.berths]\nsecrets = ["body/quay", "query.minDepth"]\n')
    with serving() as url:
        done = jux(
            "call", "getBerth", "--set", "berthId=B1", "--no-credentials", "--target", url, "-C", berths
        )
        assert '"quay": "[redacted]"' in done.out
        jux("call", "listBerths", "--set", "minDepth=7.5", "--no-credentials", "--target", url, "-C", berths)
    kept = jux("exchanges", "@last", "-C", berths).out + jux("exchanges", "@getBerth", "-C", berths).out
    assert "minDepth=7.5" not in kept and "[redacted]" in kept


def test_who_stands_before_a_target_is_asked_for(office: tuple[Path, str, Jux]) -> None:
    home, place, go = office
    write(home, f'\n[targets.q]\nurl = "{place}/v1"\nproxy = "http://127.0.0.1:9"\n')
    refused = go("call", "listBerths", status=2).err
    assert "are not allowed to go through the proxy http://127.0.0.1:9" in refused
    assert "not tried" in go("targets", "check").out
    assert "are not allowed to go through" not in go("trust", "--show", status=1).out
    go("trust", "--send", f"proxy:http://127.0.0.1:9={place}")
    assert "proxy" in go("call", "listBerths", status=3).out
