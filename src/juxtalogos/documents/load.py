"""Bytes into a `Document`: JSON or YAML told apart by what they are, not by their name."""

from __future__ import annotations

import re

from juxtalogos.documents.bounds import MAX_BYTES
from juxtalogos.documents.collector import collector_paused
from juxtalogos.documents.jsontext import NotJson, decode_utf8, parse_json
from juxtalogos.documents.yamltext import NotYaml, read_yaml
from juxtalogos.model.contract import Document, Parsed
from juxtalogos.model.errors import DocumentError


def load_document(uri: str, data: bytes, *, limit: int = MAX_BYTES) -> Document:
    """A document's value; DocumentError with line and remedy when it cannot be read."""
    if len(data) > limit:
        raise DocumentError(
            f"{len(data):,} bytes is more than the limit of {limit:,}",
            where=uri,
            mend="split the definition over several files",
        )
    try:
        text = decode_utf8(data)
    except NotJson as error:
        raise DocumentError(str(error), where=uri, mend="save the file as UTF-8") from None
    stripped = text.lstrip()
    if re.match(r"<[?!A-Za-z]", stripped):
        kind = "HTML" if stripped[:200].lower().startswith(("<!doctype html", "<html")) else "XML"
        raise DocumentError(
            f"this is {kind}, not JSON or YAML",
            where=f"{uri}:1",
            mend="give the file or address of the definition itself",
        )
    if stripped.startswith(("{", "[")):
        try:
            with collector_paused():
                value = parse_json(text, unique=True)
            return Document(uri, "json", data, lambda: Parsed(value))
        except NotJson as error:
            # YAML flow style begins with the same characters, so YAML has the last word unless the name says JSON.
            if uri.lower().endswith(".json"):
                line = text.count("\n", 0, error.offset) + 1
                raise DocumentError(
                    f"not JSON: {error}", where=f"{uri}:{line}", mend="correct the text there"
                ) from None
    try:
        value, marks = read_yaml(text)
        return Document(uri, "yaml", data, lambda: Parsed(value, marks))
    except NotYaml as error:
        where = f"{uri}:{error.line}" if error.line else uri
        raise DocumentError(f"not YAML: {error}", where=where, mend="correct the text there") from None
    except RecursionError:
        raise DocumentError("nested too deep to read", where=uri, mend="flatten the document") from None
