"""A simulated host as a machine."""

from __future__ import annotations

import json
import os
from pathlib import Path

from fixed_anchor.core.errors import InputError
from fixed_anchor.machines.files import DiskFiles
from fixed_anchor.machines.protocol import Ran
from fixed_anchor.standins.engine import StandinEngine
from fixed_anchor.standins.host import StandinHost
from fixed_anchor.standins.layout import STATE_MARKER
from fixed_anchor.standins.station import Station, read_station


class Standin(DiskFiles):
    """One host of a station. Raises :class:`InputError` where the station has no such host."""

    running = True

    def __init__(self, station: Station, name: str) -> None:
        if name not in station.hosts:
            raise InputError(
                f"the station has no host {name}",
                file=str(station.file),
                expected="one of " + ", ".join(station.hosts),
            )
        super().__init__(station.hosts[name].tree)
        self.name = name
        self.station = station
        self.state_dir = "/state"
        self.host = StandinHost(station, station.hosts[name], self)

    def make_folder(self, path: str) -> bool:
        # The marker lets `status`, `confirm` and `restore` find the stand-in from its state folder.
        station = os.path.relpath(self.station.file, self.local(self.state_dir))
        self.put(f"{self.state_dir}/{STATE_MARKER}", json.dumps({"station": station, "host": self.name}).encode())
        return super().make_folder(path)

    def run(self, argv: tuple[str, ...], timeout: float = 30.0) -> Ran:
        if len(argv) >= 4 and argv[0] == "/bin/sh" and argv[1].endswith("/engine.sh"):
            engine = StandinEngine(self.host, self.root, self.local(argv[3]))
            return Ran(*engine.verb(argv[2], argv[4] if len(argv) > 4 else ""))
        return Ran(*self.host.command(argv))

    def all_hosts(self) -> dict[str, StandinHost]:
        """Every host of the same station, for the wire between them."""
        return {name: Standin(self.station, name).host for name in self.station.hosts}


def standin_of(station_file: Path, name: str) -> Standin:
    """The host ``name`` of the station described in ``station_file``."""
    return Standin(read_station(station_file), name)


def standin_of_state_dir(state_dir: Path) -> Standin:
    """The stand-in that a state folder belongs to. Raises :class:`InputError`."""
    marker = state_dir / STATE_MARKER
    try:
        said = json.loads(marker.read_text())
        return standin_of(Path(os.path.normpath(state_dir / said["station"])), said["host"])
    except (OSError, ValueError, KeyError, TypeError):
        raise InputError("this does not name a stand-in", file=str(marker)) from None
