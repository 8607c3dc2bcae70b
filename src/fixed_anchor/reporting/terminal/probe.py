"""The view of a probe."""

from __future__ import annotations

from rich.console import Console

from fixed_anchor.core.errors import printable
from fixed_anchor.reporting.terminal.findings import show_looks
from fixed_anchor.reporting.terminal.paper import STYLES, put, styled
from fixed_anchor.workflow.probe import ProbeResult


def show_probe(out: Console, result: ProbeResult) -> None:
    """What was asked about each address, and what follows."""
    for answer in result.addresses:
        line = styled(str(answer.address), "bold").append("  ")
        line.append(answer.verdict, style=STYLES[answer.verdict])
        held = ", ".join(f"{h.mac or 'somebody'} ({h.seen_by})" for h in answer.holders)
        put(out, line.append(f"   held by {printable(held)}" if held else "", style="default"))
        show_looks(out, answer.consulted, answer.not_consulted)
        out.print()
