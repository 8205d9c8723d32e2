"""Frozen data and the Protocols between rooms; no input or output."""
