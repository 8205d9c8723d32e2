"""The tree that every JSON-like schema is lowered to."""
