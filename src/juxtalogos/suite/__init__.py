"""Suites: the Arazzo document, its languages, checks, tables and kept answers."""
