"""Conversations without sockets: what to send when, what an answer means, when it is over.

A vantage carries a conversation out. It sends each :class:`Send` at its time, hands
every received frame to :meth:`Conversation.receive`, and stops at ``deadline`` or as
soon as ``finished`` is true. Times are seconds from the beginning.
"""

from __future__ import annotations

import random
from collections.abc import Iterable
from ipaddress import IPv4Address
from typing import Protocol

import msgspec

from fixed_anchor.packets.arp import REPLY, REQUEST, Arp, probe_frame
from fixed_anchor.packets.ethernet import ETHERTYPE_ARP, ETHERTYPE_IPV4, Frame, PacketError
from fixed_anchor.packets.ipv4 import PROTOCOL_ICMP, Echo, IPv4, echo_frame

# RFC 5227, section 1.1: the constants of probing, in seconds.
PROBE_WAIT = 1.0
PROBE_NUM = 3
PROBE_MIN = 1.0
PROBE_MAX = 2.0
ANNOUNCE_WAIT = 2.0

#: Frames a second at which many addresses are probed together.
PACE = 5000.0


class Send(msgspec.Struct, frozen=True):
    """A frame to be sent ``at`` seconds from the beginning."""

    at: float
    frame: bytes


class Conversation(Protocol):
    """What a vantage needs to know. ``ethertypes`` are those of the frames it wants to see."""

    schedule: tuple[Send, ...]
    deadline: float
    ethertypes: tuple[int, ...]

    def receive(self, frame: bytes) -> None: ...

    @property
    def finished(self) -> bool: ...


class ArpProbes:
    """Probes of many IPv4 addresses together, with the timing of RFC 5227, section 2.1.1.

    ``holders`` maps each address to the MACs seen for it, each with how it was seen.
    A reply counts, and so does any ARP packet whose sender claims the address; another
    machine's probe for it (RFC 5227: a simultaneous probe) counts too.
    """

    ethertypes: tuple[int, ...] = (ETHERTYPE_ARP,)

    def __init__(
        self,
        mac: str,
        targets: Iterable[IPv4Address],
        *,
        until_answered: bool = False,
        chance: random.Random | None = None,
    ) -> None:
        """``until_answered`` ends the conversation once every target has a holder."""
        chance = chance or random.Random()
        self.mac = mac
        self._until_answered = until_answered
        self.targets = tuple(dict.fromkeys(targets))
        self.holders: dict[IPv4Address, dict[str, str]] = {target: {} for target in self.targets}
        self.ignored = 0
        sends: list[Send] = []
        last = start = chance.uniform(0, PROBE_WAIT)
        for number in range(PROBE_NUM):
            if number:
                start = max(start, last) + chance.uniform(PROBE_MIN, PROBE_MAX)
            for index, target in enumerate(self.targets):
                last = start + index / PACE
                sends.append(Send(last, probe_frame(mac, target)))
        self.schedule = tuple(sends)
        self.deadline = last + ANNOUNCE_WAIT

    @property
    def asked(self) -> str:
        """What was done, in words, for the evidence."""
        return f"{PROBE_NUM} ARP probes (RFC 5227)"

    def receive(self, frame: bytes) -> None:
        try:
            ethernet = Frame.decode(frame)
            arp = Arp.decode(ethernet.payload) if ethernet.ethertype == ETHERTYPE_ARP else None
        except PacketError:
            self.ignored += 1
            return
        if arp is None or arp.sender_mac == self.mac:
            return
        if arp.sender in self.holders:
            how = "ARP reply" if arp.operation == REPLY else "its own ARP request"
            self.holders[arp.sender].setdefault(arp.sender_mac, how)
        elif arp.is_probe and arp.target in self.holders and arp.operation == REQUEST:
            self.holders[arp.target].setdefault(arp.sender_mac, "it probes for the address itself")

    @property
    def finished(self) -> bool:
        """Not early, unless asked for: a second owner may answer later than the first."""
        return self._until_answered and all(self.holders.values())


class Echoes:
    """Echo requests to one IPv4 address whose MAC is known. ``answered`` becomes true with the first reply."""

    ethertypes: tuple[int, ...] = (ETHERTYPE_IPV4,)

    def __init__(
        self,
        source_mac: str,
        source: IPv4Address,
        target_mac: str,
        target: IPv4Address,
        count: int = 3,
        interval: float = 0.5,
        chance: random.Random | None = None,
    ) -> None:
        identifier = (chance or random.Random()).randrange(1, 65536)
        self.source, self.target, self.identifier = source, target, identifier
        self.answered = False
        self.ignored = 0
        self.schedule = tuple(
            Send(n * interval, echo_frame(source_mac, target_mac, source, target, Echo(True, identifier, n, b"anchor")))
            for n in range(count)
        )
        self.deadline = (count - 1) * interval + 1.5

    def receive(self, frame: bytes) -> None:
        try:
            ethernet = Frame.decode(frame)
            if ethernet.ethertype != ETHERTYPE_IPV4:
                return
            packet = IPv4.decode(ethernet.payload)
            if packet.protocol != PROTOCOL_ICMP or packet.source != self.target or packet.destination != self.source:
                return
            echo = Echo.decode(packet.payload)
        except PacketError:
            self.ignored += 1
            return
        if not echo.request and echo.identifier == self.identifier:
            self.answered = True

    @property
    def finished(self) -> bool:
        return self.answered
