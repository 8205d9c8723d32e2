"""What is different at a service after a command, for a person."""

from __future__ import annotations

from juxtalogos.cli.shared.terminal import Terminal
from juxtalogos.report.state import left_over, state_lines
from juxtalogos.run.gate.state import ServiceState


def show_state(out: Terminal, state: ServiceState, clean: str) -> None:
    """Whether the service is as it was, each difference, and what was not sent. `clean`: the command that
    removes what is left.
    """
    for line in state_lines(state):
        if line.detail:
            out.line(line.label, " ", (line.text, line.style), indent=2)
        else:
            out.line((line.label, line.style), f" {line.text}".rstrip())
    if left_over(state):
        out.note((f"to remove what this run created: {clean}", "note"))
