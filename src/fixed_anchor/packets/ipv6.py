"""IPv6 headers (RFC 8200), ICMPv6 echo (RFC 4443), neighbour discovery (RFC 4861)."""

from __future__ import annotations

from ipaddress import IPv6Address

import msgspec

from fixed_anchor.packets.ethernet import ETHERTYPE_IPV6, Frame, PacketError, mac_bytes, mac_text
from fixed_anchor.packets.ipv4 import checksum

PROTOCOL_ICMPV6 = 58
PROTOCOL_UDP = 17
ECHO_REQUEST, ECHO_REPLY = 128, 129
NEIGHBOUR_SOLICITATION, NEIGHBOUR_ADVERTISEMENT = 135, 136
_SOURCE_LINK_LAYER, _TARGET_LINK_LAYER = 1, 2
#: Extension headers that may be stepped over: hop-by-hop, routing, destination options (RFC 8200, section 4).
_STEPPED_OVER = frozenset({0, 43, 60})

UNSPECIFIED = IPv6Address("::")
ALL_NODES = IPv6Address("ff02::1")
#: Flags of an advertisement (RFC 4861, section 4.4).
_ROUTER, _SOLICITED, _OVERRIDE = 0x80, 0x40, 0x20


class IPv6(msgspec.Struct, frozen=True):
    """An IPv6 packet; ``protocol`` and ``payload`` are those behind any extension headers."""

    source: IPv6Address
    destination: IPv6Address
    protocol: int
    payload: bytes
    hop_limit: int = 255

    def encode(self) -> bytes:
        """The packet as it is on the wire (RFC 8200, section 3)."""
        head = b"\x60\0\0\0" + len(self.payload).to_bytes(2, "big") + bytes([self.protocol, self.hop_limit])
        return head + self.source.packed + self.destination.packed + self.payload

    @classmethod
    def decode(cls, data: bytes) -> IPv6:
        """Raises :class:`PacketError`; fragments are refused."""
        if len(data) < 40 or data[0] >> 4 != 6:
            raise PacketError("not an IPv6 packet")
        end = 40 + int.from_bytes(data[4:6], "big")
        if end > len(data):
            raise PacketError("an IPv6 packet whose length overruns its end")
        protocol, at = data[6], 40
        while protocol in _STEPPED_OVER:
            if at + 8 > end:
                raise PacketError("an IPv6 extension header that overruns the end")
            protocol, at = data[at], at + 8 + 8 * data[at + 1]
            if at > end:
                raise PacketError("an IPv6 extension header that overruns the end")
        if protocol == 44:
            raise PacketError("a fragment")
        return cls(IPv6Address(data[8:24]), IPv6Address(data[24:40]), protocol, data[at:end], data[7])


def pseudo_checksum(source: IPv6Address, destination: IPv6Address, protocol: int, data: bytes) -> int:
    """The checksum with the pseudo-header of RFC 8200, section 8.1."""
    head = source.packed + destination.packed + len(data).to_bytes(4, "big") + bytes([0, 0, 0, protocol])
    return checksum(head + data)


class Icmpv6(msgspec.Struct, frozen=True):
    """An ICMPv6 message (RFC 4443): type, code, and what follows the checksum."""

    kind: int
    code: int
    body: bytes

    def encode(self, source: IPv6Address, destination: IPv6Address) -> bytes:
        """The message with its checksum over the pseudo-header (RFC 4443, section 2.3)."""
        plain = bytes([self.kind, self.code, 0, 0]) + self.body
        sum_ = pseudo_checksum(source, destination, PROTOCOL_ICMPV6, plain)
        return plain[:2] + sum_.to_bytes(2, "big") + self.body

    @classmethod
    def decode(cls, packet: IPv6) -> Icmpv6:
        """Raises :class:`PacketError` for a wrong checksum, too."""
        data = packet.payload
        if packet.protocol != PROTOCOL_ICMPV6 or len(data) < 4:
            raise PacketError("not an ICMPv6 message")
        if pseudo_checksum(packet.source, packet.destination, PROTOCOL_ICMPV6, data) != 0:
            raise PacketError("an ICMPv6 message with a wrong checksum")
        return cls(data[0], data[1], data[4:])


class Neighbour(msgspec.Struct, frozen=True):
    """A neighbour solicitation or advertisement (RFC 4861, sections 4.3 and 4.4).

    ``mac`` is the link-layer address of its option, ``None`` where there is none.
    """

    solicitation: bool
    target: IPv6Address
    mac: str | None = None
    flags: int = 0

    def encode(self, source: IPv6Address, destination: IPv6Address) -> bytes:
        """The ICMPv6 message with its checksum (RFC 4861, sections 4.3 and 4.4)."""
        kind = NEIGHBOUR_SOLICITATION if self.solicitation else NEIGHBOUR_ADVERTISEMENT
        body = bytes([self.flags, 0, 0, 0]) + self.target.packed
        if self.mac is not None:
            option = _SOURCE_LINK_LAYER if self.solicitation else _TARGET_LINK_LAYER
            body += bytes([option, 1]) + mac_bytes(self.mac)
        return Icmpv6(kind, 0, body).encode(source, destination)

    @classmethod
    def decode(cls, packet: IPv6) -> Neighbour:
        """Raises :class:`PacketError`: RFC 4861, section 7.1, wants a hop limit of 255 and code 0."""
        message = Icmpv6.decode(packet)
        if message.kind not in (NEIGHBOUR_SOLICITATION, NEIGHBOUR_ADVERTISEMENT) or message.code != 0:
            raise PacketError("not a neighbour message")
        if packet.hop_limit != 255:
            raise PacketError("a neighbour message that came over a router")
        if len(message.body) < 20:
            raise PacketError("a neighbour message that is too short")
        target = IPv6Address(message.body[4:20])
        if target.is_multicast:
            raise PacketError("a neighbour message about a group")
        mac, at = None, 20
        while at < len(message.body):
            if at + 2 > len(message.body) or message.body[at + 1] == 0:
                raise PacketError("a neighbour message with an option of no length")
            length = 8 * message.body[at + 1]
            if at + length > len(message.body):
                raise PacketError("a neighbour message with an option that overruns the end")
            if message.body[at] in (_SOURCE_LINK_LAYER, _TARGET_LINK_LAYER):
                mac = mac_text(message.body[at + 2 : at + 8])
            at += length
        return cls(message.kind == NEIGHBOUR_SOLICITATION, target, mac, message.body[0])


def solicited_node(address: IPv6Address) -> IPv6Address:
    """The solicited-node multicast address of ``address`` (RFC 4291, section 2.7.1)."""
    return IPv6Address(int(IPv6Address("ff02::1:ff00:0")) | int(address) & 0xFFFFFF)


def multicast_mac(group: IPv6Address) -> str:
    """The Ethernet address of a group (RFC 2464, section 7)."""
    return "33:33:" + group.packed[-4:].hex(":")


def link_local_of(mac: str) -> IPv6Address:
    """The link-local address that is made from ``mac`` (RFC 4291, appendix A)."""
    octets = bytearray(mac_bytes(mac))
    octets[0] ^= 2
    return IPv6Address(bytes.fromhex("fe80000000000000") + bytes(octets[:3]) + b"\xff\xfe" + bytes(octets[3:]))


def solicitation_frame(mac: str, source: IPv6Address, target: IPv6Address) -> bytes:
    """A neighbour solicitation for ``target`` from ``source``, the own link-local address.

    Not from ``::``: a host that is just then doing its own duplicate detection would fail it
    (RFC 4862, section 5.4.3).
    """
    group = solicited_node(target)
    message = Neighbour(True, target, mac).encode(source, group)
    packet = IPv6(source, group, PROTOCOL_ICMPV6, message)
    return Frame(multicast_mac(group), mac, ETHERTYPE_IPV6, packet.encode()).encode()


def advertisement_frame(mac: str, address: IPv6Address, to: IPv6Address, to_mac: str) -> bytes:
    """The answer of the holder of ``address`` at ``mac`` to a solicitation from ``to`` (flags: solicited, override)."""
    message = Neighbour(False, address, mac, _SOLICITED | _OVERRIDE).encode(address, to)
    return Frame(to_mac, mac, ETHERTYPE_IPV6, IPv6(address, to, PROTOCOL_ICMPV6, message).encode()).encode()


def unsolicited_frame(mac: str, address: IPv6Address, is_router: bool) -> bytes:
    """An unsolicited advertisement of ``address`` to all nodes (RFC 4861, section 7.2.6; flags: override, router)."""
    flags = _OVERRIDE | (_ROUTER if is_router else 0)
    message = Neighbour(False, address, mac, flags).encode(address, ALL_NODES)
    packet = IPv6(address, ALL_NODES, PROTOCOL_ICMPV6, message)
    return Frame(multicast_mac(ALL_NODES), mac, ETHERTYPE_IPV6, packet.encode()).encode()


def echo6_frame(
    source_mac: str,
    mac: str,
    source: IPv6Address,
    target: IPv6Address,
    request: bool,
    identifier: int,
    sequence: int,
    data: bytes = b"anchor",
    hop_limit: int = 64,
) -> bytes:
    """An ICMPv6 echo request or reply as an Ethernet frame (RFC 4443, section 4)."""
    body = identifier.to_bytes(2, "big") + sequence.to_bytes(2, "big") + data
    message = Icmpv6(ECHO_REQUEST if request else ECHO_REPLY, 0, body).encode(source, target)
    packet = IPv6(source, target, PROTOCOL_ICMPV6, message, hop_limit)
    return Frame(mac, source_mac, ETHERTYPE_IPV6, packet.encode()).encode()
