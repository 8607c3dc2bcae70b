"""Looking without root: a datagram makes the kernel resolve the neighbour, then its table is read.

Weaker than frames of our own: the kernel may be content with what it knew shortly before, and
a second holder of an address is never seen.
"""

from __future__ import annotations

import json
import socket
import subprocess
import time
from collections.abc import Iterable
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
        wanted = list(dict.fromkeys(targets))
        if len(wanted) > MOST:
            raise NoAccess(
                f"{len(wanted)} addresses are more than the kernel's neighbour table holds",
                remedy="run as root, or ask for fewer",
            )
        holders: dict[IPAddress, dict[str, str]] = {target: {} for target in wanted}
        for at in range(0, len(wanted), BATCH):
            self._batch(wanted[at : at + BATCH], holders)
        return holders

    def _batch(self, targets: list[IPAddress], holders: dict[IPAddress, dict[str, str]]) -> None:
        begin = time.monotonic()
        for target in targets:
            family = socket.AF_INET if target.version == 4 else socket.AF_INET6
            with socket.socket(family, socket.SOCK_DGRAM) as udp:
                udp.setblocking(False)
                try:
                    udp.sendto(b"", self._destination(target))
                except OSError:
                    continue
        left = set(targets)
        while left and (waited := time.monotonic() - begin) < KNOWN_AFTER:
            time.sleep(0.1)
            table = self._table()
            for target in list(left):
                entry = table.get(target)
                state = entry["state"][0] if entry and entry.get("state") else ""
                if entry is not None and state in ("REACHABLE", "PERMANENT", "NOARP") and "lladdr" in entry:
                    how = "resolved by the kernel" if state == "REACHABLE" else f"a {state.lower()} entry"
                    holders[target][str(entry["lladdr"])] = how
                    left.discard(target)
                elif state not in _UNDECIDED and (state == "FAILED" or waited > SILENT_AFTER):
                    left.discard(target)

    def _destination(self, target: IPAddress) -> tuple[str, int] | tuple[str, int, int, int]:
        if target.version == 6 and target.is_link_local:
            return str(target), _DISCARD, 0, socket.if_nametoindex(self.interface)
        return str(target), _DISCARD

    def _table(self) -> dict[IPAddress, dict[str, Any]]:
        argv = ("ip", "-j", "neighbor", "show", "dev", self.interface)
        try:
            done = subprocess.run(argv, capture_output=True, text=True, timeout=10, check=False)
            entries = json.loads(done.stdout or "[]")
        except (OSError, ValueError, subprocess.TimeoutExpired):
            raise NoAccess("the kernel's neighbour table cannot be read", remedy="install iproute2") from None
        return {parse_address(entry["dst"]): entry for entry in entries if "dst" in entry}
