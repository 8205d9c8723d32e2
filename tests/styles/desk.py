"""A workspace for the definition of a stand-in."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path

from conftest import Result
from styles.rest import Service

Jux = Callable[..., Result]
Go = Callable[..., Result]


@contextmanager
def workspace(service: Service, home: Path, jux: Jux) -> Iterator[Go]:
    """What runs the program in a workspace with the service's definition and a target."""
    jux("init", home)
    source = home / "d.json"
    source.write_text(service.definition())
    jux("import", source, "--name", "quay", "-C", home)
    with service.serving() as url:

        def go(*words: object) -> Result:
            return jux(*words, "-C", home, status=None)

        go("targets", "set", "local", url)
        yield go
