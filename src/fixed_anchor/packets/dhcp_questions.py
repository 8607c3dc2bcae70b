"""Asking which DHCP servers answer, and what they would tell, without ever taking a lease."""

from __future__ import annotations

import random
from collections.abc import Iterator
from ipaddress import IPv4Address

import msgspec

from fixed_anchor.packets.conversation import ArpRange, Send
from fixed_anchor.packets.dhcp import ACK, CLIENT_PORT, DISCOVER, INFORM, OFFER, Dhcp, frame, question
from fixed_anchor.packets.ethernet import ETHERTYPE_IPV4, Frame, PacketError
from fixed_anchor.packets.ipv4 import IPv4
from fixed_anchor.packets.udp import Udp

#: When questions go out, in seconds. Some servers ping an address for 3 s before they offer it.
ASKED_AT = (0.1, 2.0)
LISTENED_UNTIL = 6.0


class Answer(msgspec.Struct, frozen=True):
    """An OFFER, or an ACK to an INFORM, the MAC it came from and the address it was sent from."""

    message: Dhcp
    mac: str
    sender: IPv4Address

    @property
    def server(self) -> IPv4Address:
        """The server's identifier, or where there is none the address it sent from."""
        return self.message.server or self.sender


class DhcpQuestions:
    """DISCOVER, and INFORM where the interface has an address; ``answers`` collects what servers say.

    An offer is never taken up: no REQUEST is sent. A message counts that is a reply to our
    transaction and our MAC; others are passed over, broken ones counted in ``ignored``.
    """

    ethertypes: tuple[int, ...] = (ETHERTYPE_IPV4,)
    arp_range: ArpRange = None

    def __init__(self, mac: str, own: IPv4Address | None = None, chance: random.Random | None = None) -> None:
        chance = chance or random.Random()
        self.mac = mac
        self.own = own
        self.discover = question(DISCOVER, chance.randrange(1 << 32), mac)
        self.inform = question(INFORM, chance.randrange(1 << 32), mac, own) if own is not None else None
        self.answers: list[Answer] = []
        self.ignored = 0

    def sends(self) -> Iterator[Send]:
        for at in ASKED_AT:
            yield Send(at, frame(self.discover, self.mac))
            if self.inform is not None and self.own is not None:
                yield Send(at + 0.01, frame(self.inform, self.mac, self.own))

    @property
    def deadline(self) -> float:
        return LISTENED_UNTIL

    def receive(self, data: bytes) -> None:
        try:
            ethernet = Frame.decode(data)
            if ethernet.ethertype != ETHERTYPE_IPV4:
                return
            packet = IPv4.decode(ethernet.payload)
            if packet.protocol != 17 or packet.payload[2:4] != CLIENT_PORT.to_bytes(2, "big"):
                return
            message = Dhcp.decode(Udp.decode(packet).payload)
        except PacketError:
            self.ignored += 1
            return
        expected = {self.discover.transaction: OFFER}
        if self.inform is not None:
            expected[self.inform.transaction] = ACK
        if not message.reply or message.mac != self.mac or expected.get(message.transaction) != message.kind:
            return
        answer = Answer(message, ethernet.source, packet.source)
        same = (answer.server, message.kind, answer.mac)
        if all((a.server, a.message.kind, a.mac) != same for a in self.answers):
            self.answers.append(answer)

    @property
    def finished(self) -> bool:
        """Never early: a second server may be slower than the first."""
        return False
