"""What a row of the catalogue is."""

from __future__ import annotations

import msgspec

BLOCKER = "blocker"
WARNING = "warning"
NOTE = "note"


class FindingKind(msgspec.Struct, frozen=True):
    """One kind of finding.

    ``undetermined`` marks those that say that something could not be looked at.
    ``why`` and ``do`` are for a reader who meets the code for the first time.
    """

    code: str
    family: str
    severity: str
    title: str
    why: str
    do: str
    undetermined: bool = False

    @property
    def shown_severity(self) -> str:
        """``undetermined`` where something could not be looked at, else the severity."""
        return "undetermined" if self.undetermined else self.severity


#: Code, family, severity, title, why it matters, and what to do.
Row = tuple[str, str, str, str, str, str]
