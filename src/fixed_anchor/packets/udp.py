"""UDP (RFC 768) over IPv4 and IPv6."""

from __future__ import annotations

import msgspec

from fixed_anchor.packets.ethernet import PacketError
from fixed_anchor.packets.ipv4 import IPv4, checksum
from fixed_anchor.packets.ipv6 import IPv6, pseudo_checksum

PROTOCOL_UDP = 17


class Udp(msgspec.Struct, frozen=True):
    """A datagram: ports and payload."""

    source: int
    destination: int
    payload: bytes

    def _plain(self) -> bytes:
        length = 8 + len(self.payload)
        head = self.source.to_bytes(2, "big") + self.destination.to_bytes(2, "big") + length.to_bytes(2, "big")
        return head + b"\0\0" + self.payload

    def encode4(self, source: bytes, destination: bytes) -> bytes:
        """With the checksum over the pseudo-header; ``source`` and ``destination`` are packed IPv4 addresses."""
        plain = self._plain()
        sum_ = checksum(source + destination + bytes([0, PROTOCOL_UDP]) + len(plain).to_bytes(2, "big") + plain)
        return plain[:6] + (sum_ or 0xFFFF).to_bytes(2, "big") + self.payload

    def encode6(self, packet: IPv6) -> bytes:
        """The same for the addresses of an IPv6 ``packet`` (whose payload does not matter)."""
        plain = self._plain()
        sum_ = pseudo_checksum(packet.source, packet.destination, PROTOCOL_UDP, plain)
        return plain[:6] + (sum_ or 0xFFFF).to_bytes(2, "big") + self.payload

    @classmethod
    def decode(cls, packet: IPv4 | IPv6) -> Udp:
        """Raises :class:`PacketError`. A checksum of zero says that there is none (IPv4 only)."""
        data = packet.payload
        if packet.protocol != PROTOCOL_UDP or len(data) < 8:
            raise PacketError("not a UDP datagram")
        length = int.from_bytes(data[4:6], "big")
        if not 8 <= length <= len(data):
            raise PacketError("a UDP datagram whose length overruns its end")
        data = data[:length]
        ends = packet.source.packed + packet.destination.packed
        if isinstance(packet, IPv6):
            head = ends + length.to_bytes(4, "big") + bytes([0, 0, 0, PROTOCOL_UDP])
        else:
            head = ends + bytes([0, PROTOCOL_UDP]) + length.to_bytes(2, "big")
        given = int.from_bytes(data[6:8], "big")
        none = given == 0 and isinstance(packet, IPv4)
        # Between virtual machines the sum is often left for the network card to finish, and no card
        # ever does: the field then holds the sum of the pseudo-header alone.
        unfinished = given == ~checksum(head) & 0xFFFF
        if not none and not unfinished and checksum(head + data) != 0:
            raise PacketError("a UDP datagram with a wrong checksum")
        return cls(int.from_bytes(data[0:2], "big"), int.from_bytes(data[2:4], "big"), data[8:])
