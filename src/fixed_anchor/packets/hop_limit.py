"""Asking a neighbour to forward what may go one hop only: a router says so (RFC 792, RFC 4443), a printer does not."""

from __future__ import annotations

import random

from fixed_anchor.core.addresses import IPAddress
from fixed_anchor.packets.echoes import EchoRequests
from fixed_anchor.packets.ethernet import Frame, PacketError
from fixed_anchor.packets.ipv4 import PROTOCOL_ICMP, IPv4, checksum
from fixed_anchor.packets.ipv6 import ECHO_REQUEST, PROTOCOL_ICMPV6, Icmpv6, IPv6

#: What says that a packet was to be forwarded: type, codes, and the words for it.
_ERRORS = {
    4: {
        (11, 0): "time exceeded",
        (3, 0): "network unreachable",
        (3, 1): "host unreachable",
        (3, 13): "prohibited by a filter",
    },
    6: {(3, 0): "time exceeded", (1, 0): "no route to the destination", (1, 1): "prohibited by a filter"},
}


class HopLimitProbe(EchoRequests):
    """Echo requests with a hop limit of 1 from ``source`` to ``beyond``, given to the neighbour at ``router_mac``.

    ``said`` is what a router answered, ``None`` while nobody did. The answer must quote the request (RFC 792;
    RFC 4443, section 3), and come from that MAC or from ``router``: the request went to nobody else.
    """

    hop_limit = 1

    def __init__(
        self,
        source_mac: str,
        source: IPAddress,
        router_mac: str,
        router: IPAddress,
        beyond: IPAddress,
        count: int = 3,
        interval: float = 0.4,
        chance: random.Random | None = None,
    ) -> None:
        super().__init__(source_mac, source, router_mac, beyond, count, interval, chance)
        self.router = router
        self.said: str | None = None

    @property
    def deadline(self) -> float:
        return (self._count - 1) * self._interval + 1.0

    @property
    def finished(self) -> bool:
        return self.said is not None

    def receive(self, frame: bytes) -> None:
        try:
            ethernet = Frame.decode(frame)
            if ethernet.ethertype not in self.ethertypes:
                return
            said = self._of4(ethernet) if self.target.version == 4 else self._of6(ethernet)
        except PacketError:
            self.ignored += 1
            return
        self.said = self.said or said

    def _of4(self, ethernet: Frame) -> str | None:
        packet = IPv4.decode(ethernet.payload)
        message = packet.payload
        if packet.protocol != PROTOCOL_ICMP or packet.destination != self.source or len(message) < 8 + 28:
            return None
        what = _ERRORS[4].get((message[0], message[1]))
        if what is None or checksum(message) != 0 or not self._is_router(ethernet, packet.source):
            return None
        # The header that is quoted, and the first 8 octets behind it. Its lengths and checksum are those of a packet
        # that is not whole.
        quoted = message[8:]
        head = (quoted[0] & 0xF) * 4
        if quoted[0] >> 4 != 4 or head < 20 or len(quoted) < head + 8 or quoted[9] != PROTOCOL_ICMP:
            return None
        ends = (quoted[12:16], quoted[16:20])
        echo = quoted[head : head + 8]
        mine = ends == (self.source.packed, self.target.packed) and echo[0] == 8
        return what if mine and int.from_bytes(echo[4:6], "big") == self.identifier else None

    def _of6(self, ethernet: Frame) -> str | None:
        packet = IPv6.decode(ethernet.payload)
        if packet.protocol != PROTOCOL_ICMPV6 or packet.destination != self.source:
            return None
        message = Icmpv6.decode(packet)
        what = _ERRORS[6].get((message.kind, message.code))
        quoted = message.body[4:]
        if what is None or len(quoted) < 48 or not self._is_router(ethernet, packet.source):
            return None
        ends = (quoted[8:24], quoted[24:40])
        mine = quoted[6] == PROTOCOL_ICMPV6 and ends == (self.source.packed, self.target.packed)
        echo = quoted[40:48]
        return what if mine and echo[0] == ECHO_REQUEST and echo[4:6] == self.identifier.to_bytes(2, "big") else None

    def _is_router(self, ethernet: Frame, source: IPAddress) -> bool:
        return ethernet.source == self._macs[1] or source == self.router
