"""Bodies, and parts of them, that come from files: `file:PATH` in place of a whole body, of a part of a
multipart body, of an attachment.
"""

from __future__ import annotations

import mimetypes
import re
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path, PurePosixPath
from typing import Any

from juxtalogos.exchange.media import chosen_media, parse_media_type
from juxtalogos.model.contract import Operation
from juxtalogos.model.errors import DocumentError, UsageError, quoted
from juxtalogos.model.wire import Inputs
from juxtalogos.workspace.files import read_inside, write_whole

FILE = "file:"


def with_files(inputs: Inputs, operation: Operation, workspace: Path) -> Inputs:
    """Inputs with the bytes of the files that their body names; UsageError when one is not there, or not the
    workspace's.
    """
    body = inputs.body
    if isinstance(body, str) and body.startswith(FILE):
        return replace(inputs, body=_bytes(body, workspace))
    if not isinstance(body, dict):
        return inputs
    names = list(_parts(inputs, operation))
    if not any(_named(body[name]) for name in names):
        return inputs
    return replace(inputs, body={**body, **{name: _read(body[name], workspace) for name in names}})


def _parts(inputs: Inputs, operation: Operation) -> Iterator[str]:
    """The names of what of a body goes as a part of its own."""
    media = chosen_media(operation, inputs.content_type)
    parsed = parse_media_type(inputs.content_type or (media.media_type if media else ""))
    apart = {name for name, _ in media.encoding} if media and not (parsed and parsed.is_form) else set()
    for name in inputs.body:
        if (parsed is not None and parsed.type == "multipart") or name in apart:
            yield name


def _named(value: Any) -> bool:
    return (
        any(_named(member) for member in value)
        if isinstance(value, list)
        else isinstance(value, str) and value.startswith(FILE)
    )


def _read(value: Any, workspace: Path) -> Any:
    if isinstance(value, list):
        return [_read(member, workspace) for member in value]
    return _bytes(value, workspace) if _named(value) else value


def _bytes(text: str, workspace: Path) -> bytes:
    name = text.removeprefix(FILE)
    mend = "write file:PATH of a file in the workspace, seen from its folder"
    if (
        "\n" in name
        or name.startswith("/")
        or any(part.startswith(".") for part in PurePosixPath(name).parts)
    ):
        raise UsageError(f"{quoted(name)} is no file that may be sent", mend=mend)
    try:
        return read_inside(workspace, name)
    except DocumentError as error:
        raise UsageError(error.what, where=name, mend=mend) from None


def files_named(value: Any) -> Iterator[str]:
    """The files that a payload may name, whether they are there or not."""
    if isinstance(value, dict | list):
        for member in value.values() if isinstance(value, dict) else value:
            yield from files_named(member)
    elif isinstance(value, str) and value.startswith(FILE) and "\n" not in value and "{" not in value:
        yield value.removeprefix(FILE)


def put_beside(body: bytes, content_type: str, suite: Path, step: str, workspace: Path) -> str:
    """Keeps bytes beside a suite, in `NAME.bodies/`; gives the `file:PATH` that names them."""
    parsed = parse_media_type(content_type)
    ending = (mimetypes.guess_extension(str(parsed)) if parsed else None) or ".bin"
    folder = suite.with_name(suite.name.partition(".arazzo.")[0] + ".bodies")
    stem = re.sub(r"[^A-Za-z0-9_-]+", "-", step).strip("-")
    for number in range(1, 1_000):
        path = folder / f"{stem if number == 1 else f'{stem}-{number}'}{ending}"
        if not path.exists() or path.read_bytes() == body:
            write_whole(path, body)
            return FILE + path.relative_to(workspace).as_posix()
    raise UsageError("a thousand bodies of this step are kept already", where=str(folder), mend="remove some")
