"""Checking values against the tree, every deviation with its path."""
