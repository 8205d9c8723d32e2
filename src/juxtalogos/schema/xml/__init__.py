"""The XML schema engine: XSD 1.0 documents, read into components; elements checked, sampled and broken by them."""

from juxtalogos.schema.xml.set import SchemaSet, compile_schemas

__all__ = ["SchemaSet", "compile_schemas"]
