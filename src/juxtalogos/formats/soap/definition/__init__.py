"""WSDL documents read into a contract."""
