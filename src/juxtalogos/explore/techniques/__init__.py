"""Techniques of exploring, a module a family; `explorer.py` has them in their order."""
