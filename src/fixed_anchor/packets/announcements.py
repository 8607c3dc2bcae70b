"""ARP announcements (RFC 5227, section 2.3) and unsolicited neighbour advertisements (RFC 4861, section 7.2.6)."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from ipaddress import IPv4Address, IPv6Address

from fixed_anchor.core.addresses import IPAddress
from fixed_anchor.packets.arp import announcement_frame
from fixed_anchor.packets.arp_probes import ArpProbes
from fixed_anchor.packets.conversation import PACE, ArpRange, Send
from fixed_anchor.packets.ethernet import ETHERTYPE_ARP, ETHERTYPE_IPV6
from fixed_anchor.packets.ipv6 import unsolicited_frame
from fixed_anchor.packets.neighbour_probes import NeighbourProbes

# RFC 5227, section 1.1: the constants of announcing; the interval in seconds. RFC 4861 allows three, a second apart.
ANNOUNCE_NUM = 2
ANNOUNCE_INTERVAL = 2.0


class Announcements:
    """Says of ``addresses`` that they are at ``mac``, twice.

    One that another machine claims meanwhile is not said again: ``contested`` has its MACs. ``is_router``
    is what RFC 4861, section 4.4, has every router say of itself, lest its neighbours forget the way over it.
    """

    finished = False

    def __init__(self, mac: str, addresses: Iterable[IPAddress], *, is_router: bool = False) -> None:
        self.mac = mac
        self.addresses = tuple(dict.fromkeys(addresses))
        self.is_router = is_router
        four = [a for a in self.addresses if isinstance(a, IPv4Address)]
        six = [a for a in self.addresses if isinstance(a, IPv6Address)]
        # They ask for nothing here; they know what counts as a claim.
        self._listeners: list[ArpProbes | NeighbourProbes] = []
        kinds = []
        if four:
            self._listeners.append(ArpProbes(mac, four))
            kinds.append(ETHERTYPE_ARP)
        if six:
            self._listeners.append(NeighbourProbes(mac, six[0], six))
            kinds.append(ETHERTYPE_IPV6)
        self.ethertypes: tuple[int, ...] = tuple(kinds)
        self.arp_range: ArpRange = None
        self.deadline = 0.0

    @property
    def contested(self) -> dict[IPAddress, tuple[str, ...]]:
        """The MACs of others by the address that they claim."""
        found = {a: tuple(macs) for listener in self._listeners for a, macs in listener.holders.items()}
        return {address: macs for address, macs in found.items() if macs}

    def sends(self) -> Iterator[Send]:
        for number in range(ANNOUNCE_NUM):
            for index, address in enumerate(self.addresses):
                if address not in self.contested:
                    self.deadline = number * ANNOUNCE_INTERVAL + index / PACE
                    yield Send(self.deadline, self._frame(address))

    def _frame(self, address: IPAddress) -> bytes:
        if isinstance(address, IPv4Address):
            return announcement_frame(self.mac, address)
        return unsolicited_frame(self.mac, address, self.is_router)

    def receive(self, frame: bytes) -> None:
        for listener in self._listeners:
            listener.receive(frame)
