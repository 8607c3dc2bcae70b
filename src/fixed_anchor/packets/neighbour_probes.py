"""Asking for the holders of IPv6 addresses with neighbour solicitations (RFC 4861, RFC 4862)."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from ipaddress import IPv6Address

from fixed_anchor.core.addresses import IPAddress
from fixed_anchor.packets.conversation import PACE, ArpRange, Send
from fixed_anchor.packets.ethernet import ETHERTYPE_IPV6, Frame, PacketError
from fixed_anchor.packets.ipv6 import (
    NEIGHBOUR_ADVERTISEMENT,
    NEIGHBOUR_SOLICITATION,
    PROTOCOL_ICMPV6,
    UNSPECIFIED,
    IPv6,
    Neighbour,
    solicitation_frame,
)

# RFC 4861, section 10: constants of neighbour discovery, in seconds.
MAX_SOLICIT = 3
RETRANS_TIMER = 1.0
#: How long is listened after the last solicitation: longer than an answer may be delayed.
WINDOW = 2.0


class NeighbourProbes:
    """Solicitations for many addresses together, from the interface's own link-local address ``source``.

    An advertisement counts. Another host's own duplicate detection for a target, a solicitation for it
    from ``::`` (RFC 4862, section 5.4.3), is no answer: ``probers`` has its MAC. ``wait`` is in seconds.
    """

    ethertypes: tuple[int, ...] = (ETHERTYPE_IPV6,)
    arp_range: ArpRange = None

    def __init__(
        self,
        mac: str,
        source: IPv6Address,
        targets: Iterable[IPv6Address],
        *,
        until_answered: bool = False,
        wait: float = 0.0,
    ) -> None:
        self.mac = mac
        self.source = source
        self.targets = tuple(dict.fromkeys(targets))
        self.holders: dict[IPAddress, dict[str, str]] = {target: {} for target in self.targets}
        self.probers: dict[IPAddress, set[str]] = {target: set() for target in self.targets}
        self._wait = wait
        self.asked = f"{MAX_SOLICIT} neighbour solicitations (RFC 4861)"
        self.ignored = 0
        self._until_answered = until_answered
        self._last = 0.0

    def sends(self) -> Iterator[Send]:
        begin = self._wait
        for number in range(MAX_SOLICIT):
            if number:
                begin = self._last + RETRANS_TIMER
            for index, target in enumerate(self.targets):
                self._last = begin + index / PACE
                yield Send(self._last, solicitation_frame(self.mac, self.source, target))

    def asked_of(self, target: IPAddress) -> str:
        """What was asked of one of the targets: of each the same."""
        return self.asked

    @property
    def deadline(self) -> float:
        return self._last + WINDOW

    def receive(self, frame: bytes) -> None:
        # Most IPv6 frames are no neighbour messages; what is behind their header is not looked at.
        if len(frame) < 54 or (frame[20] != PROTOCOL_ICMPV6 and frame[12:14] == b"\x86\xdd"):
            return
        try:
            ethernet = Frame.decode(frame)
            if ethernet.ethertype != ETHERTYPE_IPV6:
                return
            packet = IPv6.decode(ethernet.payload)
            if packet.protocol != PROTOCOL_ICMPV6 or packet.payload[:1] not in (
                bytes([NEIGHBOUR_SOLICITATION]),
                bytes([NEIGHBOUR_ADVERTISEMENT]),
            ):
                return
            message = Neighbour.decode(packet)
        except PacketError:
            self.ignored += 1
            return
        mac = message.mac or ethernet.source
        if message.target not in self.holders or mac == self.mac or ethernet.source == self.mac:
            return
        if not message.solicitation:
            self.holders[message.target].setdefault(mac, "neighbour advertisement")
        elif packet.source == UNSPECIFIED:
            self.probers[message.target].add(ethernet.source)

    @property
    def finished(self) -> bool:
        return self._until_answered and all(self.holders.values())
