"""DHCPv6 INFORMATION-REQUEST and its REPLY (RFC 8415): which servers answer, without asking for an address."""

from __future__ import annotations

from ipaddress import IPv6Address

import msgspec

from fixed_anchor.packets.dhcp import domains
from fixed_anchor.packets.ethernet import ETHERTYPE_IPV6, Frame, PacketError, mac_bytes
from fixed_anchor.packets.ipv6 import IPv6, multicast_mac
from fixed_anchor.packets.udp import PROTOCOL_UDP, Udp

CLIENT_PORT, SERVER_PORT = 546, 547
INFORMATION_REQUEST, REPLY = 11, 7
CLIENT_ID, SERVER_ID, OPTION_REQUEST, ELAPSED, DNS_SERVERS, DOMAIN_LIST = 1, 2, 6, 8, 23, 24
ALL_SERVERS = IPv6Address("ff02::1:2")


class Dhcp6(msgspec.Struct, frozen=True):
    """A message between client and server. ``options`` maps codes to values, the last of each."""

    kind: int
    transaction: int
    options: dict[int, bytes]

    def encode(self) -> bytes:
        body = b"".join(
            code.to_bytes(2, "big") + len(value).to_bytes(2, "big") + value for code, value in self.options.items()
        )
        return bytes([self.kind]) + self.transaction.to_bytes(3, "big") + body

    @classmethod
    def decode(cls, data: bytes) -> Dhcp6:
        """Raises :class:`PacketError`."""
        if len(data) < 4:
            raise PacketError("not a DHCPv6 message")
        options: dict[int, bytes] = {}
        at = 4
        while at < len(data):
            if at + 4 > len(data):
                raise PacketError("a DHCPv6 option that overruns the end")
            code, length = int.from_bytes(data[at : at + 2], "big"), int.from_bytes(data[at + 2 : at + 4], "big")
            if at + 4 + length > len(data):
                raise PacketError("a DHCPv6 option that overruns the end")
            options[code] = data[at + 4 : at + 4 + length]
            at += 4 + length
        return cls(data[0], int.from_bytes(data[1:4], "big"), options)

    @property
    def resolvers(self) -> tuple[IPv6Address, ...]:
        """The DNS servers (RFC 3646)."""
        value = self.options.get(DNS_SERVERS, b"")
        return () if len(value) % 16 else tuple(IPv6Address(value[i : i + 16]) for i in range(0, len(value), 16))

    @property
    def search(self) -> tuple[str, ...]:
        try:
            return domains(self.options.get(DOMAIN_LIST, b""))
        except PacketError:
            return ()


def information_request(transaction: int, mac: str) -> Dhcp6:
    """What a host asks that wants to be told things, and no address (RFC 8415, section 18.2.6)."""
    identity = bytes([0, 3, 0, 1]) + mac_bytes(mac)
    wanted = DNS_SERVERS.to_bytes(2, "big") + DOMAIN_LIST.to_bytes(2, "big")
    options = {CLIENT_ID: identity, OPTION_REQUEST: wanted, ELAPSED: bytes(2)}
    return Dhcp6(INFORMATION_REQUEST, transaction, options)


def frame(message: Dhcp6, mac: str, source: IPv6Address) -> bytes:
    """``message`` of a client at its link-local address ``source`` to all servers of the link."""
    packet = IPv6(source, ALL_SERVERS, PROTOCOL_UDP, b"", hop_limit=1)
    datagram = Udp(CLIENT_PORT, SERVER_PORT, message.encode()).encode6(packet)
    whole = IPv6(source, ALL_SERVERS, PROTOCOL_UDP, datagram, hop_limit=1)
    return Frame(multicast_mac(ALL_SERVERS), mac, ETHERTYPE_IPV6, whole.encode()).encode()
