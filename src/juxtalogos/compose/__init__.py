"""Composing: dependencies between operations, requests made of samples, cases and flows."""
