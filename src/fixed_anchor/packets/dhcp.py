"""DHCPv4 messages (RFC 2131) and their options (RFC 2132, RFC 3396, RFC 3397, RFC 3442)."""

from __future__ import annotations

from ipaddress import IPv4Address, IPv4Network

import msgspec

from fixed_anchor.packets.ethernet import BROADCAST, ETHERTYPE_IPV4, Frame, PacketError, mac_bytes, mac_text
from fixed_anchor.packets.ipv4 import IPv4
from fixed_anchor.packets.udp import PROTOCOL_UDP, Udp

SERVER_PORT, CLIENT_PORT = 67, 68
DISCOVER, OFFER, REQUEST, DECLINE, ACK, NAK, RELEASE, INFORM = range(1, 9)

_COOKIE = bytes.fromhex("63825363")
_HEAD = 236
SUBNET_MASK, ROUTERS, RESOLVERS, DOMAIN_NAME = 1, 3, 6, 15
LEASE_TIME, OVERLOAD, MESSAGE_TYPE, SERVER_ID, PARAMETERS, SEARCH, STATIC_ROUTES = 51, 52, 53, 54, 55, 119, 121
#: What is asked for (option 55): search domains and classless routes come only to those who ask.
ASKED_FOR = bytes([SUBNET_MASK, ROUTERS, RESOLVERS, DOMAIN_NAME, 26, 42, LEASE_TIME, SERVER_ID, SEARCH, STATIC_ROUTES])


class Dhcp(msgspec.Struct, frozen=True):
    """A DHCP message. ``options`` maps codes to values, split ones joined (RFC 3396).

    ``broadcast`` asks the server for an answer to everybody: a client without an address yet
    cannot be reached otherwise. ``broken_option`` is the code of an option that overruns the end of a
    message that was read: what is before it counts.
    """

    reply: bool
    transaction: int
    mac: str
    options: dict[int, bytes]
    client: IPv4Address = IPv4Address(0)
    your: IPv4Address = IPv4Address(0)
    broadcast: bool = False
    broken_option: int | None = None

    @property
    def kind(self) -> int:
        """The message type (option 53), 0 where there is none."""
        value = self.options.get(MESSAGE_TYPE, b"")
        return value[0] if len(value) == 1 else 0

    def encode(self) -> bytes:
        """The message as it is on the wire (RFC 2131, section 2)."""
        head = (
            bytes([2 if self.reply else 1, 1, 6, 0])
            + self.transaction.to_bytes(4, "big")
            + b"\0\0"
            + (b"\x80\0" if self.broadcast else b"\0\0")
            + self.client.packed
            + self.your.packed
            + bytes(8)
            + mac_bytes(self.mac).ljust(16, b"\0")
            + bytes(192)
        )
        body = b""
        for code, value in self.options.items():
            # RFC 3396: what is longer than 255 bytes goes into several options of the same code.
            for at in range(0, max(len(value), 1), 255):
                piece = value[at : at + 255]
                body += bytes([code, len(piece)]) + piece
        return (head + _COOKIE + body + b"\xff").ljust(300, b"\0")

    @classmethod
    def decode(cls, data: bytes) -> Dhcp:
        """Raises :class:`PacketError`."""
        if len(data) < _HEAD + 4 or data[_HEAD : _HEAD + 4] != _COOKIE:
            raise PacketError("not a DHCP message")
        if data[0] not in (1, 2) or data[1] != 1 or data[2] != 6:
            raise PacketError("a DHCP message that is not for Ethernet")
        options: dict[int, bytes] = {}
        broken = _options(data[_HEAD + 4 :], options)
        overload = options.get(OVERLOAD, b"")
        # RFC 2131, section 4.1: options may go on in the fields `file` (1) and `sname` (2).
        if len(overload) == 1 and overload[0] & 1:
            broken = _options(data[108:236], options) or broken
        if len(overload) == 1 and overload[0] & 2:
            broken = _options(data[44:108], options) or broken
        return cls(
            data[0] == 2,
            int.from_bytes(data[4:8], "big"),
            mac_text(data[28:34]),
            options,
            IPv4Address(data[12:16]),
            IPv4Address(data[16:20]),
            bool(data[10] & 0x80),
            broken,
        )

    # --- what an answer says ------------------------------------------------------------

    def addresses(self, code: int) -> tuple[IPv4Address, ...]:
        """An option that lists addresses; empty where it is not there or its length is none of a list."""
        value = self.options.get(code, b"")
        if len(value) % 4:
            return ()
        return tuple(IPv4Address(value[at : at + 4]) for at in range(0, len(value), 4))

    @property
    def server(self) -> IPv4Address | None:
        """The server's identifier (RFC 2132, 9.7), ``None`` where it is missing."""
        found = self.addresses(SERVER_ID)
        return found[0] if found else None

    @property
    def lease_seconds(self) -> int | None:
        """The lease time of an offer; an answer to INFORM has none (RFC 2131, section 4.3.5)."""
        value = self.options.get(LEASE_TIME, b"")
        return int.from_bytes(value, "big") if len(value) == 4 else None

    @property
    def prefix(self) -> int | None:
        """The prefix length of the mask in bits, ``None`` where there is none or it is not contiguous."""
        masks = self.addresses(SUBNET_MASK)
        if not masks:
            return None
        mask = int(masks[0])
        length = mask.bit_count()
        return length if mask == ((1 << length) - 1) << (32 - length) else None

    @property
    def search(self) -> tuple[str, ...]:
        """The search domains: option 119, else the one domain of option 15."""
        if SEARCH in self.options:
            try:
                return domains(self.options[SEARCH])
            except PacketError:
                return ()
        name = self.options.get(DOMAIN_NAME, b"").rstrip(b"\0").decode("ascii", "replace").strip().rstrip(".").lower()
        return (name,) if name else ()

    @property
    def routes(self) -> tuple[tuple[IPv4Network, IPv4Address], ...]:
        """Classless static routes (RFC 3442), those before a broken one."""
        value, at = self.options.get(STATIC_ROUTES, b""), 0
        found = []
        while at < len(value):
            bits = value[at]
            octets = (bits + 7) // 8
            if bits > 32 or at + 1 + octets + 4 > len(value):
                break
            network = value[at + 1 : at + 1 + octets].ljust(4, b"\0")
            hop = IPv4Address(value[at + 1 + octets : at + 5 + octets])
            found.append((IPv4Network((network, bits), strict=False), hop))
            at += 5 + octets
        return tuple(found)


def _options(data: bytes, options: dict[int, bytes]) -> int | None:
    """Reads options into ``options``. Returns the code of one that overruns the end, where it stops."""
    at = 0
    while at < len(data):
        code = data[at]
        if code == 255:
            return None
        if code == 0:
            at += 1
            continue
        if at + 2 > len(data) or at + 2 + data[at + 1] > len(data):
            return code
        options[code] = options.get(code, b"") + data[at + 2 : at + 2 + data[at + 1]]
        at += 2 + data[at + 1]
    return None


def domains(value: bytes) -> tuple[str, ...]:
    """The names of option 119, with the compression of RFC 1035, section 4.1.4. Raises :class:`PacketError`."""
    found: list[str] = []
    at = 0
    while at < len(value):
        name, at = _name(value, at)
        if name:
            found.append(name)
    return tuple(found)


def _name(value: bytes, at: int) -> tuple[str, int]:
    labels: list[str] = []
    end: int | None = None
    while True:
        if at >= len(value):
            raise PacketError("a domain name that overruns the end")
        length = value[at]
        if length == 0:
            at += 1
            break
        if length >= 0xC0:
            if at + 2 > len(value):
                raise PacketError("a domain name that overruns the end")
            end = at + 2 if end is None else end
            to = int.from_bytes(value[at : at + 2], "big") & 0x3FFF
            # Pointers lead backwards only: so there is no circle.
            if to >= at:
                raise PacketError("a domain name that points to itself")
            at = to
            continue
        if length > 63 or at + 1 + length > len(value) or len(labels) > 127:
            raise PacketError("a domain name with a label that is too long")
        labels.append(value[at + 1 : at + 1 + length].decode("ascii", "replace").lower())
        at += 1 + length
    return ".".join(labels), at if end is None else end


def question(kind: int, transaction: int, mac: str, client: IPv4Address | None = None) -> Dhcp:
    """A DISCOVER, or an INFORM from a host that has the address ``client``. Neither takes a lease."""
    options = {MESSAGE_TYPE: bytes([kind]), PARAMETERS: ASKED_FOR}
    return Dhcp(False, transaction, mac, options, client or IPv4Address(0), broadcast=kind == DISCOVER)


def frame(message: Dhcp, source_mac: str, source: IPv4Address = IPv4Address(0)) -> bytes:
    """``message`` of a client to every server of the segment, as an Ethernet frame."""
    everybody = IPv4Address("255.255.255.255")
    datagram = Udp(CLIENT_PORT, SERVER_PORT, message.encode()).encode4(source.packed, everybody.packed)
    packet = IPv4(source, everybody, PROTOCOL_UDP, datagram)
    return Frame(BROADCAST, source_mac, ETHERTYPE_IPV4, packet.encode()).encode()


def reply_frame(message: Dhcp, server_mac: str, server: IPv4Address, mac: str = BROADCAST) -> bytes:
    """``message`` of a server to a client."""
    everybody = IPv4Address("255.255.255.255")
    datagram = Udp(SERVER_PORT, CLIENT_PORT, message.encode()).encode4(server.packed, everybody.packed)
    packet = IPv4(server, everybody, PROTOCOL_UDP, datagram)
    return Frame(mac, server_mac, ETHERTYPE_IPV4, packet.encode()).encode()
