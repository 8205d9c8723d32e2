"""How fast requests follow one another."""

from __future__ import annotations

from dataclasses import replace

from juxtalogos.exchange.transport import TransportOptions
from juxtalogos.run.engine.plan import RunPlan


def paced(options: TransportOptions, plan: RunPlan, processes: int = 1) -> TransportOptions:
    """The options with the plan's pace, which all processes together keep."""
    return replace(options, pace=(plan.pace or options.pace) * max(processes, 1), patient=plan.patient)
