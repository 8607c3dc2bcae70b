"""The catalogue of findings: every code, its severity, what it means and what to do.

Codes are stable. ``fixed-anchor explain`` and the documentation are made from
this table; rules may only raise what is listed here.
"""

from __future__ import annotations

from fixed_anchor.core.catalogue import files, host, knowledge, plan, windows, wire
from fixed_anchor.core.catalogue.kinds import BLOCKER, NOTE, WARNING, FindingKind

__all__ = ["BLOCKER", "CATALOGUE", "NOTE", "WARNING", "FindingKind"]

_ROWS = (*plan.ROWS, *knowledge.ROWS, *wire.ROWS, *host.ROWS, *files.ROWS, *windows.ROWS)

_UNDETERMINED = frozenset(
    {
        "pool-unknown",
        "source-unreadable",
        "evidence-old",
        "forwarding-not-proven",
        "host-not-reached",
        "not-probed",
        "owner-not-provable",
        "probed-by-another",
        "root-unclear",
        "match-unclear",
        "stack-unclear",
    }
)

CATALOGUE: dict[str, FindingKind] = {row[0]: FindingKind(*row, undetermined=row[0] in _UNDETERMINED) for row in _ROWS}
