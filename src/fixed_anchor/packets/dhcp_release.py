"""Giving a lease back: one DHCPRELEASE to its server (RFC 2131, section 4.4.6), which is not answered."""

from __future__ import annotations

import random
from collections.abc import Iterator
from ipaddress import IPv4Address

from fixed_anchor.packets.conversation import ArpRange, Send
from fixed_anchor.packets.dhcp import CLIENT_PORT, MESSAGE_TYPE, RELEASE, SERVER_ID, SERVER_PORT, Dhcp
from fixed_anchor.packets.ethernet import ETHERTYPE_IPV4, Frame
from fixed_anchor.packets.ipv4 import IPv4
from fixed_anchor.packets.udp import PROTOCOL_UDP, Udp

CLIENT_ID = 61


def release(mac: str, address: IPv4Address, server: IPv4Address, client_id: bytes | None, transaction: int) -> Dhcp:
    """The message. ``client_id`` must be the one that the lease was taken with (RFC 2131, table 5)."""
    options = {MESSAGE_TYPE: bytes([RELEASE]), SERVER_ID: server.packed}
    if client_id is not None:
        options[CLIENT_ID] = client_id
    return Dhcp(False, transaction, mac, options, address)


class Release:
    """One release, to the server's MAC or that of the router on the way to it; over as soon as it is sent."""

    ethertypes: tuple[int, ...] = (ETHERTYPE_IPV4,)
    arp_range: ArpRange = None
    deadline = 0.0
    finished = False

    def __init__(
        self, mac: str, to_mac: str, address: IPv4Address, server: IPv4Address, client_id: bytes | None
    ) -> None:
        message = release(mac, address, server, client_id, random.randrange(1 << 32))
        datagram = Udp(CLIENT_PORT, SERVER_PORT, message.encode()).encode4(address.packed, server.packed)
        packet = IPv4(address, server, PROTOCOL_UDP, datagram)
        self.frame = Frame(to_mac, mac, ETHERTYPE_IPV4, packet.encode()).encode()

    def sends(self) -> Iterator[Send]:
        yield Send(0.0, self.frame)

    def receive(self, frame: bytes) -> None:
        """Nothing answers a release."""
