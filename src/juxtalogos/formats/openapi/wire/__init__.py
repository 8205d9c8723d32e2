"""Requests and answers by an OpenAPI contract."""
