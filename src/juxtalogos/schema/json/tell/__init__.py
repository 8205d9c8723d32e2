"""Telling of schemas: outlines, words, elements and what values exercise of them."""
