"""The addressing plan: what each interface of each host shall hold.

These are the checked types. The YAML text is read by :mod:`fixed_anchor.planfile`,
which knows lines and columns; here a ``line`` is kept only so that a finding can
point at the place.
"""

from __future__ import annotations

from typing import Protocol

import msgspec

from fixed_anchor.core.addresses import AddressRange, IPAddress, IPNetwork
from fixed_anchor.core.config import Route

#: What may be said of a family on an interface.
IPV4_METHODS = ("fixed", "dhcp", "off", "untouched")
IPV6_METHODS = ("fixed", "dhcp", "ra", "off", "untouched")

#: The kinds of source that a plan may name, each with its further keys.
SOURCE_KINDS: dict[str, tuple[str, ...]] = {
    "kea": (),
    "kea-leases": (),
    "dhcpd": (),
    "dhcpd-leases": (),
    "dnsmasq": (),
    "dnsmasq-leases": (),
    "libvirt": (),
    "windows-dhcp": (),
    "zone": ("origin",),
    "hosts": (),
    "address-list": ("address", "name", "mac", "state", "sheet"),
}


#: The stacks that a host's `stack` may name.
STACKS = ("netplan", "NetworkManager", "networkd", "ifupdown", "ifupdown2", "ifcfg")


class WirelessPlan(msgspec.Struct, frozen=True, gc=False):
    """The radio network that a wireless interface joins, and the file with its passphrase, as the plan names it.

    ``line`` is that of the file's name, or of the network.
    """

    network: str
    password: str | None = None
    line: int = 0


class Gateway(msgspec.Struct, frozen=True):
    """A router of a segment, with the metric of the default route through it."""

    address: IPAddress
    metric: int | None = None


class Segment(msgspec.Struct, frozen=True):
    """One broadcast domain and what is true for every host on it.

    ``pools`` is ``None`` where the plan does not say (not known) and empty where
    it says that there is no DHCP server. ``dhcp_servers`` is ``None`` where the plan does
    not say which servers there are. ``was`` are subnets that it had before it was widened or divided.
    """

    name: str
    subnets: tuple[IPNetwork, ...]
    gateways: tuple[Gateway, ...] = ()
    resolvers: tuple[IPAddress, ...] = ()
    search: tuple[str, ...] = ()
    pools: tuple[AddressRange, ...] | None = None
    reservations: dict[str, tuple[IPAddress, ...]] = {}
    set_aside: tuple[AddressRange, ...] = ()
    reachable: tuple[str, ...] = ()
    dhcp_servers: tuple[IPAddress, ...] | None = None
    was: tuple[IPNetwork, ...] = ()
    line: int = 0

    def subnet_of(self, address: IPAddress) -> IPNetwork | None:
        """The subnet of this segment in which ``address`` lies."""
        version, number = address.version, int(address)
        for subnet in self.subnets:
            # As integers: the same as `address in subnet`, and several times as fast.
            if subnet.version == version and number & int(subnet.netmask) == int(subnet.network_address):
                return subnet
        return None


class PlannedAddress(msgspec.Struct, frozen=True, gc=False):
    """One address that an interface shall hold; ``prefix`` (bits) only where it overrides the segment's."""

    address: IPAddress
    prefix: int | None = None


class InterfacePlan(msgspec.Struct, frozen=True, gc=False):
    """What one interface shall hold. ``None`` means: the segment's, or untouched.

    ``gateways`` empty (not ``None``) means that the interface must not carry the
    default route. ``fallback`` is the address that it shall have where no DHCP server answers: one, or none.
    """

    name: str
    segment: str
    mac: str | None = None
    hold: tuple[PlannedAddress, ...] = ()
    ipv4: str = "untouched"
    ipv6: str = "untouched"
    expect: tuple[IPAddress, ...] = ()
    leave_alone: tuple[IPAddress, ...] = ()
    fallback: tuple[PlannedAddress, ...] | None = None
    gateways: tuple[Gateway, ...] | None = None
    metric: int | None = None
    resolvers: tuple[IPAddress, ...] | None = None
    search: tuple[str, ...] | None = None
    mtu: int | None = None
    time_servers: tuple[str, ...] | None = None
    routes: tuple[Route, ...] = ()
    wifi: WirelessPlan | None = None
    netbios_servers: tuple[IPAddress, ...] | None = None
    line: int = 0

    @property
    def own(self) -> tuple[PlannedAddress, ...]:
        """The addresses that no server gives it, and that must be nobody else's: those it holds, and its fallback."""
        return (*self.hold, *self.fallback) if self.fallback else self.hold

    @property
    def every_address(self) -> tuple[IPAddress, ...]:
        """All that it may have: its own, and those that it expects of a lease."""
        own = tuple(held.address for held in self.own)
        return (*own, *self.expect) if self.expect else own


class HostPlan(msgspec.Struct, frozen=True, gc=False):
    """One host: its interfaces, and how it is reached from here.

    ``stack`` takes those that no file declares, ``None`` where that is left to what is there.
    """

    name: str
    interfaces: tuple[InterfacePlan, ...]
    hostname: str | None = None
    reach: str | None = None
    stack: str | None = None
    line: int = 0

    @property
    def touched(self) -> tuple[InterfacePlan, ...]:
        """Its interfaces of which the plan wants something in at least one family."""
        return tuple(i for i in self.interfaces if i.ipv4 != "untouched" or i.ipv6 != "untouched")


class SourceRef(msgspec.Struct, frozen=True):
    """A source of outside knowledge: its kind, its path relative to the plan, and its further keys."""

    kind: str
    path: str
    line: int = 0
    options: dict[str, str] = {}

    @property
    def label(self) -> str:
        """What messages call it."""
        return f"{self.kind} {self.path}"


class Lines(Protocol):
    """Where the parts of a plan stand in its text."""

    def line(self, path: tuple[str | int, ...]) -> int | None:
        """The line of the part at ``path``: keys, and numbers in lists; ``None`` where nothing stands there."""
        ...


class Plan(msgspec.Struct, frozen=True):
    """A whole addressing plan. ``file`` is the path it was read from, ``lines`` tells where its parts stand.

    ``apart`` are groups of hosts of which never two are changed at the same time.
    """

    file: str
    segments: dict[str, Segment]
    hosts: dict[str, HostPlan]
    site: str | None = None
    sources: tuple[SourceRef, ...] = ()
    apart: tuple[tuple[str, ...], ...] = ()
    lines: Lines | None = None

    def where(self, *path: str | int, line: int) -> str:
        """``FILE:LINE`` of a part of the plan, or of ``line`` where there is no such part."""
        found = self.lines.line(path) if self.lines is not None else None
        return f"{self.file}:{found or line}"

    def where_of(self, host: HostPlan, interface: InterfacePlan, *path: str | int) -> str:
        """The same of a part of an interface; of the interface itself where there is no such part."""
        return self.where("hosts", host.name, "interfaces", interface.name, *path, line=interface.line)

    def where_held(self, host: HostPlan, interface: InterfacePlan, address: IPAddress) -> str:
        """Where ``hold``, ``fallback`` or ``expect`` has an address."""
        if any(f.address == address for f in interface.fallback or ()):
            return self.where_of(host, interface, "fallback")
        held = [h.address for h in interface.hold]
        if address in held:
            return self.where_of(host, interface, "hold", held.index(address))
        expected = list(interface.expect)
        number = expected.index(address) if address in expected else 0
        return self.where_of(host, interface, "expect", number)

    def where_said(self, host: HostPlan, interface: InterfacePlan, key: str, own: bool) -> str:
        """Where a key of an interface stands if it has its ``own``, else that of its segment, or where it could."""
        if own:
            return self.where_of(host, interface, key)
        segment = self.segments[interface.segment]
        return self.where("segments", segment.name, key, line=segment.line)

    def where_gateway(self, host: HostPlan, interface: InterfacePlan, gateway: IPAddress) -> str:
        """Where the interface, or its segment, names a gateway."""
        segment = self.segments[interface.segment]
        own = interface.gateways
        every = [g.address for g in (segment.gateways if own is None else own)]
        number = every.index(gateway) if gateway in every else 0
        if own is None:
            return self.where("segments", segment.name, "gateway", number, line=segment.line)
        return self.where_of(host, interface, "gateway", number)
