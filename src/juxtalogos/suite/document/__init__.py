"""Arazzo documents: read, written, edited, managed."""
