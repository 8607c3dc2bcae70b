"""What is behind the routers of a simulated segment, and how packets get there: or not, as the station says."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from ipaddress import IPv4Address, IPv6Address
from urllib.parse import urlsplit

import msgspec

from fixed_anchor.core.addresses import IPAddress
from fixed_anchor.core.reaching import ACCEPTS, REFUSES, SILENT, UNREACHABLE
from fixed_anchor.packets.ethernet import ETHERTYPE_IPV4, ETHERTYPE_IPV6, Frame
from fixed_anchor.packets.ipv4 import PROTOCOL_ICMP, IPv4, checksum
from fixed_anchor.packets.ipv6 import PROTOCOL_ICMPV6, Icmpv6, IPv6
from fixed_anchor.standins.station import Beyond, Device, SimulatedSegment

#: Who has each address of the segment.
Holders = Mapping[IPAddress, Sequence[Device]]

#: The port of an sshd.
SSH = 22
_TIME_EXCEEDED4, _TIME_EXCEEDED6 = 11, 3


class Way(msgspec.Struct, frozen=True):
    """The way out of a segment for one of its hosts: by ``gateway``, ``None`` where it has none; ``far`` is beyond."""

    segment: SimulatedSegment
    holders: Holders
    gateway: IPAddress | None
    far: tuple[Beyond, ...]

    def connect(self, source: IPAddress | None, to: IPAddress, port: int) -> str:
        """How ``to`` takes a connection from ``source``."""
        awake = [device for device in self.holders.get(to, ()) if not device.asleep]
        if awake:
            return ACCEPTS if port == SSH and any(device.ssh for device in awake) else REFUSES
        if not self._forwards():
            return SILENT if self.gateway is not None else UNREACHABLE
        for one in self.far:
            if one.address == to and (not one.admits or source in one.admits):
                return ACCEPTS if port in one.ports else REFUSES
        return SILENT

    def fetch(self, source: IPAddress | None, to: IPAddress, url: str) -> str:
        """What its web server says to a request for ``url``."""
        parts = urlsplit(url)
        said = self.connect(source, to, parts.port or (443 if parts.scheme == "https" else 80))
        status = next((one.status for one in self.far if one.address == to), 200)
        return f"status {status}" if said == ACCEPTS else said

    def _forwards(self) -> bool:
        """Whether something gets out by the gateway."""
        devices = self.holders.get(self.gateway, ()) if self.gateway is not None else ()
        return self.segment.uplink and any(self.segment.is_router(device) for device in devices)


def time_exceeded(segment: SimulatedSegment, holders: Holders, ethernet: Frame) -> Iterator[bytes]:
    """What a router says of a packet that may go one hop only, and was given to it to forward (RFC 792, RFC 4443)."""
    devices = (d for some in holders.values() for d in some if d.mac == ethernet.destination)
    version = 4 if ethernet.ethertype == ETHERTYPE_IPV4 else 6
    routers = (d for d in devices if segment.is_router(d) and not d.asleep and d.address.version == version)
    router = next(routers, None)
    if router is None:
        return
    if ethernet.ethertype == ETHERTYPE_IPV4:
        packet = IPv4.decode(ethernet.payload)
        if packet.ttl > 1 or packet.destination in holders or not isinstance(router.address, IPv4Address):
            return
        plain = bytes([_TIME_EXCEEDED4, 0, 0, 0, 0, 0, 0, 0]) + ethernet.payload[:28]
        message = plain[:2] + checksum(plain).to_bytes(2, "big") + plain[4:]
        reply = IPv4(router.address, packet.source, PROTOCOL_ICMP, message).encode()
        yield Frame(ethernet.source, router.mac, ETHERTYPE_IPV4, reply).encode()
    elif isinstance(router.address, IPv6Address):
        packet6 = IPv6.decode(ethernet.payload)
        if packet6.hop_limit > 1 or packet6.destination in holders:
            return
        body = bytes(4) + ethernet.payload[:1200]
        message = Icmpv6(_TIME_EXCEEDED6, 0, body).encode(router.address, packet6.source)
        reply = IPv6(router.address, packet6.source, PROTOCOL_ICMPV6, message).encode()
        yield Frame(ethernet.source, router.mac, ETHERTYPE_IPV6, reply).encode()
