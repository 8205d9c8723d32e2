"""Specialised functions written from the tree: the fast way over sound values."""
