"""A simulated Windows machine as a machine."""

from __future__ import annotations

from fixed_anchor.core.elsewhere import Spelling
from fixed_anchor.core.errors import AnchorError, OtherSystem
from fixed_anchor.machines.fetched import Fetched
from fixed_anchor.machines.readable import Ran, Wanted, not_asked
from fixed_anchor.machines.search import Found
from fixed_anchor.machines.windows.windows_facts import WindowsFacts
from fixed_anchor.standins.machine import Standin
from fixed_anchor.standins.station import Station
from fixed_anchor.standins.windows.told import facts_of
from fixed_anchor.standins.windows_engine import WindowsStandinEngine
from fixed_anchor.standins.windows_host import WindowsStandinHost


class WindowsStandin(Standin):
    """One host of a station that is a Windows machine. It has no files of Linux, and answers none of its commands."""

    engine_file = "engine.ps1"
    by_hand_page = "docs/by-hand-windows.md"

    def __init__(self, station: Station, name: str) -> None:
        super().__init__(station, name)
        self.host: WindowsStandinHost = WindowsStandinHost(station, station.hosts[name], self)

    @property
    def windows(self) -> WindowsFacts | None:
        """What its collector would tell now."""
        return facts_of(self.host.state())

    def fetch(self, wanted: Wanted) -> Fetched:
        raise OtherSystem(f"{self.name} runs Windows: it has no files of Linux")

    def run(self, argv: tuple[str, ...], timeout: float = 30.0) -> Ran:
        return not_asked(argv)

    def ask_engine(self, folder: str, verb: str, words: tuple[str, ...], timeout: float) -> Ran:
        return Ran(*WindowsStandinEngine(self.host, self.root, self.local(folder)).verb(verb, *words[:2] or ("",)))

    def search(self, spelling: Spelling) -> Found:
        return Found((), ())

    def why_no_change(self) -> AnchorError | None:
        facts = self.windows
        return facts.why_no_change(self.name) if facts is not None else None

    def answers_anew(self) -> str | None:
        first = next(iter(self.host.host.interfaces), None)
        held = next(iter(self.host.addresses_of(first)), None) if first is not None else None
        return f"{held} is this host, by its MAC"

    @property
    def has_tool(self) -> bool:
        return False
