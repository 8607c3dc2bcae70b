"""Ethernet II frames (RFC 894; IEEE 802.3 clause 3, 802.1Q tags on received frames)."""

from __future__ import annotations

import msgspec

ETHERTYPE_IPV4 = 0x0800
ETHERTYPE_ARP = 0x0806
ETHERTYPE_IPV6 = 0x86DD
#: The bits of a tag that are the number of its VLAN.
VLAN_NUMBER = 0x0FFF
_TAGS = (0x8100, 0x88A8)

BROADCAST = "ff:ff:ff:ff:ff:ff"
NO_MAC = "00:00:00:00:00:00"


class PacketError(ValueError):
    """Bytes that are not the packet they should be: too short, or a length that overruns the end."""


class Frame(msgspec.Struct, frozen=True):
    """An Ethernet frame without its check sequence. MACs as text, lower case with colons."""

    destination: str
    source: str
    ethertype: int
    payload: bytes

    def encode(self) -> bytes:
        """The frame as it is on the wire, without preamble and checksum."""
        head = mac_bytes(self.destination) + mac_bytes(self.source) + self.ethertype.to_bytes(2, "big")
        return (head + self.payload).ljust(60, b"\0")

    @classmethod
    def decode(cls, data: bytes) -> Frame:
        """Raises :class:`PacketError`, also for a frame of a VLAN: it is not of the segment that is listened to.

        A tag with the VLAN number 0 only says its priority (IEEE 802.1Q, section 9.6).
        """
        if len(data) < 14:
            raise PacketError(f"a frame of {len(data)} bytes")
        at = 12
        ethertype = int.from_bytes(data[at : at + 2], "big")
        while ethertype in _TAGS:
            at += 4
            if len(data) < at + 2:
                raise PacketError("a frame that ends inside its VLAN tag")
            if int.from_bytes(data[at - 2 : at], "big") & VLAN_NUMBER:
                raise PacketError("a frame of another VLAN")
            ethertype = int.from_bytes(data[at : at + 2], "big")
        return cls(mac_text(data[0:6]), mac_text(data[6:12]), ethertype, data[at + 2 :])


def mac_bytes(mac: str) -> bytes:
    """The six octets of a MAC in text."""
    return bytes.fromhex(mac.replace(":", ""))


def mac_text(data: bytes) -> str:
    """A MAC in text, of six octets."""
    return data.hex(":")
