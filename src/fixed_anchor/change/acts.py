"""What changes the settings of a Windows machine: one small act after the other, as data for the engine.

``guid`` is what an adapter is known by; by ``index``, Windows' number of it, the calls find it, never by its name, in
which ``[ ] * ?`` would act as wildcards. ``shown`` is the documented call that an act comes to, for people; nothing is
ever made of that text.
"""

from __future__ import annotations

import msgspec

_V4, _V6 = "IPv4", "IPv6"


def _family(version: int) -> str:
    return _V4 if version == 4 else _V6


class _OfMachine(msgspec.Struct, frozen=True, tag_field="do"):
    """What all acts have in common."""

    def _call(self) -> str:
        raise NotImplementedError

    @property
    def shown(self) -> str:
        """The documented call that it comes to, for people."""
        return self._call()


class _OfAdapter(_OfMachine, frozen=True):
    """What all acts on one adapter begin with."""

    guid: str
    index: int

    @property
    def on(self) -> str:
        """The adapter, as the calls name it."""
        return f"-InterfaceIndex {self.index}"


class SetResolvers(_OfAdapter, frozen=True, tag="resolvers"):
    """The resolvers of an adapter, of both versions; none: those of the lease."""

    servers: tuple[str, ...]

    def _call(self) -> str:
        what = f"-ServerAddresses {','.join(self.servers)}" if self.servers else "-ResetServerAddresses"
        return f"Set-DnsClientServerAddress {self.on} {what}"


class SetSuffix(_OfAdapter, frozen=True, tag="suffix"):
    """The domain of the connection; empty: that of the lease."""

    suffix: str

    def _call(self) -> str:
        return f"Set-DnsClient {self.on} -ConnectionSpecificSuffix '{self.suffix}'"


class SetNetbios(_OfAdapter, frozen=True, tag="netbios"):
    """The NetBIOS name servers of an adapter, at most two; none: those of the lease."""

    servers: tuple[str, ...]

    def _call(self) -> str:
        return f"SetWINSServer of adapter {self.index}: {', '.join(self.servers) or 'none'}"


class SetDhcp(_OfAdapter, frozen=True, tag="dhcp"):
    """Whether the adapter asks DHCP servers for IPv4."""

    asks: bool

    def _call(self) -> str:
        return f"Set-NetIPInterface {self.on} -AddressFamily IPv4 -Dhcp {'Enabled' if self.asks else 'Disabled'}"


class HearRouters(_OfAdapter, frozen=True, tag="routers"):
    """Whether router advertisements configure IPv6."""

    hears: bool

    def _call(self) -> str:
        word = "Enabled" if self.hears else "Disabled"
        return f"Set-NetIPInterface {self.on} -AddressFamily IPv6 -RouterDiscovery {word}"


class SetVersion(_OfAdapter, frozen=True, tag="version"):
    """Whether the adapter speaks IP ``version`` at all."""

    version: int
    speaks: bool

    def _call(self) -> str:
        verb = "Enable" if self.speaks else "Disable"
        return f"{verb}-NetAdapterBinding {self.on} -ComponentID ms_tcpip{'6' if self.version == 6 else ''}"


class HoldIPv4(_OfAdapter, frozen=True, tag="hold-ipv4"):
    """All IPv4 addresses at once, and no DHCP any more: one interruption."""

    addresses: tuple[str, ...]
    masks: tuple[str, ...]

    def _call(self) -> str:
        held = (f"{a}/{m}" for a, m in zip(self.addresses, self.masks, strict=True))
        return f"EnableStatic of adapter {self.index}: {', '.join(held)}"


class SetGateways(_OfAdapter, frozen=True, tag="gateways"):
    """All IPv4 gateways at once, at least one, with their metrics."""

    addresses: tuple[str, ...]
    metrics: tuple[int, ...]

    def _call(self) -> str:
        each = (f"{a} metric {m}" for a, m in zip(self.addresses, self.metrics, strict=True))
        return f"SetGateways of adapter {self.index}: {', '.join(each)}"


class AddAddress(_OfAdapter, frozen=True, tag="add-address"):
    """One address beside the others, in force and persistent."""

    address: str
    prefix: int
    is_source: bool

    def _call(self) -> str:
        skip = "" if self.is_source else " -SkipAsSource $true"
        return f"New-NetIPAddress {self.on} -IPAddress {self.address} -PrefixLength {self.prefix}{skip}"


class DropAddress(_OfAdapter, frozen=True, tag="drop-address"):
    """One address, from both stores; the others stay."""

    address: str

    def _call(self) -> str:
        return f"Remove-NetIPAddress {self.on} -IPAddress {self.address}, in force and kept"


class SetSource(_OfAdapter, frozen=True, tag="source"):
    """Whether an address may be chosen as a source by itself, in force and persistent."""

    address: str
    is_source: bool

    def _call(self) -> str:
        skip = "$false" if self.is_source else "$true"
        return f"Set-NetIPAddress {self.on} -IPAddress {self.address} -SkipAsSource {skip}, in force and kept"


class AddRoute(_OfAdapter, frozen=True, tag="add-route"):
    """A route, in both stores; ``next_hop`` is ``0.0.0.0`` or ``::`` for a destination on the link."""

    destination: str
    next_hop: str
    metric: int

    def _call(self) -> str:
        where = f"-DestinationPrefix {self.destination} -NextHop {self.next_hop}"
        return f"New-NetRoute {self.on} {where} -RouteMetric {self.metric}"


class DropRoute(_OfAdapter, frozen=True, tag="drop-route"):
    """A route, from both stores. A default route outlives its address, and is then in the way of the next one."""

    destination: str
    next_hop: str

    def _call(self) -> str:
        where = f"-DestinationPrefix {self.destination} -NextHop {self.next_hop}"
        return f"Remove-NetRoute {self.on} {where}, in force and kept"


class TakeDefaultRoutes(_OfAdapter, frozen=True, tag="default-routes"):
    """Whether default routes of leases, or of routers, are taken."""

    version: int
    takes: bool

    def _call(self) -> str:
        word = "Disabled" if self.takes else "Enabled"
        return f"Set-NetIPInterface {self.on} -AddressFamily {_family(self.version)} -IgnoreDefaultRoutes {word}"


class SetMtu(_OfAdapter, frozen=True, tag="mtu"):
    """The MTU of an IP version, in bytes."""

    version: int
    size: int

    def _call(self) -> str:
        return f"Set-NetIPInterface {self.on} -AddressFamily {_family(self.version)} -NlMtuBytes {self.size}"


class SetFallback(_OfAdapter, frozen=True, tag="fallback"):
    """The alternate configuration: DHCP options as the registry has them, in hexadecimal; empty for none."""

    options: str

    def _call(self) -> str:
        if not self.options:
            return f"the alternate configuration of adapter {self.index} goes from the registry"
        return f"the alternate configuration of adapter {self.index} into the registry: {len(self.options) // 2} bytes"


class SetSearch(_OfMachine, frozen=True, tag="search"):
    """The domains that are searched, for the whole machine; none: those of the connections."""

    domains: tuple[str, ...]

    def _call(self) -> str:
        return f"Set-DnsClientGlobalSetting -SuffixSearchList {','.join(self.domains) or '@()'}"


class Rename(_OfMachine, frozen=True, tag="rename"):
    """The machine's own name, which a restart brings into force."""

    name: str

    def _call(self) -> str:
        return f"Rename-Computer -NewName {self.name}"


Act = (
    SetResolvers
    | SetSuffix
    | SetNetbios
    | SetDhcp
    | HearRouters
    | SetVersion
    | HoldIPv4
    | SetGateways
    | AddAddress
    | DropAddress
    | SetSource
    | AddRoute
    | DropRoute
    | TakeDefaultRoutes
    | SetMtu
    | SetFallback
    | SetSearch
    | Rename
)
