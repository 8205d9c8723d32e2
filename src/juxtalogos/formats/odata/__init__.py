"""OData V2 and V4 (V3 metadata is read too): reading metadata and speaking the protocol by it."""

from __future__ import annotations

from typing import Any
from urllib.parse import urljoin

from juxtalogos.documents.xmltext import local
from juxtalogos.documents.xmltree import XmlTree
from juxtalogos.formats.http.outcomes import read_with_meaning
from juxtalogos.formats.on_demand import on_demand
from juxtalogos.model.document import Document
from juxtalogos.model.format import Format, SignInScheme

_HERE = "juxtalogos.formats.odata"


def claims(document: Document) -> bool:
    """Metadata in XML (EDMX, or a bare schema), or in JSON (CSDL JSON, `$Version`)."""
    value = document.value
    if isinstance(value, XmlTree):
        root = local(value.root.tag)
        return root == "Edmx" or (root == "Schema" and value.root.get("Namespace") is not None)
    return document.syntax == "json" and isinstance(value, dict) and isinstance(value.get("$Version"), str)


def is_root(document: Document) -> bool:
    """Of metadata in several documents, the one with the container."""
    value = document.value
    if isinstance(value, XmlTree):
        return claims(document) and any(local(node.tag) == "EntityContainer" for node in value.root.iter())
    return claims(document) and "$EntityContainer" in value


def leads_to(document: Document, url: str) -> str:
    """A service document leads to the metadata beside it (4.0 part 1, 11.1; V2, service documents)."""
    value = document.value
    if isinstance(value, XmlTree):
        if value.root.tag not in (
            "{http://www.w3.org/2007/app}service",
            "{http://purl.org/atom/app#}service",
        ):
            return ""
    elif not isinstance(value, dict) or not (_is_list(value) or _is_old_list(value)):
        return ""
    context = value.get("@odata.context", value.get("@context")) if isinstance(value, dict) else None
    root = f"{url.partition('?')[0].rstrip('/')}/"
    if isinstance(context, str) and "$metadata" in context:
        return urljoin(root, context.partition("#")[0])
    return f"{root}$metadata"


def _is_list(value: dict[str, Any]) -> bool:
    context = value.get("@odata.context", value.get("@context"))
    return isinstance(value.get("value"), list) and isinstance(context, str)


def _is_old_list(value: dict[str, Any]) -> bool:
    inner = value.get("d")
    return isinstance(inner, dict) and isinstance(inner.get("EntitySets"), list)


ODATA = Format(
    "odata",
    claims,
    read=read_with_meaning(on_demand(f"{_HERE}.definition.reader:read")),
    engine=on_demand(f"{_HERE}.schemas.engine:engine"),
    bind=on_demand(f"{_HERE}.binding:ODataWire"),
    is_root=is_root,
    leads_to=leads_to,
    sign_in={
        "anti-forgery": SignInScheme(
            on_demand(f"{_HERE}.wire.forgery:with_token"),
            "a token against forged requests as header {key}, fetched by a first GET",
            void=on_demand(f"{_HERE}.wire.forgery:is_void"),
            void_on=(401, 403),
            at_base=True,
        )
    },
    finding_kinds={
        "option.dropped": "a query option was not honoured",
        "control.untrue": "control information is missing or wrong",
        "version.protocol": "the version header is missing or not allowed for the request",
        "change.lost": "a change was acknowledged but is not there when read",
    },
    element_kinds={
        "option": "query options",
        "followed": "navigation followed",
    },
    endings=(".xml", ".edmx", ".csdl", ".json"),
    plain_names=("metadata", "$metadata", "edmx", "csdl", "service", "definition", "index", "main"),
    hint="OData metadata has an <edmx:Edmx> root, or `$Version` in JSON",
)
