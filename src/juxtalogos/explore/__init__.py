"""Exploring: requests of our own, what must come back, and laws over several exchanges."""
