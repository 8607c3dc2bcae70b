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
    """A simulated neighbour. ``echo`` and ``dns`` say whether it answers pings and DNS questions.

    ``late`` delays its answers by so many seconds, ``probe`` lets it answer only the so manieth
    question, ``asleep`` none at all. ``flood`` is a number of gratuitous ARP packets that it sends
    unasked. ``offers`` makes it a DHCP server that offers this address, with itself as router.
    ``names`` are the records it knows as a resolver, beside those of the hosts.
    """

    name: str
    mac: str
    address: IPAddress
    echo: bool = True
    dns: bool = False
    late: float = 0.0
    probe: int = 1
    asleep: bool = False
    flood: int = 0
    offers: IPv4Address | None = None
    names: dict[str, IPAddress] = {}


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
    server: IPv4Address | None = None

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
    devices = [_device(item) for item in fields["devices"].items()] if "devices" in fields else []
    if "dhcp" not in fields:
        return SimulatedSegment(name, subnet, tuple(devices))
    dhcp = fields["dhcp"].fields(("pool", "leases", "router", "resolvers", "search", "lease_seconds", "server"))
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
        lease_seconds=_number(dhcp["lease_seconds"]) if "lease_seconds" in dhcp else 3600,
        server=dhcp["server"].parsed(_ipv4, "an address") if "server" in dhcp else None,
    )


def _number(value: Value) -> int:
    text = value.text("a number")
    if not (text.isascii() and text.isdigit()) or len(text) > 9:
        raise value.error(f"{text!r} stands here", expected="a number")
    return int(text)


def _device(item: Value) -> Device:
    keys = ("name", "mac", "address", "echo", "dns", "late", "probe", "asleep", "flood", "offers", "names")
    said = item.fields(keys)
    for key in ("name", "mac", "address"):
        if key not in said:
            raise item.error(f"the device has no {key}", expected=f"`{key}: ...`")

    def flag(key: str, default: bool) -> bool:
        return said[key].text() == "true" if key in said else default

    names = said["names"].entries("addresses by name") if "names" in said else ()
    return Device(
        name=said["name"].text(),
        mac=said["mac"].parsed(parse_mac, "a MAC"),
        address=said["address"].parsed(parse_address, "an address"),
        echo=flag("echo", True),
        dns=flag("dns", False),
        late=said["late"].parsed(float, "seconds") if "late" in said else 0.0,
        probe=_number(said["probe"]) if "probe" in said else 1,
        asleep=flag("asleep", False),
        flood=_number(said["flood"]) if "flood" in said else 0,
        offers=said["offers"].parsed(_ipv4, "an address") if "offers" in said else None,
        names={
            key.parsed(parse_domain, "a name"): value.parsed(parse_address, "an address") for _, key, value in names
        },
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
