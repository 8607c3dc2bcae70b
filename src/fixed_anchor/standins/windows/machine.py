"""A simulated Windows machine as a machine."""

from __future__ import annotations

from fixed_anchor.core.elsewhere import Spelling
from fixed_anchor.core.errors import AnchorError, NotSupported, OtherSystem
from fixed_anchor.machines.fetched import Fetched
from fixed_anchor.machines.readable import Ran, Wanted, not_asked
from fixed_anchor.machines.search import Found
from fixed_anchor.machines.windows.facts import Facts
from fixed_anchor.standins.machine import Standin
from fixed_anchor.standins.station import Station
from fixed_anchor.standins.windows.host import WindowsStandinHost
from fixed_anchor.standins.windows.told import facts_of


class WindowsStandin(Standin):
    """One host of a station that is a Windows machine. It has no files of Linux, and answers none of its commands."""

    def __init__(self, station: Station, name: str) -> None:
        super().__init__(station, name)
        self.host: WindowsStandinHost = WindowsStandinHost(station, station.hosts[name], self)

    @property
    def windows(self) -> Facts | None:
        """What its collector would tell now."""
        return facts_of(self.host.state())

    def fetch(self, wanted: Wanted) -> Fetched:
        raise OtherSystem(f"{self.name} runs Windows: it has no files of Linux")

    def run(self, argv: tuple[str, ...], timeout: float = 30.0) -> Ran:
        return not_asked(argv)

    def search(self, spelling: Spelling) -> Found:
        return Found((), ())

    def why_no_change(self) -> AnchorError | None:
        return NotSupported(
            f"{self.name} runs Windows: changes are drafted for it, and not carried out yet",
            remedy="nothing was changed; the draft says what to set by hand",
        )

    @property
    def has_tool(self) -> bool:
        return False
