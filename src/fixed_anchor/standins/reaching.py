"""How a plan, and a state folder, lead to a simulated host."""

from __future__ import annotations

import os
from pathlib import Path

from fixed_anchor.core.errors import InputError
from fixed_anchor.machines import MARKER
from fixed_anchor.machines.seat import Way
from fixed_anchor.standins.hosts import standin
from fixed_anchor.standins.machine import Standin
from fixed_anchor.standins.station import read_station


def reach(way: Way) -> Standin:
    """The host of ``STATION-FILE/HOST``, as the plan reaches it."""
    station, _, name = way.rest.rpartition("/")
    if not station or not name:
        raise InputError(f"{way.rest!r} names no stand-in", expected="standin:STATION-FILE/HOST")
    return standin(read_station(way.folder / station), name)


def at_state_dir(state_dir: Path, said: dict[str, str]) -> Standin:
    """The stand-in that a state folder belongs to, by what its marker says. Raises :class:`InputError`."""
    try:
        station = Path(os.path.normpath(state_dir / said["station"]))
        return standin(read_station(station), said["host"])
    except (KeyError, TypeError):
        raise InputError("this does not name a stand-in", file=str(state_dir / MARKER)) from None
