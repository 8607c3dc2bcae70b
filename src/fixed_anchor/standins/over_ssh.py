"""A simulated host that is reached over SSH: what a seat meets of one, without a network and without OpenSSH."""

from __future__ import annotations

from collections.abc import Callable

from fixed_anchor.change.access import Rights, Session
from fixed_anchor.change.files import FileText
from fixed_anchor.core.addresses import IPAddress
from fixed_anchor.core.errors import Unreachable
from fixed_anchor.machines.fetched import Fetched
from fixed_anchor.machines.readable import Ran, Wanted
from fixed_anchor.standins.machine import Standin
from fixed_anchor.standins.simulated_host import StandinHost
from fixed_anchor.standins.station import Station


class StandinOverSsh(Standin):
    """One whose session comes in by its first address, and on which this program is not installed.

    Everything raises :class:`Unreachable` where the station says that it does not answer.
    """

    def __init__(self, station: Station, name: str) -> None:
        super().__init__(station, name)
        self.session = StandinSession(self.host, self._connected)

    def _connected(self) -> None:
        if not self.host.host.answers:
            raise Unreachable(
                f"{self.name} is not reached: connect to host {self.name} port 22: Connection timed out",
                remedy=f"try `ssh {self.name}`",
            )

    def fetch(self, wanted: Wanted) -> Fetched:
        self._connected()
        return super().fetch(wanted)

    def read(self, path: str) -> FileText | None:
        self._connected()
        return super().read(path)

    def link_target(self, path: str) -> str | None:
        self._connected()
        return super().link_target(path)

    def folders(self, path: str) -> list[str]:
        self._connected()
        return super().folders(path)

    def run(self, argv: tuple[str, ...], timeout: float = 30.0) -> Ran:
        self._connected()
        return super().run(argv, timeout)

    @property
    def rights(self) -> Rights:
        self._connected()
        return super().rights


class StandinSession(Session):
    """The session with it: by its first address."""

    def __init__(self, host: StandinHost, connected: Callable[[], None]) -> None:
        self._host = host
        self._connected = connected

    def address(self) -> IPAddress | None:
        self._connected()
        return self._host.first_address()

    def port(self) -> int | None:
        self._connected()
        return 22

    def answers_anew(self) -> str | None:
        return f"{self.address()} is this host, by its host key and its MAC"
