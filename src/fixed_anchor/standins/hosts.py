"""The simulated hosts of a station, each as what it is."""

from __future__ import annotations

from fixed_anchor.standins.machine import Standin
from fixed_anchor.standins.over_ssh import StandinOverSsh
from fixed_anchor.standins.simulated_host import StandinHost
from fixed_anchor.standins.station import Station
from fixed_anchor.standins.windows_host import is_windows
from fixed_anchor.standins.windows_machine import WindowsStandin


def at_hand(station: Station, name: str) -> Standin:
    """The host ``name`` of a station, whether it answers or not. Raises :class:`InputError` where there is none."""
    host = station.hosts.get(name)
    return WindowsStandin(station, name) if host is not None and is_windows(host) else Standin(station, name)


def standin(station: Station, name: str) -> Standin:
    """The same as it is reached. Raises :class:`InputError` where there is none."""
    host = station.hosts.get(name)
    return StandinOverSsh(station, name) if host is not None and host.over_ssh else at_hand(station, name)


def hosts_on(station: Station, segment: str) -> dict[str, StandinHost]:
    """Every host of a station with an interface on ``segment``, for the wire between them."""
    beside = (n for n, host in station.hosts.items() if any(i.segment == segment for i in host.interfaces))
    return {name: at_hand(station, name).host for name in beside}
