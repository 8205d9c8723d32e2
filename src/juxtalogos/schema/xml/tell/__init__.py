"""Telling of declarations: outlines, addresses, plain values, elements."""
