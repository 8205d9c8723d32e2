"""CSDL types as schemas: lowered to the tree that the JSON engine checks, samples and tells."""
