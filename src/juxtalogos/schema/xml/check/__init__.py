"""Checking elements against components."""
