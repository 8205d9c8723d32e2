"""The signals that asked the program to end, in their order.

It imports nothing: it is there before all else.
"""

from __future__ import annotations

taken: list[int] = []
