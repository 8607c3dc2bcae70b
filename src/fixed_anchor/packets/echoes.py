"""Echo requests to one neighbour whose MAC is known (RFC 792, RFC 4443)."""

from __future__ import annotations

import random
from collections.abc import Iterator
from ipaddress import IPv4Address, IPv6Address

from fixed_anchor.core.addresses import IPAddress
from fixed_anchor.packets.conversation import ArpRange, Send
from fixed_anchor.packets.ethernet import ETHERTYPE_IPV4, ETHERTYPE_IPV6, Frame, PacketError
from fixed_anchor.packets.ipv4 import PROTOCOL_ICMP, Echo, IPv4, echo_frame
from fixed_anchor.packets.ipv6 import ECHO_REPLY, PROTOCOL_ICMPV6, Icmpv6, IPv6, echo6_frame


class EchoRequests:
    """The sending half: ``count`` echo requests from ``source`` to ``target``, both of one family.

    They are given to the neighbour at ``target_mac``, ``interval`` seconds apart, and may go ``hop_limit`` hops.
    """

    hop_limit = 64

    def __init__(
        self,
        source_mac: str,
        source: IPAddress,
        target_mac: str,
        target: IPAddress,
        count: int,
        interval: float,
        chance: random.Random | None,
    ) -> None:
        self.source, self.target = source, target
        self.identifier = (chance or random.Random()).randrange(1, 65536)
        self.ignored = 0
        self.ethertypes: tuple[int, ...] = (ETHERTYPE_IPV4 if target.version == 4 else ETHERTYPE_IPV6,)
        self.arp_range: ArpRange = None
        self._macs = (source_mac, target_mac)
        self._count, self._interval = count, interval

    def sends(self) -> Iterator[Send]:
        for number in range(self._count):
            yield Send(number * self._interval, self._frame(number))

    def _frame(self, number: int) -> bytes:
        own, other = self._macs
        if isinstance(self.source, IPv4Address) and isinstance(self.target, IPv4Address):
            echo = Echo(True, self.identifier, number, b"anchor")
            return echo_frame(own, other, self.source, self.target, echo, self.hop_limit)
        assert isinstance(self.source, IPv6Address)
        assert isinstance(self.target, IPv6Address)
        ends = (own, other, self.source, self.target)
        return echo6_frame(*ends, True, self.identifier, number, hop_limit=self.hop_limit)


class Echoes(EchoRequests):
    """Echo requests to a neighbour; ``answered`` becomes true with the first reply."""

    def __init__(
        self,
        source_mac: str,
        source: IPAddress,
        target_mac: str,
        target: IPAddress,
        count: int = 3,
        interval: float = 0.5,
        chance: random.Random | None = None,
    ) -> None:
        super().__init__(source_mac, source, target_mac, target, count, interval, chance)
        self.answered = False

    @property
    def deadline(self) -> float:
        return (self._count - 1) * self._interval + 1.5

    def receive(self, frame: bytes) -> None:
        try:
            ethernet = Frame.decode(frame)
            if ethernet.ethertype not in self.ethertypes:
                return
            identifier = self._reply(ethernet.payload)
        except PacketError:
            self.ignored += 1
            return
        self.answered = self.answered or identifier == self.identifier

    def _reply(self, payload: bytes) -> int | None:
        """The identifier of an echo reply from the target to us, ``None`` for anything else."""
        if self.target.version == 4:
            packet = IPv4.decode(payload)
            if packet.protocol != PROTOCOL_ICMP or (packet.source, packet.destination) != (self.target, self.source):
                return None
            echo = Echo.decode(packet.payload)
            return None if echo.request else echo.identifier
        packet6 = IPv6.decode(payload)
        if packet6.protocol != PROTOCOL_ICMPV6 or (packet6.source, packet6.destination) != (self.target, self.source):
            return None
        message = Icmpv6.decode(packet6)
        return int.from_bytes(message.body[:2], "big") if message.kind == ECHO_REPLY else None

    @property
    def finished(self) -> bool:
        return self.answered
