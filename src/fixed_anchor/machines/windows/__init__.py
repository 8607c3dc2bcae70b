"""Windows machines: what their collector tells of them, and the folder in which changes lie there."""

from __future__ import annotations

from importlib import resources


def house_source() -> str:
    """The text of ``house.ps1``: what the engine, runbooks and a seat's errands know of that folder and its files."""
    return resources.files(__package__).joinpath("house.ps1").read_text("ascii")
