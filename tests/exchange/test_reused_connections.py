"""Connections that a server closes without a word: what comes next is not made to answer for it."""

from __future__ import annotations

import asyncio
from collections.abc import Callable
from pathlib import Path

import pytest

from conftest import Result, answers, definition
from juxtalogos.exchange.transport import Transport
from juxtalogos.model.exchange import Exchange, Request


class Quay:
    """Answers once a connection with a status, and closes it some seconds later; in between nothing is
    answered.
    """

    def __init__(self, status: int, later: float) -> None:
        self.status, self.later, self.seen = status, later, 0

    async def serve(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        try:
            await reader.readuntil(b"\r\n\r\n")
            self.seen += 1
            body = b'{"id": 1}'
            head = (
                f"HTTP/1.1 {self.status} X\r\nContent-Type: application/json\r\nContent-Length:"
                f" {len(body)}\r\n\r\n"
            )
            writer.write(head.encode() + body)
            await writer.drain()
            if self.later:
                # Until the next request has come, or the time is over: then it is closed unanswered.
                await asyncio.wait([asyncio.ensure_future(reader.read(1))], timeout=self.later)
        except asyncio.IncompleteReadError:
            pass
        finally:
            writer.close()


async def sent(quay: Quay, method: str, count: int = 6) -> list[Exchange]:
    server = await asyncio.start_server(quay.serve, "127.0.0.1", 0)
    url = f"http://127.0.0.1:{server.sockets[0].getsockname()[1]}/lines"
    async with Transport() as transport:
        body = b"{}" if method == "POST" else None
        found = [await transport.send(Request(method, url, (), body)) for _ in range(count)]
    server.close()
    return found


@pytest.mark.parametrize("method", ["GET", "PUT", "POST"])
@pytest.mark.parametrize(("status", "later"), [(200, 0.0), (500, 0.0), (500, 1.0)])
def test_a_closed_connection_is_not_used_again(method: str, status: int, later: float) -> None:
    """Whether it was closed before the next request, or a server error let expect it."""
    quay = Quay(status, later)
    found = asyncio.run(sent(quay, method))
    assert [one.response.status if one.response else 0 for one in found] == [status] * 6
    assert quay.seen == 6


def test_what_was_sent_in_vain_is_sent_again_where_that_does_no_harm() -> None:
    found = asyncio.run(sent(Quay(200, 5.0), "GET"))
    assert all(one.response for one in found)
    assert [len(one.tries) for one in found] == [0, 1, 0, 1, 0, 1] or [len(one.tries) for one in found][
        1:
    ] == [1] * 5
    assert all("closed the connection without a response" in one.error for one in found[1].tries)
    posted = asyncio.run(sent(Quay(200, 5.0), "POST", 2))
    assert posted[1].response is None and not posted[1].tries  # it may have been done


def test_the_try_in_vain_is_kept(tmp_path: Path, jux: Callable[..., Result]) -> None:
    line = {"type": "object", "properties": {"id": {"type": "integer"}}}
    (tmp_path / "lines.yaml").write_text(
        definition({"/lines": {"get": {"operationId": "lines", "responses": answers(line)}}})
    )
    home = tmp_path / "w"
    jux("init", home)
    jux("import", tmp_path / "lines.yaml", "-C", home)

    async def serve() -> Result:
        server = await asyncio.start_server(Quay(200, 5.0).serve, "127.0.0.1", 0)
        url = f"http://127.0.0.1:{server.sockets[0].getsockname()[1]}"
        for _ in range(3):
            await asyncio.to_thread(jux, "call", "lines", "--save", "desk#one", "--target", url, "-C", home)
        ran = await asyncio.to_thread(jux, "run", "desk", "--target", url, "-C", home)
        server.close()
        return ran

    ran = asyncio.run(serve())
    assert "error" not in ran.out, ran.out
    listed = jux("exchanges", "--json", "-C", home).json["exchanges"]
    tries = [one for one in listed if "/try-1" in one["step"]]
    assert tries and all(one["verdict"] == "skipped" and one["status"] in (0, None) for one in tries)
