"""ARP packets (RFC 826) and the probe of RFC 5227."""

from __future__ import annotations

from ipaddress import IPv4Address

import msgspec

from fixed_anchor.packets.ethernet import BROADCAST, ETHERTYPE_ARP, NO_MAC, Frame, PacketError, mac_bytes, mac_text

REQUEST = 1
REPLY = 2
_HEAD = bytes.fromhex("0001080006 04".replace(" ", ""))


class Arp(msgspec.Struct, frozen=True):
    """An ARP packet for IPv4 over Ethernet. ``operation`` is 1 (request) or 2 (reply)."""

    operation: int
    sender_mac: str
    sender: IPv4Address
    target_mac: str
    target: IPv4Address

    def encode(self) -> bytes:
        """The packet as it is on the wire (RFC 826), 28 octets."""
        return (
            _HEAD
            + self.operation.to_bytes(2, "big")
            + mac_bytes(self.sender_mac)
            + self.sender.packed
            + mac_bytes(self.target_mac)
            + self.target.packed
        )

    @classmethod
    def decode(cls, data: bytes) -> Arp:
        """Raises :class:`PacketError`; padding behind the packet is ignored."""
        if len(data) < 28:
            raise PacketError(f"an ARP packet of {len(data)} bytes")
        if data[:6] != _HEAD:
            raise PacketError("an ARP packet that is not for IPv4 over Ethernet")
        return cls(
            operation=int.from_bytes(data[6:8], "big"),
            sender_mac=mac_text(data[8:14]),
            sender=IPv4Address(data[14:18]),
            target_mac=mac_text(data[18:24]),
            target=IPv4Address(data[24:28]),
        )

    @property
    def is_probe(self) -> bool:
        """A request whose sender address is all zero (RFC 5227, section 1.1)."""
        return self.operation == REQUEST and int(self.sender) == 0


def probe_frame(mac: str, target: IPv4Address) -> bytes:
    """An ARP probe for ``target`` from the interface with ``mac`` (RFC 5227, section 2.1.1).

    The sender address is zero, so that no neighbour learns a wrong mapping from it.
    """
    arp = Arp(REQUEST, mac, IPv4Address(0), NO_MAC, target)
    return Frame(BROADCAST, mac, ETHERTYPE_ARP, arp.encode()).encode()


def request_frame(mac: str, sender: IPv4Address, target: IPv4Address) -> bytes:
    """The ordinary request of a host with the address ``sender`` for ``target`` (RFC 826)."""
    arp = Arp(REQUEST, mac, sender, NO_MAC, target)
    return Frame(BROADCAST, mac, ETHERTYPE_ARP, arp.encode()).encode()


def reply_frame(mac: str, address: IPv4Address, request: Arp) -> bytes:
    """The reply of the holder of ``address`` at ``mac`` to ``request``."""
    arp = Arp(REPLY, mac, address, request.sender_mac, request.sender)
    return Frame(request.sender_mac, mac, ETHERTYPE_ARP, arp.encode()).encode()


def announcement_frame(mac: str, address: IPv4Address) -> bytes:
    """An ARP announcement (RFC 5227, section 2.3): gratuitous ARP, as a request."""
    arp = Arp(REQUEST, mac, address, NO_MAC, address)
    return Frame(BROADCAST, mac, ETHERTYPE_ARP, arp.encode()).encode()
