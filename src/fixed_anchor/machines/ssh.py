"""A host over SSH: not supported yet, and refused by name."""

from __future__ import annotations

from pathlib import Path

from fixed_anchor.core.errors import NotSupported
from fixed_anchor.machines.protocol import Machine


def reach(folder: Path, rest: str) -> Machine:
    """Raises :class:`NotSupported`."""
    raise NotSupported("hosts over ssh are not supported yet", remedy="run the tool on the host itself")
