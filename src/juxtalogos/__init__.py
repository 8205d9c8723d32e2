"""Juxtalogos lays what a service declares beside what it does."""

from juxtalogos._version import VERSION as __version__

__all__ = ["__version__"]
