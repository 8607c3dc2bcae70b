"""The description of a simulated site (``station.yaml``): its segments, devices and hosts."""

from __future__ import annotations

from ipaddress import IPv4Address, IPv4Network
from pathlib import Path

import msgspec

from fixed_anchor.core.addresses import (
    AddressRange,
    IPAddress,
    parse_address,
    parse_domain,
    parse_mac,
    parse_network,
    parse_range,
)
from fixed_anchor.core.errors import InputError
from fixed_anchor.planfile.nodes import Value, compose


class Device(msgspec.Struct, frozen=True):
    """A simulated neighbour. ``echo`` and ``dns`` say whether it answers pings and DNS questions."""

    name: str
    mac: str
    address: IPv4Address
    echo: bool = True
    dns: bool = False


class SimulatedSegment(msgspec.Struct, frozen=True):
    """A simulated broadcast domain with its DHCP service (``pool`` is ``None`` where there is none)."""

    name: str
    subnet: IPv4Network
    devices: tuple[Device, ...] = ()
    pool: AddressRange | None = None
    leases: dict[str, IPv4Address] = {}
    router: IPv4Address | None = None
    resolvers: tuple[IPAddress, ...] = ()
    search: tuple[str, ...] = ()
    lease_seconds: int = 3600

    def lease_for(self, mac: str) -> IPv4Address | None:
        """The address the simulated DHCP server gives to ``mac``: always the same one."""
        if self.pool is None:
            return None
        if mac in self.leases:
            return self.leases[mac]
        return IPv4Address(self.pool.first + int(mac.replace(":", ""), 16) % self.pool.size)


class SimulatedInterface(msgspec.Struct, frozen=True):
    """An interface of a simulated host and the segment its cable leads to."""

    name: str
    mac: str
    segment: str
    index: int


class SimulatedHost(msgspec.Struct, frozen=True):
    """A simulated host: its file tree (``tree``, a folder) and its interfaces."""

    name: str
    tree: Path
    interfaces: tuple[SimulatedInterface, ...]


class Station(msgspec.Struct, frozen=True):
    """A whole simulated site."""

    file: Path
    segments: dict[str, SimulatedSegment]
    hosts: dict[str, SimulatedHost]


def read_station(path: Path) -> Station:
    """Reads a station file. Raises :class:`InputError`."""
    try:
        text = path.read_text("utf-8")
    except (OSError, UnicodeDecodeError) as error:
        raise InputError(f"the stand-in's file cannot be read: {error}", file=str(path)) from None
    fields = Value(compose(text, str(path)), str(path)).fields(("station", "segments", "hosts"))
    for key in ("segments", "hosts"):
        if key not in fields:
            raise InputError(f"`{key}:` is missing", file=str(path))
    segments = {name: _segment(name, value) for name, _, value in fields["segments"].entries()}
    hosts = {name: _host(name, value, segments, path) for name, _, value in fields["hosts"].entries()}
    return Station(path, segments, hosts)


def _ipv4(text: str) -> IPv4Address:
    address = parse_address(text)
    if not isinstance(address, IPv4Address):
        raise ValueError(f"{text!r} is not an IPv4 address")
    return address


def _segment(name: str, value: Value) -> SimulatedSegment:
    fields = value.fields(("subnet", "devices", "dhcp"))
    if "subnet" not in fields:
        raise value.error("no subnet stands here", expected="`subnet:`")
    subnet = fields["subnet"].parsed(parse_network, "a subnet")
    if not isinstance(subnet, IPv4Network):
        raise fields["subnet"].error("an IPv4 subnet is needed")
    devices: list[Device] = []
    for item in fields["devices"].items() if "devices" in fields else []:
        device = item.fields(("name", "mac", "address", "echo", "dns"))
        devices.append(
            Device(
                name=device["name"].text(),
                mac=device["mac"].parsed(parse_mac, "a MAC"),
                address=device["address"].parsed(_ipv4, "an address"),
                echo="echo" not in device or device["echo"].text() == "true",
                dns="dns" in device and device["dns"].text() == "true",
            )
        )
    if "dhcp" not in fields:
        return SimulatedSegment(name, subnet, tuple(devices))
    dhcp = fields["dhcp"].fields(("pool", "leases", "router", "resolvers", "search", "lease_seconds"))
    leases = {}
    for _, key, address in dhcp["leases"].entries() if "leases" in dhcp else ():
        leases[key.parsed(parse_mac, "a MAC")] = address.parsed(_ipv4, "an address")
    return SimulatedSegment(
        name,
        subnet,
        tuple(devices),
        pool=dhcp["pool"].parsed(parse_range, "a range"),
        leases=leases,
        router=dhcp["router"].parsed(_ipv4, "an address") if "router" in dhcp else None,
        resolvers=dhcp["resolvers"].all_parsed(parse_address, "an address") if "resolvers" in dhcp else (),
        search=dhcp["search"].all_parsed(parse_domain, "a domain") if "search" in dhcp else (),
        lease_seconds=int(dhcp["lease_seconds"].text()) if "lease_seconds" in dhcp else 3600,
    )


def _host(name: str, value: Value, segments: dict[str, SimulatedSegment], path: Path) -> SimulatedHost:
    fields = value.fields(("tree", "interfaces"))
    interfaces: list[SimulatedInterface] = []
    for index, (interface, _, inner) in enumerate(fields["interfaces"].entries(), 2):
        said = inner.fields(("mac", "segment"))
        segment = said["segment"].text()
        if segment not in segments:
            raise said["segment"].error(f"there is no segment {segment!r}", expected=", ".join(segments))
        interfaces.append(SimulatedInterface(interface, said["mac"].parsed(parse_mac, "a MAC"), segment, index))
    return SimulatedHost(name, path.parent / fields["tree"].text(), tuple(interfaces))
