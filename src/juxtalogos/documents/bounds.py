"""Bounds of what is read as one document."""

MAX_BYTES = 64 * 1024 * 1024
