"""The system under test: started, awaited, reset and stopped by the target's commands, which were trusted
before.
"""

from __future__ import annotations

import asyncio
import contextlib
import os
import signal
from collections.abc import AsyncIterator, Awaitable, Callable, Iterator
from contextlib import asynccontextmanager, contextmanager
from dataclasses import replace
from pathlib import Path

from juxtalogos.documents.uris import origin
from juxtalogos.exchange.probing import why_not_ready
from juxtalogos.exchange.transport import Transport
from juxtalogos.model.errors import ConfigError
from juxtalogos.run.target.session import Session
from juxtalogos.workspace.config import SystemCommands
from juxtalogos.workspace.trust import Trust

COMMAND_LIMIT = 120.0
"""Seconds for a reset or stop command."""


@asynccontextmanager
async def running_system(session: Session, workspace: Path) -> AsyncIterator[None]:
    """The system, up while the context lasts. ConfigError when it does not come up."""
    target = session.target
    system = target.system
    if system is None or not system.start:
        if system and system.ready:
            await _await_ready(session, system, None)
        yield
        return
    process = await _start(system, workspace)
    try:
        if system.ready:
            await _await_ready(session, system, process)
        yield
    finally:
        if system.stop:
            with contextlib.suppress(ConfigError):
                await run_command(system.stop, workspace, "stop")
        await _end(process)


@contextmanager
def up_for_calls(session: Session, trust: Trust, workspace: Path) -> Iterator[None]:
    """The target's system, up for single calls: as it is found where it answers; else started, where its
    commands are trusted, and stopped again.
    """
    system = session.target.system
    if system is None or not system.start or not trust.runs:
        yield
        return
    with asyncio.Runner() as runner:
        if system.ready and runner.run(_answers(session, system)):
            yield
            return
        up = running_system(session, workspace)
        runner.run(up.__aenter__())
        try:
            yield
        finally:
            runner.run(up.__aexit__(None, None, None))


async def _answers(session: Session, system: SystemCommands) -> bool:
    if origin(system.ready) not in session.target.origins():
        return False
    async with Transport(replace(session.options, connect_timeout=1, timeout=2)) as transport:
        return not await why_not_ready(transport, system.ready)


def resetting(session: Session, workspace: Path) -> Callable[[], Awaitable[None]] | None:
    """What resets the system before a case; None where nothing does."""
    system = session.target.system
    if system is None or not system.reset:
        return None
    return lambda: run_command(system.reset, workspace, "reset")


async def run_command(command: tuple[str, ...], workspace: Path, name: str) -> None:
    """A command to its end; ConfigError when it fails."""
    try:
        process = await asyncio.create_subprocess_exec(
            *command,
            cwd=workspace,
            stdin=asyncio.subprocess.DEVNULL,
            stdout=asyncio.subprocess.PIPE,
            stderr=asyncio.subprocess.STDOUT,
        )
        try:
            async with asyncio.timeout(COMMAND_LIMIT):
                out, _ = await process.communicate()
        except TimeoutError:
            process.kill()
            raise ConfigError(
                f"the {name} command took longer than {COMMAND_LIMIT:g} s",
                where=command[0],
                mend="let it end by itself: a service belongs under `start`",
            ) from None
    except OSError as error:
        raise ConfigError(
            f"the {name} command cannot be run: {error.strerror}",
            where=command[0],
            mend="check its path and rights; the folder it runs in is the workspace",
        ) from None
    if process.returncode:
        tail = out.decode("utf-8", "replace").strip()[-300:]
        raise ConfigError(
            f"the {name} command ended with status {process.returncode}: {tail}",
            where=command[0],
            mend="run it by hand in the workspace",
        )


async def _start(system: SystemCommands, workspace: Path) -> asyncio.subprocess.Process:
    try:
        return await asyncio.create_subprocess_exec(
            *system.start,
            cwd=workspace,
            stdin=asyncio.subprocess.DEVNULL,
            stdout=asyncio.subprocess.DEVNULL,
            stderr=asyncio.subprocess.DEVNULL,
            start_new_session=True,
        )
    except OSError as error:
        raise ConfigError(
            f"the start command cannot be run: {error.strerror}",
            where=system.start[0],
            mend="check its path and rights; the folder it runs in is the workspace",
        ) from None


async def _await_ready(
    session: Session, system: SystemCommands, process: asyncio.subprocess.Process | None
) -> None:
    """Asked in the run's own way: with its certificates and addresses."""
    target = session.target
    if origin(system.ready) not in target.origins():
        raise ConfigError(
            f"the ready URL {system.ready} is at none of the target's origins",
            where=f"[targets.{target.name}.system]",
            mend="use an address of the target itself",
        )
    deadline = asyncio.get_running_loop().time() + system.ready_timeout
    error = "no response"
    async with Transport(replace(session.options, connect_timeout=2, timeout=5)) as transport:
        while asyncio.get_running_loop().time() < deadline:
            error = await why_not_ready(transport, system.ready)
            if not error:
                return
            if process is not None and process.returncode is not None:
                raise ConfigError(
                    f"the system ended with status {process.returncode} before it was ready",
                    where=system.start[0],
                    mend="run it by hand in the workspace",
                )
            await asyncio.sleep(0.1)
    raise ConfigError(
        f"the system was not ready within {system.ready_timeout:g} s: {error}",
        where=system.ready,
        mend="give it longer with ready-timeout, or correct the address",
    )


async def _end(process: asyncio.subprocess.Process) -> None:
    if process.returncode is not None:
        return
    for sign, patience in ((signal.SIGTERM, 5.0), (signal.SIGKILL, 5.0)):
        with contextlib.suppress(ProcessLookupError, PermissionError):
            os.killpg(process.pid, sign)
        with contextlib.suppress(TimeoutError):
            async with asyncio.timeout(patience):
                await process.wait()
                return
