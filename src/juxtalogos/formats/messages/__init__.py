"""A folder of HTTP/1.1 request messages (RFC 9112), one a file: calls that no definition declares."""

from juxtalogos.formats.http.outcomes import read_with_meaning
from juxtalogos.formats.on_demand import on_demand
from juxtalogos.model.document import Document
from juxtalogos.model.format import Format

_HERE = "juxtalogos.formats.messages"


def claims(document: Document) -> bool:
    return document.syntax == "message"


MESSAGES = Format(
    "messages",
    claims,
    read=read_with_meaning(on_demand(f"{_HERE}.reader:read")),
    engine=on_demand(f"{_HERE}.shown:engine"),
    bind=on_demand(f"{_HERE}.binding:MessagesWire"),
    whole_folder=True,
    endings=(".http",),
    plain_names=("get", "post", "put", "patch", "delete", "head", "options"),
    hint="a message of HTTP begins with METHOD TARGET HTTP/1.1",
)
