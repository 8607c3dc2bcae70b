"""Places on a segment from which packets can be sent. A new kind is a new module and one line in :data:`VANTAGES`."""

from __future__ import annotations

from importlib import import_module
from typing import Any

from fixed_anchor.core.survey import SurveyedInterface
from fixed_anchor.vantages.protocol import Vantage

#: Module and function that make a vantage of each kind, loaded when one is asked for.
VANTAGES: dict[str, tuple[str, str]] = {
    "raw-socket": ("fixed_anchor.vantages.raw", "on"),
    "neighbour-table": ("fixed_anchor.vantages.unprivileged", "on"),
    "simulated": ("fixed_anchor.standins.vantage", "on"),
}


def vantage_on(kind: str, found: SurveyedInterface, **what: Any) -> Vantage:
    """The vantage of ``kind`` on an interface; ``what`` is whatever else that kind needs."""
    module, function = VANTAGES[kind]
    made: Vantage = getattr(import_module(module), function)(found, **what)
    return made
