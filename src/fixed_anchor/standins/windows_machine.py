"""A simulated Windows machine as a machine."""

from __future__ import annotations

from fixed_anchor.change.access import Rights, Session
from fixed_anchor.core.elsewhere import Spelling
from fixed_anchor.core.errors import OtherSystem
from fixed_anchor.machines.fetched import Fetched
from fixed_anchor.machines.readable import Ran, Wanted, not_asked
from fixed_anchor.machines.search import Found
from fixed_anchor.machines.windows.windows_facts import WindowsFacts
from fixed_anchor.standins.machine import Standin
from fixed_anchor.standins.station import Station
from fixed_anchor.standins.windows.told import facts_of
from fixed_anchor.standins.windows_engine import WindowsStandinEngine
from fixed_anchor.standins.windows_host import WindowsStandinHost


class WindowsStandinSession(Session):
    """Over it no session of the operator comes in; a new connection leads there by its first address."""

    def __init__(self, host: WindowsStandinHost) -> None:
        self._host = host

    def answers_anew(self) -> str | None:
        return f"{self._host.first_address()} is this host, by its MAC"


class WindowsStandin(Standin):
    """One host of a station that is a Windows machine. It has no files of Linux, and answers none of its commands."""

    engine_file = "engine.ps1"
    by_hand_page = "docs/by-hand-windows.md"

    def __init__(self, station: Station, name: str) -> None:
        super().__init__(station, name)
        self.host: WindowsStandinHost = WindowsStandinHost(station, station.hosts[name], self)
        self.session = WindowsStandinSession(self.host)

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

    @property
    def rights(self) -> Rights:
        refusal = facts_of(self.host.state()).why_no_change(self.name)
        return Rights(super().rights.words, has_tool=False, refusal=refusal)
