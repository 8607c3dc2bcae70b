"""The description of a simulated site (``station.yaml``): its segments, devices and hosts."""

from __future__ import annotations

from functools import lru_cache
from ipaddress import IPv4Address, IPv4Network, IPv6Network
from pathlib import Path
from typing import Any

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
from fixed_anchor.text.yaml_nodes import Value, compose


class Device(msgspec.Struct, frozen=True):
    """A simulated neighbour. ``echo`` and ``dns`` say whether it answers pings and DNS questions.

    ``late`` delays its answers by so many seconds, ``probe`` lets it answer only the so manieth
    question, ``asleep`` none at all. ``flood`` is a number of gratuitous ARP packets that it sends
    unasked. ``offers`` makes it a DHCP server that offers this address, with itself as router.
    ``names`` are the records it knows as a resolver, beside those of the hosts; it answers over TCP alone with
    ``dns_over_tcp``, refuses the names of ``refuses`` and what is below them (``.`` is the root alone), and where
    ``admits`` has any, whoever has another address. ``forwards`` makes it a router; ``None`` means that it is one if
    the DHCP server tells it as such. ``proxy_arp`` lets it answer for every address of the subnet.
    What it sends bears the tag of ``vlan``, and it sends a probe for ``probes_for`` each time that somebody listens;
    with ``ssh`` it takes connections to the port of an sshd.
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
    dns_over_tcp: bool = False
    refuses: tuple[str, ...] = ()
    admits: tuple[IPAddress, ...] = ()
    forwards: bool | None = None
    proxy_arp: bool = False
    vlan: int | None = None
    probes_for: IPv4Address | None = None
    ssh: bool = False


class Beyond(msgspec.Struct, frozen=True):
    """Somebody behind the routers of all segments: the TCP ``ports`` it takes connections on.

    ``admits`` are the addresses that it answers, all where there are none; ``status`` is what its web server says.
    """

    address: IPAddress
    ports: tuple[int, ...] = ()
    admits: tuple[IPAddress, ...] = ()
    status: int = 200


class SimulatedSegment(msgspec.Struct, frozen=True):
    """A simulated broadcast domain with its DHCP service (``pool`` is ``None`` where there is none).

    Without ``uplink`` its routers route, and nothing is behind them. Where it is ``isolated`` no port forwards, and
    ``forwards_after`` is the number of seconds until ports do after a host has loaded its files. Its routers announce
    themselves and ``announces`` as a prefix where there is one; ``leases6`` has DHCPv6 lease addresses of it.
    """

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
    uplink: bool = True
    isolated: bool = False
    forwards_after: float = 0.0
    announces: IPv6Network | None = None
    leases6: bool = False

    def is_router(self, device: Device) -> bool:
        """Whether a device forwards."""
        return device.forwards if device.forwards is not None else device.address == self.router

    def lease_for(self, mac: str) -> IPv4Address | None:
        """The address the simulated DHCP server gives to ``mac``: always the same one."""
        if self.pool is None:
            return None
        if mac in self.leases:
            return self.leases[mac]
        return IPv4Address(self.pool.first + int(mac.replace(":", ""), 16) % self.pool.size)


class SimulatedInterface(msgspec.Struct, frozen=True):
    """An interface of a simulated host and the segment its cable leads to.

    One that is ``point_to_point`` has no MAC, as far as its host sees, and no neighbours. Its routes are in ``table``
    where it has one of its own, as in a VRF.
    """

    name: str
    mac: str
    segment: str
    index: int
    point_to_point: bool = False
    table: int | None = None


class SimulatedHost(msgspec.Struct, frozen=True):
    """A simulated host: its file tree (``tree``, a folder) and its interfaces. ``resolver`` says that it runs one.

    ``over_ssh`` says that it is reached so, as far as somebody can tell who looks from outside; whether it ``answers``
    is a matter of its own.
    """

    name: str
    tree: Path
    interfaces: tuple[SimulatedInterface, ...]
    resolver: bool = False
    over_ssh: bool = False
    answers: bool = True


class Station(msgspec.Struct, frozen=True):
    """A whole simulated site."""

    file: Path
    segments: dict[str, SimulatedSegment]
    hosts: dict[str, SimulatedHost]
    beyond: tuple[Beyond, ...] = ()


def read_station(path: Path) -> Station:
    """Reads a station file. Raises :class:`InputError`."""
    try:
        text = path.read_text("utf-8")
    except (OSError, UnicodeDecodeError) as error:
        raise InputError(f"the stand-in's file cannot be read: {error}", file=str(path)) from None
    return _parsed(path, text)


@lru_cache(maxsize=4)
def _parsed(path: Path, text: str) -> Station:
    # Each host of a plan leads to its station again; a plan may have thousands of one.
    fields = Value(compose(text, str(path)), str(path)).fields(("station", "segments", "hosts", "beyond"))
    for key in ("segments", "hosts"):
        if key not in fields:
            raise InputError(f"`{key}:` is missing", file=str(path))
    segments = {name: _segment(name, value) for name, _, value in fields["segments"].entries()}
    hosts = {name: _host(name, value, segments, path) for name, _, value in fields["hosts"].entries()}
    beyond = tuple(_beyond(item) for item in fields["beyond"].items()) if "beyond" in fields else ()
    return Station(path, segments, hosts, beyond)


def _ipv4(text: str) -> IPv4Address:
    address = parse_address(text)
    if not isinstance(address, IPv4Address):
        raise ValueError(f"{text!r} is not an IPv4 address")
    return address


def _ipv6_network(text: str) -> IPv6Network:
    network = parse_network(text)
    if not isinstance(network, IPv6Network):
        raise ValueError(f"{text!r} is not an IPv6 prefix")
    return network


def _segment(name: str, value: Value) -> SimulatedSegment:
    fields = value.fields(("subnet", "devices", "dhcp", "uplink", "isolated", "forwards_after", "announces", "leases6"))
    if "subnet" not in fields:
        raise value.error("no subnet stands here", expected="`subnet:`")
    subnet = fields["subnet"].parsed(parse_network, "a subnet")
    if not isinstance(subnet, IPv4Network):
        raise fields["subnet"].error("an IPv4 subnet is needed")
    devices = [_device(item) for item in fields["devices"].items()] if "devices" in fields else []
    wrong: dict[str, Any] = {
        "uplink": _flag(fields, "uplink", True),
        "isolated": _flag(fields, "isolated", False),
        "forwards_after": fields["forwards_after"].parsed(float, "seconds") if "forwards_after" in fields else 0.0,
        "announces": fields["announces"].parsed(_ipv6_network, "a prefix") if "announces" in fields else None,
        "leases6": _flag(fields, "leases6", False),
    }
    if "dhcp" not in fields:
        return SimulatedSegment(name, subnet, tuple(devices), **wrong)
    dhcp = fields["dhcp"].fields(("pool", "leases", "router", "resolvers", "search", "lease_seconds", "server"))
    leases = {}
    for _, key, address in dhcp["leases"].entries() if "leases" in dhcp else ():
        leases[key.parsed(parse_mac, "a MAC")] = address.parsed(_ipv4, "an address")
    return SimulatedSegment(
        name,
        subnet,
        tuple(devices),
        pool=dhcp["pool"].parsed(parse_range, "a range") if "pool" in dhcp else None,
        leases=leases,
        router=dhcp["router"].parsed(_ipv4, "an address") if "router" in dhcp else None,
        resolvers=dhcp["resolvers"].all_parsed(parse_address, "an address") if "resolvers" in dhcp else (),
        search=dhcp["search"].all_parsed(parse_domain, "a domain") if "search" in dhcp else (),
        lease_seconds=_number(dhcp["lease_seconds"]) if "lease_seconds" in dhcp else 3600,
        server=dhcp["server"].parsed(_ipv4, "an address") if "server" in dhcp else None,
        **wrong,
    )


def _flag(fields: dict[str, Value], key: str, default: bool) -> bool:
    return fields[key].text() in ("true", "yes") if key in fields else default


def _beyond(item: Value) -> Beyond:
    fields = item.fields(("address", "ports", "admits", "status"))
    if "address" not in fields:
        raise item.error("no address stands here", expected="`address:`")
    return Beyond(
        fields["address"].parsed(parse_address, "an address"),
        tuple(_number(port) for port in fields["ports"].items()) if "ports" in fields else (),
        fields["admits"].all_parsed(parse_address, "an address") if "admits" in fields else (),
        _number(fields["status"]) if "status" in fields else 200,
    )


def _number(value: Value) -> int:
    text = value.text("a number")
    if not (text.isascii() and text.isdigit()) or len(text) > 9:
        raise value.error(f"{text!r} stands here", expected="a number")
    return int(text)


def _device(item: Value) -> Device:
    fields = item.fields(tuple(field.name for field in msgspec.structs.fields(Device)))
    for key in ("name", "mac", "address"):
        if key not in fields:
            raise item.error(f"the device has no {key}", expected=f"`{key}: ...`")

    names = fields["names"].entries("addresses by name") if "names" in fields else ()
    return Device(
        name=fields["name"].text(),
        mac=fields["mac"].parsed(parse_mac, "a MAC"),
        address=fields["address"].parsed(parse_address, "an address"),
        echo=_flag(fields, "echo", True),
        dns=_flag(fields, "dns", False),
        late=fields["late"].parsed(float, "seconds") if "late" in fields else 0.0,
        probe=_number(fields["probe"]) if "probe" in fields else 1,
        asleep=_flag(fields, "asleep", False),
        flood=_number(fields["flood"]) if "flood" in fields else 0,
        offers=fields["offers"].parsed(_ipv4, "an address") if "offers" in fields else None,
        names={
            key.parsed(parse_domain, "a name"): value.parsed(parse_address, "an address") for _, key, value in names
        },
        dns_over_tcp=_flag(fields, "dns_over_tcp", False),
        refuses=tuple(name.text().rstrip(".") for name in fields["refuses"].items()) if "refuses" in fields else (),
        admits=fields["admits"].all_parsed(parse_address, "an address") if "admits" in fields else (),
        forwards=_flag(fields, "forwards", False) if "forwards" in fields else None,
        proxy_arp=_flag(fields, "proxy_arp", False),
        vlan=_number(fields["vlan"]) if "vlan" in fields else None,
        probes_for=fields["probes_for"].parsed(_ipv4, "an address") if "probes_for" in fields else None,
    )


def _host(name: str, value: Value, segments: dict[str, SimulatedSegment], path: Path) -> SimulatedHost:
    fields = value.fields(("tree", "interfaces", "resolver", "over_ssh", "answers"))
    interfaces: list[SimulatedInterface] = []
    for index, (interface, _, inner) in enumerate(fields["interfaces"].entries(), 2):
        said = inner.fields(("mac", "segment", "point_to_point", "table"))
        segment = said["segment"].text()
        if segment not in segments:
            raise said["segment"].error(f"there is no segment {segment!r}", expected=", ".join(segments))
        mac, table = said["mac"].parsed(parse_mac, "a MAC"), _number(said["table"]) if "table" in said else None
        alone = _flag(said, "point_to_point", False)
        interfaces.append(SimulatedInterface(interface, mac, segment, index, alone, table))
    tree = path.parent / fields["tree"].text()
    return SimulatedHost(
        name,
        tree,
        tuple(interfaces),
        _flag(fields, "resolver", False),
        _flag(fields, "over_ssh", False),
        _flag(fields, "answers", True),
    )
