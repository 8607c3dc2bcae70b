"""What is behind the routers of a simulated segment, and how packets get there: or not, as the station says."""

from __future__ import annotations

from collections.abc import Iterator
from ipaddress import IPv4Address, IPv6Address
from typing import TYPE_CHECKING
from urllib.parse import urlsplit

from fixed_anchor.core.addresses import IPAddress
from fixed_anchor.core.reaching import ACCEPTS, REFUSES, SILENT, UNREACHABLE
from fixed_anchor.packets.ethernet import ETHERTYPE_IPV4, ETHERTYPE_IPV6, Frame
from fixed_anchor.packets.ipv4 import PROTOCOL_ICMP, IPv4, checksum
from fixed_anchor.packets.ipv6 import PROTOCOL_ICMPV6, Icmpv6, IPv6

if TYPE_CHECKING:
    from fixed_anchor.standins.simulated_wire import SimulatedWire

_TIME_EXCEEDED4, _TIME_EXCEEDED6 = 11, 3


def connect(wire: SimulatedWire, gateway: IPAddress | None, source: IPAddress | None, to: IPAddress, port: int) -> str:
    """How ``to`` takes a connection from ``source``, whose packets go to ``gateway`` where it is on another segment."""
    if any(not device.asleep for device in wire.holders.get(to, ())):
        return REFUSES
    if not forwards(wire, gateway):
        return SILENT if gateway is not None else UNREACHABLE
    for one in wire.station.beyond:
        if one.address == to and (not one.admits or source in one.admits):
            return ACCEPTS if port in one.ports else REFUSES
    return SILENT


def fetch(wire: SimulatedWire, gateway: IPAddress | None, source: IPAddress | None, to: IPAddress, url: str) -> str:
    """What its web server says to a request for ``url``."""
    parts = urlsplit(url)
    said = connect(wire, gateway, source, to, parts.port or (443 if parts.scheme == "https" else 80))
    status = next((one.status for one in wire.station.beyond if one.address == to), 200)
    return f"status {status}" if said == ACCEPTS else said


def forwards(wire: SimulatedWire, gateway: IPAddress | None) -> bool:
    """Whether something gets out by that gateway."""
    routers = [d for d in wire.holders.get(gateway, ()) if wire.segment.is_router(d)] if gateway is not None else []
    return bool(routers) and wire.segment.uplink


def time_exceeded(wire: SimulatedWire, ethernet: Frame) -> Iterator[bytes]:
    """What a router says of a packet that may go one hop only, and was given to it to forward (RFC 792, RFC 4443)."""
    devices = (d for holders in wire.holders.values() for d in holders if d.mac == ethernet.destination)
    version = 4 if ethernet.ethertype == ETHERTYPE_IPV4 else 6
    routers = (d for d in devices if wire.segment.is_router(d) and not d.asleep and d.address.version == version)
    router = next(routers, None)
    if router is None:
        return
    if ethernet.ethertype == ETHERTYPE_IPV4:
        packet = IPv4.decode(ethernet.payload)
        if packet.ttl > 1 or packet.destination in wire.holders or not isinstance(router.address, IPv4Address):
            return
        plain = bytes([_TIME_EXCEEDED4, 0, 0, 0, 0, 0, 0, 0]) + ethernet.payload[:28]
        message = plain[:2] + checksum(plain).to_bytes(2, "big") + plain[4:]
        reply = IPv4(router.address, packet.source, PROTOCOL_ICMP, message).encode()
        yield Frame(ethernet.source, router.mac, ETHERTYPE_IPV4, reply).encode()
    elif isinstance(router.address, IPv6Address):
        packet6 = IPv6.decode(ethernet.payload)
        if packet6.hop_limit > 1 or packet6.destination in wire.holders:
            return
        body = bytes(4) + ethernet.payload[:1200]
        message = Icmpv6(_TIME_EXCEEDED6, 0, body).encode(router.address, packet6.source)
        reply = IPv6(router.address, packet6.source, PROTOCOL_ICMPV6, message).encode()
        yield Frame(ethernet.source, router.mac, ETHERTYPE_IPV6, reply).encode()
