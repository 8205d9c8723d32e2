"""OData metadata read into a contract."""
