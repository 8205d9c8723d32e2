"""Messages -> contract: an operation for each method and path, what varies as its inputs; of answers it
declares nothing.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import Any

from juxtalogos.exchange.media import parse_media_type
from juxtalogos.formats.http.meaning import with_meaning
from juxtalogos.formats.http.templates import variables
from juxtalogos.formats.messages.message import Message, taken_apart, without_secrets
from juxtalogos.formats.messages.shown import engine
from juxtalogos.model.contract import Body, Contract, DefinitionFault, Input, Media, Operation, SecurityScheme
from juxtalogos.model.document import Document, Parsed
from juxtalogos.model.errors import DocumentError
from juxtalogos.model.format import Fetch
from juxtalogos.model.location import Location, escape_key
from juxtalogos.model.schema import ABSENT, Direction, SchemaRef

MOST_MESSAGES = 5_000
MOST_EXAMPLES = 10
DIALECT = "messages"


def read(name: str, root: str, fetch: Fetch, others: Iterable[str] = ()) -> Contract:
    """The contract of all messages at hand. What of them cannot be read is a fault and hides nothing else."""
    documents: dict[str, Document] = {}
    faults: list[DefinitionFault] = []
    by_operation: dict[str, list[Message]] = {}
    uris = [root, *sorted(other for other in others if other != root and other.lower().endswith(".http"))]
    for uri in uris[:MOST_MESSAGES]:
        try:
            document, lines = _clean(fetch(uri))
            message = taken_apart(document)
        except (DocumentError, ValueError) as error:
            told = (
                (f"{error.where or uri}: {error.what}", error.mend)
                if isinstance(error, DocumentError)
                else (f"{uri}: {error}", "")
            )
            faults.append(DefinitionFault(told[0], Location(root), told[1]))
            continue
        documents[uri] = document
        by_operation.setdefault(message.operation_id, []).append(message)
        faults += (
            DefinitionFault(
                "a credential stood here; it is left out",
                Location(uri, _pointer(line)),
                "set it at a target: juxtalogos targets set NAME --credential SCHEME=env:VARIABLE",
                "warning",
            )
            for line in lines
        )
    schemes: dict[str, SecurityScheme] = {}
    operations = [_operation(name, messages, schemes) for messages in by_operation.values()]
    return Contract(
        name,
        "messages",
        "HTTP/1.1",
        name,
        tuple(with_meaning(operations)),
        documents,
        root,
        engine(documents, DIALECT),
        faults=tuple(faults),
        security_schemes=tuple(schemes.values()),
        dialect=DIALECT,
        secret_fields=tuple(scheme.key for scheme in schemes.values() if scheme.key),
    )


def _clean(document: Document) -> tuple[Document, list[int]]:
    """(the document without credentials, the lines on which they stood)."""
    if document.syntax != "message":
        raise DocumentError(
            "this is no message of HTTP", where=document.uri, mend="it begins with METHOD TARGET HTTP/1.1"
        )
    data, lines = without_secrets(document.text)
    if not lines:
        return document, []
    from juxtalogos.documents.messagetext import read_message

    return Document(document.uri, "message", data, lambda: Parsed(read_message(data))), lines


def _pointer(line: int) -> str:
    return "/target" if line == 1 else f"/fields/{line - 2}"


def _operation(contract: str, messages: list[Message], schemes: dict[str, SecurityScheme]) -> Operation:
    first = messages[0]
    place = Location(first.uri, "/target")
    signs = dict.fromkeys(
        _scheme(schemes, *sign, first.uri) for message in messages for sign in message.signs
    )
    always = all(message.signs for message in messages)
    return Operation(
        first.operation_id,
        contract,
        first.method,
        first.path,
        place,
        f"/{escape_key(first.path)}/{first.method.lower()}",
        inputs=tuple(_inputs(first.path, messages)),
        body=_body(messages),
        security=((tuple(signs),) if always else ((), tuple(signs))) if signs else (),
    )


def _scheme(schemes: dict[str, SecurityScheme], place: str, name: str, uri: str) -> str:
    """The name of the scheme that a sign of it stands for, noted among all."""
    field, _, word = name.partition(" ")
    kind = (
        word.lower() if field.lower() == "authorization" and word.lower() in ("basic", "bearer") else "apiKey"
    )
    key = kind if kind != "apiKey" else field.lower()
    shown = (place, field) if kind == "apiKey" else ("", "")
    schemes.setdefault(key, SecurityScheme(key, kind, *shown, Location(uri, "/fields"), declared=False))
    return key


def _inputs(path: str, messages: list[Message]) -> Iterator[Input]:
    """Those of all messages, each once; what every message has goes along unless something else is said."""
    order = {f"path.{name}": None for name in variables(path)}
    order |= {address: None for message in messages for address in message.inputs}
    for address in order:
        having = [message for message in messages if address in message.inputs]
        if not having:
            continue
        place, _, name = address.partition(".")
        given = having[0].inputs[address]
        ref = SchemaRef(DIALECT, having[0].uri, given.pointer, Direction.REQUEST, role=address)
        yield Input(
            name,
            place,
            place == "path",
            ref,
            Location(having[0].uri, given.pointer),
            "form",
            True,
            examples=_distinct(entry.inputs[address].value for entry in having),
            usual=len(having) == len(messages),
        )


def _distinct(values: Iterable[Any]) -> tuple[Any, ...]:
    found: list[Any] = []
    for value in values:
        if value not in found and len(found) < MOST_EXAMPLES:
            found.append(value)
    return tuple(found)


def _body(messages: list[Message]) -> Body | None:
    having = [message for message in messages if message.body is not ABSENT]
    if not having:
        return None
    by_type: dict[str, list[Message]] = {}
    for entry in having:
        parsed = parse_media_type(entry.content_type)
        by_type.setdefault(str(parsed) if parsed else "application/octet-stream", []).append(entry)
    media = tuple(_media(kind, found) for kind, found in by_type.items())
    return Body(False, media, Location(having[0].uri, "/body"), usual=len(having) == len(messages))


def _media(kind: str, messages: list[Message]) -> Media:
    """A type with its parameters as the first message has them (a boundary, a charset)."""
    first = messages[0]
    place = Location(first.uri, "/body")
    ref = SchemaRef(DIALECT, place.document, place.pointer, Direction.REQUEST, role="body")
    examples = () if isinstance(first.body, bytes) else _distinct(message.body for message in messages)
    return Media(first.content_type or kind, ref, place, examples)
