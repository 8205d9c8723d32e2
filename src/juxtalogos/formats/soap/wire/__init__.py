"""Envelopes by a WSDL contract."""
