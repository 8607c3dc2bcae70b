"""Looking without root: a datagram makes the kernel resolve the neighbour, then its table is read.

Weaker than frames of our own: the kernel may be content with what it knew shortly before, and
a second holder of an address is never seen.
"""

from __future__ import annotations

import contextlib
import json
import socket
import subprocess
import time
from collections.abc import Callable, Iterable
from typing import Any

from fixed_anchor.core.addresses import IPAddress, parse_address
from fixed_anchor.core.errors import NoAccess
from fixed_anchor.core.survey import SurveyedInterface
from fixed_anchor.vantages.own_sockets import OwnSockets, WithoutNeighbours
from fixed_anchor.vantages.protocol import Vantage

_DISCARD = 9
#: More unresolved at once fill the send buffer, and the kernel drops them without a word.
BATCH = 256
#: The kernel's whole table holds 1,024 entries for all interfaces, and overflows without an error.
MOST = 1000
#: The kernel gives up on a silent neighbour after 3 s; one it knew before is asked anew after 5.
SILENT_AFTER, KNOWN_AFTER = 3.4, 9.0
_UNDECIDED = frozenset({"INCOMPLETE", "STALE", "DELAY", "PROBE"})

#: The entries of a kernel's table by address, as ip-neighbour(8) shows them in JSON.
Table = dict[IPAddress, dict[str, Any]]


def on(found: SurveyedInterface) -> Vantage:
    """The vantage on a surveyed interface of this machine."""
    if found.link.mac is None:
        return WithoutNeighbours(found.name)
    return UnprivilegedVantage(found.name, found.link.vlan)


class UnprivilegedVantage(OwnSockets):
    """The kernel's neighbour table of an interface of this machine."""

    has_neighbours = True

    def __init__(self, interface: str, vlan: int | None = None) -> None:
        self.interface = interface
        self.name = f"neighbour table of {interface}" + (f", VLAN {vlan}" if vlan is not None else "")
        self.frames = None
        self.why_not: str | None = None
        self.asked = "resolved by the kernel (without root, which is weaker than own probes)"

    @property
    def table(self) -> UnprivilegedVantage:
        return self

    def neighbours(self, targets: Iterable[IPAddress]) -> dict[IPAddress, dict[str, str]]:
        return resolved_by_kernel(targets, self._provoke, self._table)

    def router_says(self, target: IPAddress) -> tuple[IPAddress, str] | None:
        return None

    def others_with(self, address: IPAddress) -> dict[str, str] | None:
        return None

    def _provoke(self, targets: list[IPAddress]) -> None:
        for target in targets:
            family = socket.AF_INET if target.version == 4 else socket.AF_INET6
            with socket.socket(family, socket.SOCK_DGRAM) as udp:
                udp.setblocking(False)
                with contextlib.suppress(OSError):
                    udp.sendto(b"", self._destination(target))

    def _destination(self, target: IPAddress) -> tuple[str, int] | tuple[str, int, int, int]:
        if target.version == 6 and target.is_link_local:
            return str(target), _DISCARD, 0, socket.if_nametoindex(self.interface)
        return str(target), _DISCARD

    def _table(self) -> Table:
        try:
            done = subprocess.run(
                table_command(self.interface), capture_output=True, text=True, timeout=10, check=False
            )
        except (OSError, subprocess.TimeoutExpired):
            raise NoAccess("the kernel's neighbour table cannot be read", remedy="install iproute2") from None
        return read_table(done.stdout)


def table_command(interface: str) -> tuple[str, ...]:
    """The command that shows the neighbours of an interface, ip-neighbour(8)."""
    return ("ip", "-j", "neighbor", "show", "dev", interface)


def read_table(text: str) -> Table:
    """The table in what that command printed. Raises :class:`NoAccess`."""
    try:
        return {parse_address(entry["dst"]): entry for entry in json.loads(text or "[]") if "dst" in entry}
    except (ValueError, TypeError):
        raise NoAccess("the kernel's neighbour table cannot be read", remedy="install iproute2") from None


def resolved_by_kernel(
    targets: Iterable[IPAddress],
    provoke: Callable[[list[IPAddress]], None],
    table: Callable[[], Table],
    pause: float = 0.1,
) -> dict[IPAddress, dict[str, str]]:
    """For each of ``targets`` the MAC that a kernel resolved it to, with how it was seen.

    One that never stood in its table is left out: nobody was asked for it. That is so for the kernel's own addresses.
    ``provoke`` makes the kernel resolve some, ``table`` reads its table, again after ``pause`` seconds. Raises
    :class:`NoAccess`.
    """
    wanted = list(dict.fromkeys(targets))
    if len(wanted) > MOST:
        raise NoAccess(
            f"{len(wanted)} addresses are more than the kernel's neighbour table holds",
            remedy="run as root, or ask for fewer",
        )
    holders: dict[IPAddress, dict[str, str]] = {}
    for at in range(0, len(wanted), BATCH):
        begin = time.monotonic()
        provoke(wanted[at : at + BATCH])
        left = set(wanted[at : at + BATCH])
        while left and (waited := time.monotonic() - begin) < KNOWN_AFTER:
            time.sleep(pause)
            now = table()
            for target in list(left):
                entry = now.get(target)
                if entry is not None:
                    holders.setdefault(target, {})
                state = entry["state"][0] if entry and entry.get("state") else ""
                if entry is not None and state in ("REACHABLE", "PERMANENT", "NOARP") and "lladdr" in entry:
                    how = "resolved by the kernel" if state == "REACHABLE" else f"a {state.lower()} entry"
                    holders[target][str(entry["lladdr"])] = how
                    left.discard(target)
                elif state not in _UNDECIDED and (state == "FAILED" or waited > SILENT_AFTER):
                    left.discard(target)
    return holders
