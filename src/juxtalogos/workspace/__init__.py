"""A workspace: its configuration, its imported definitions, what of it is trusted."""
