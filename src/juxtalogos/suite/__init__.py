"""Suites: the Arazzo document, expressions, request skeletons, dependencies between operations, composing."""
