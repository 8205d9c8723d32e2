"""Laws by name: ours, and those that packages add; a technique of theirs judges them."""

from __future__ import annotations

from juxtalogos.model.laws import LAWS as _OURS
from juxtalogos.model.laws import Law
from juxtalogos.plugins import Table

LAWS: Table[Law] = Table("juxtalogos.laws")
for _law in _OURS.values():
    LAWS.register(_law.name, _law)
