"""A data service that nobody here wrote, over a small model of our own: `v4` (JSON) or `v2` (JSON and Atom).
Prints its address.
"""

from __future__ import annotations

import sys
from decimal import Decimal
from pathlib import Path
from socketserver import ThreadingMixIn
from typing import Any
from wsgiref.simple_server import WSGIRequestHandler, WSGIServer, make_server

HERE = Path(__file__).parent


class Server(ThreadingMixIn, WSGIServer):
    daemon_threads = True


class Handler(WSGIRequestHandler):
    def log_message(self, format: str, *args: Any) -> None:
        pass


def v4(url: str) -> Any:
    from odatapy.data import Entity, ValueType
    from odatapy.edm.xml_io import XmlEdmProvider
    from odatapy.server import OData
    from odatapy.server.adapters import ODataWSGIApp
    from odatapy.server.inmemory import InMemoryDataStore, InMemoryProcessor

    def entity(**values: tuple[Any, str]) -> Any:
        one = Entity()
        for name, (value, kind) in values.items():
            one.set_property(name, value, ValueType.PRIMITIVE, kind)
        return one

    odata = OData.new_instance()
    handler = odata.create_handler(
        odata.create_service_metadata(XmlEdmProvider((HERE / "stores.edmx").read_text()))
    )
    store = InMemoryDataStore()
    store.set_entities("Keepers", [entity(Badge=(f"K-{number}", "Edm.String")) for number in (1, 2, 3)])
    store.set_entities(
        "Items",
        [
            entity(
                ItemId=(number, "Edm.Int32"),
                Name=(f"cable {number}", "Edm.String"),
                Weight=(Decimal("3.50") * number, "Edm.Decimal"),
            )
            for number in (7, 5, 6)
        ],
    )
    handler.register(InMemoryProcessor(store))
    return ODataWSGIApp(handler)


def v2(url: str) -> Any:
    import pyslet.odata2.metadata as metadata
    from pyslet.odata2.memds import InMemoryEntityContainer
    from pyslet.odata2.server import Server as DataServer

    document = metadata.Document()
    with (HERE / "quays.edmx").open("rb") as source:
        document.read(source)
    InMemoryEntityContainer(document.root.DataServices["Merrow.Quays"])
    server = DataServer(url)
    server.set_model(document)
    rows: dict[str, list[dict[str, Any]]] = {
        "Quays": [{"Code": "NORTH", "Length": Decimal("120.5")}, {"Code": "EAST", "Length": Decimal(80)}],
        "Bollards": [
            {"Number": number, "Pull": pull, "Loose": False} for number, pull in ((3, 40), (1, 60), (2, 20))
        ],
    }
    for name, entities in rows.items():
        with document.root.DataServices[f"Merrow.Quays.{name}"].open() as collection:
            for values in entities:
                one = collection.new_entity()
                for key, value in values.items():
                    one[key].set_from_value(value)
                collection.insert_entity(one)
    return server


if __name__ == "__main__":
    with make_server("127.0.0.1", 0, None, Server, Handler) as listening:  # type: ignore[arg-type]
        address = f"http://127.0.0.1:{listening.server_address[1]}/"
        listening.set_app({"v4": v4, "v2": v2}[sys.argv[1]](address))
        print(address, flush=True)
        listening.serve_forever()
