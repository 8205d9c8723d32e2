"""Requests and answers by an OData contract."""
