"""Bytes into a `Document`: JSON, YAML, XML or a message of HTTP told apart by what they are, not by their
name.
"""

from __future__ import annotations

import re

from juxtalogos.documents.bounds import MAX_BYTES
from juxtalogos.documents.collector import collector_paused
from juxtalogos.documents.jsontext import NotJson, decode_utf8, parse_json
from juxtalogos.documents.messagetext import NotMessage, is_message, read_message
from juxtalogos.documents.xmltext import NotXml
from juxtalogos.documents.xmltree import read_tree
from juxtalogos.documents.yamltext import NotYaml, read_yaml
from juxtalogos.model.document import Document, Parsed
from juxtalogos.model.errors import DocumentError


def load_document(uri: str, data: bytes, *, limit: int = MAX_BYTES) -> Document:
    """A document's value, of XML an `XmlTree`; DocumentError with line and remedy when it cannot be read."""
    if len(data) > limit:
        raise DocumentError(
            f"{len(data):,} bytes is more than the limit of {limit:,}",
            where=uri,
            mend="split the definition over several files",
        )
    if _MARKUP.match(data[:2_000].replace(b"\x00", b"")):
        return _markup(uri, data)
    if is_message(data):
        return _message(uri, data)
    try:
        text = decode_utf8(data)
    except NotJson as error:
        raise DocumentError(str(error), where=uri, mend="save the file as UTF-8") from None
    stripped = text.lstrip()
    if stripped.startswith(("{", "[")):
        try:
            with collector_paused():
                value = parse_json(text, unique=True)
            return Document(uri, "json", data, lambda: Parsed(value))
        except NotJson as error:
            # YAML flow style begins with the same characters, so YAML has the last word unless the name says
            # JSON.
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


def _message(uri: str, data: bytes) -> Document:
    try:
        value = read_message(data)
    except NotMessage as error:
        mend = "write NAME: VALUE, and an empty line before the body"
        raise DocumentError(f"not a message: {error}", where=f"{uri}:{error.line}", mend=mend) from None
    return Document(uri, "message", data, lambda: Parsed(value))


_MARKUP = re.compile(rb"(?:\xef\xbb\xbf|\xff\xfe|\xfe\xff)?\s*<[?!A-Za-z]")
_PAGE = re.compile(
    rb"(?:\xef\xbb\xbf)?\s*(?:<\?xml[^>]*>\s*)?(?:<!--.*?-->\s*)*(?:<!doctype html|<html)",
    re.IGNORECASE | re.DOTALL,
)


def _markup(uri: str, data: bytes) -> Document:
    if _PAGE.match(data[:2_000]):
        raise DocumentError(
            "this is HTML, no definition",
            where=f"{uri}:1",
            mend="give the file or address of the definition itself",
        )
    try:
        tree = read_tree(data)
    except NotXml as error:
        where = f"{uri}:{error.line}" if error.line else uri
        raise DocumentError(f"not XML: {error}", where=where, mend="correct the text there") from None
    return Document(uri, "xml", data, lambda: Parsed(tree))
