"""A simulated host as a machine."""

from __future__ import annotations

import json
import os
import time
from collections.abc import Mapping
from pathlib import Path

from fixed_anchor.change.access import Rights
from fixed_anchor.core.errors import InputError
from fixed_anchor.core.survey import SurveyedInterface
from fixed_anchor.machines import MARKER
from fixed_anchor.machines.fetched import Fetched, one_by_one
from fixed_anchor.machines.files import DiskFiles
from fixed_anchor.machines.readable import Ran, Wanted
from fixed_anchor.standins.linux_engine import LinuxStandinEngine
from fixed_anchor.standins.simulated_host import StandinHost
from fixed_anchor.standins.station import Station
from fixed_anchor.vantages import vantage_on
from fixed_anchor.vantages.protocol import Vantage


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
        said = {"reach": "standin", "station": station, "host": self.name}
        self.put(f"{self.state_dir}/{MARKER}", json.dumps(said).encode())
        return super().make_folder(path)

    def run(self, argv: tuple[str, ...], timeout: float = 30.0) -> Ran:
        return Ran(*self.host.command(argv))

    def try_out(self, files: Mapping[str, str], argv: tuple[str, ...], timeout: float = 30.0) -> Ran:
        # Its parsers take what our own have taken.
        return Ran(0, "", "")

    def ask_engine(self, folder: str, verb: str, words: tuple[str, ...], timeout: float) -> Ran:
        return Ran(*LinuxStandinEngine(self.host, self.root, self.local(folder)).verb(verb, *words[:2] or ("",)))

    def fetch(self, wanted: Wanted) -> Fetched:
        return one_by_one(self, wanted)

    def vantage(self, interface: SurveyedInterface) -> Vantage:
        return vantage_on("simulated", interface, standin=self)

    @property
    def is_afar(self) -> bool:
        return False

    @property
    def rights(self) -> Rights:
        folder = self.local(self.state_dir)
        shown = folder.relative_to(Path.cwd()) if folder.is_relative_to(Path.cwd()) else folder
        return Rights(("--state-dir", str(shown)), has_tool=not self.host.host.over_ssh)

    def uptime(self) -> float:
        # Its engine counts by the time of day: there is no process of its own that a jump could harm.
        return time.time()
