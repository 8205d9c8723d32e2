"""OpenAPI documents read into a contract."""
