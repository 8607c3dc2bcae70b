"""IPv4 headers (RFC 791) and ICMP echo (RFC 792)."""

from __future__ import annotations

from ipaddress import IPv4Address

import msgspec

from fixed_anchor.packets.ethernet import ETHERTYPE_IPV4, Frame, PacketError

PROTOCOL_ICMP = 1
ECHO_REPLY = 0
ECHO_REQUEST = 8


def checksum(data: bytes) -> int:
    """The Internet checksum of ``data`` (RFC 1071)."""
    if len(data) % 2:
        data += b"\0"
    total = sum(int.from_bytes(data[i : i + 2], "big") for i in range(0, len(data), 2))
    while total >> 16:
        total = (total & 0xFFFF) + (total >> 16)
    return ~total & 0xFFFF


class IPv4(msgspec.Struct, frozen=True):
    """An IPv4 packet without options."""

    source: IPv4Address
    destination: IPv4Address
    protocol: int
    payload: bytes
    ttl: int = 64

    def encode(self) -> bytes:
        """The packet with its header checksum (RFC 791, section 3.1)."""
        head = (
            b"\x45\0"
            + (20 + len(self.payload)).to_bytes(2, "big")
            + b"\0\0\x40\0"
            + bytes([self.ttl, self.protocol])
            + b"\0\0"
            + self.source.packed
            + self.destination.packed
        )
        return head[:10] + checksum(head).to_bytes(2, "big") + head[12:] + self.payload

    @classmethod
    def decode(cls, data: bytes) -> IPv4:
        """Raises :class:`PacketError`. Options are skipped; fragments are refused."""
        if len(data) < 20 or data[0] >> 4 != 4:
            raise PacketError("not an IPv4 packet")
        head = (data[0] & 0xF) * 4
        total = int.from_bytes(data[2:4], "big")
        if head < 20 or not head <= total <= len(data):
            raise PacketError("an IPv4 packet whose lengths overrun its end")
        if checksum(data[:head]) != 0:
            raise PacketError("an IPv4 packet with a wrong checksum")
        if int.from_bytes(data[6:8], "big") & 0x3FFF:
            raise PacketError("a fragment")
        return cls(IPv4Address(data[12:16]), IPv4Address(data[16:20]), data[9], data[head:total], data[8])


class Echo(msgspec.Struct, frozen=True):
    """An ICMP echo request or reply. ``identifier`` and ``sequence`` are 16 bits each."""

    request: bool
    identifier: int
    sequence: int
    payload: bytes = b""

    def encode(self) -> bytes:
        """The message with its checksum (RFC 792)."""
        kind = ECHO_REQUEST if self.request else ECHO_REPLY
        rest = self.identifier.to_bytes(2, "big") + self.sequence.to_bytes(2, "big") + self.payload
        return bytes([kind, 0]) + checksum(bytes([kind, 0, 0, 0]) + rest).to_bytes(2, "big") + rest

    @classmethod
    def decode(cls, data: bytes) -> Echo:
        """Raises :class:`PacketError`."""
        if len(data) < 8 or data[0] not in (ECHO_REQUEST, ECHO_REPLY) or data[1] != 0:
            raise PacketError("not an ICMP echo")
        if checksum(data) != 0:
            raise PacketError("an ICMP message with a wrong checksum")
        return cls(
            data[0] == ECHO_REQUEST, int.from_bytes(data[4:6], "big"), int.from_bytes(data[6:8], "big"), data[8:]
        )


def echo_frame(source_mac: str, mac: str, source: IPv4Address, target: IPv4Address, echo: Echo, ttl: int = 64) -> bytes:
    """``echo`` from ``source`` to ``target`` as an Ethernet frame."""
    packet = IPv4(source, target, PROTOCOL_ICMP, echo.encode(), ttl)
    return Frame(mac, source_mac, ETHERTYPE_IPV4, packet.encode()).encode()
