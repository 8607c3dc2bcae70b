"""What an interface is, or shall be, configured with: the words all formats are translated to."""

from __future__ import annotations

import re

import msgspec

from fixed_anchor.core.addresses import IPAddress, IPInterface, IPNetwork

#: The search domain that makes resolvers count for every name, whatever the routes.
ALL_NAMES = "~."


class Route(msgspec.Struct, frozen=True):
    """One route. ``next_hop`` is ``None`` for a destination on the link itself.

    ``on_link`` says that the next hop is reached without lying in a subnet of the
    interface. A default route has the destination ``0.0.0.0/0`` or ``::/0``.

    A link-local next hop (``fe80::1``) is on link by definition (RFC 4861, section 6.3.4; RFC 5942):
    that is nothing to be said of the route, and ``on_link`` is false.
    """

    destination: IPNetwork
    next_hop: IPAddress | None = None
    metric: int | None = None
    on_link: bool = False

    def __post_init__(self) -> None:
        if self.on_link and self.next_hop is not None and self.next_hop.version == 6 and self.next_hop.is_link_local:
            msgspec.structs.force_setattr(self, "on_link", False)

    @property
    def is_default(self) -> bool:
        """Whether it leads everywhere: ``0.0.0.0/0`` or ``::/0``."""
        return self.destination.prefixlen == 0

    def __str__(self) -> str:
        text = "default" if self.is_default else str(self.destination)
        if self.next_hop is not None:
            text += f" via {self.next_hop}"
        if self.metric is not None:
            text += f" metric {self.metric}"
        return text + (" on-link" if self.on_link else "")


class Fallback(msgspec.Struct, frozen=True):
    """What an interface with DHCP shall have while no server answers: nothing where there is no ``address``."""

    address: IPInterface | None = None
    gateway: IPAddress | None = None
    resolvers: tuple[IPAddress, ...] = ()


class InterfaceConfig(msgspec.Struct, frozen=True):
    """The addressing of one interface, as declared in files or as wanted by a plan.

    ``ipv4`` and ``ipv6`` are one of ``fixed``, ``dhcp``, ``ra`` (IPv6), ``off`` and
    ``untouched``. ``addresses`` keeps its order: the first of a family is the
    preferred source. ``resolvers``, ``search``, ``mtu``, ``time_servers`` and ``netbios_servers`` are
    ``None`` where nothing is said, or where they shall stay as they are.

    ``lease_routes`` and ``lease_resolvers`` say whether the routes and resolvers that
    an IPv4 lease supplies are used; they count where ``ipv4`` is ``dhcp``. ``never_default``
    names the IP versions whose default routes the files keep out of force, ``optioned`` the
    addresses that are declared with options (a lifetime, a peer, a label) which a plan does not have.
    ``accepts_ra`` says that router advertisements are listened to although ``ipv6`` is ``fixed``.
    """

    interface: str
    ipv4: str = "untouched"
    ipv6: str = "untouched"
    addresses: tuple[IPInterface, ...] = ()
    routes: tuple[Route, ...] = ()
    resolvers: tuple[IPAddress, ...] | None = None
    search: tuple[str, ...] | None = None
    mtu: int | None = None
    time_servers: tuple[str, ...] | None = None
    lease_routes: bool = True
    lease_resolvers: bool = True
    never_default: tuple[int, ...] = ()
    optioned: tuple[IPInterface, ...] = ()
    accepts_ra: bool = False
    fallback: Fallback | None = None
    netbios_servers: tuple[IPAddress, ...] | None = None

    def of_family(self, version: int) -> tuple[IPInterface, ...]:
        """The addresses of IP ``version`` (4 or 6), in order."""
        return tuple(a for a in self.addresses if a.version == version)

    def method(self, version: int) -> str:
        """How IP ``version`` (4 or 6) is configured: ``ipv4`` or ``ipv6``."""
        return self.ipv4 if version == 4 else self.ipv6

    def has_options_beyond(self, wanted: InterfaceConfig) -> bool:
        """Whether it declares an address of ``wanted`` with options that are not asked for."""
        return any(a in wanted.addresses and a not in wanted.optioned for a in self.optioned)

    @property
    def resolvers_lead_nowhere(self) -> bool:
        """Whether NetworkManager would not use its resolvers: without a default route and without search domains."""
        fixed = self.ipv4 in ("fixed", "off") and self.ipv6 in ("fixed", "off", "untouched")
        routes = [r for r in self.default_routes() if r.destination.version not in self.never_default]
        return bool(fixed and self.resolvers and not routes and not self.search)

    @property
    def hears_routers(self) -> bool:
        """Whether router advertisements have a say: they bring routes, resolvers and search domains of their own."""
        return self.ipv6 in ("ra", "dhcp") or self.accepts_ra

    def touches(self, version: int) -> bool:
        """Whether this says anything about IP ``version``."""
        return self.method(version) != "untouched"

    def in_words(self, version: int) -> str:
        """``IPv6 fixed 2001:db8:7e::14/64, gateway fe80::1``, with what the files say of router advertisements."""
        method = {"ra": "from router advertisements"}.get(self.method(version), self.method(version))
        held = ", ".join(str(a) for a in self.of_family(version))
        hops = ", ".join(str(r.next_hop) for r in self.default_routes(version) if r.next_hop is not None)
        heard = "; router advertisements are listened to" if version == 6 and self.accepts_ra else ""
        return f"IPv{version} {method}" + (f" {held}" if held else "") + (f", gateway {hops}" if hops else "") + heard

    def default_routes(self, version: int | None = None) -> tuple[Route, ...]:
        """The default routes of IP ``version`` (4 or 6), or of both."""
        return tuple(r for r in self.routes if r.is_default and (version is None or r.destination.version == version))


def says(declared: InterfaceConfig, wanted: InterfaceConfig) -> bool:
    """Whether ``declared`` is all that ``wanted`` asks for; what is untouched there does not count."""
    return not differences(declared, wanted)


def differences(declared: InterfaceConfig, wanted: InterfaceConfig) -> tuple[str, ...]:
    """In which respects ``declared`` is not what ``wanted`` asks for, each named by its word in a plan."""
    found: list[str] = []
    for version in (4, 6):
        if not wanted.touches(version):
            continue
        method = wanted.method(version)
        if declared.method(version) != method or (version == 6 and declared.accepts_ra and not wanted.accepts_ra):
            found.append(f"ipv{version}")
        if declared.of_family(version) != wanted.of_family(version) or declared.has_options_beyond(wanted):
            found.append("hold")
        if set(declared.default_routes(version)) != set(wanted.default_routes(version)):
            found.append("gateway")
        announced = version == 6 and method in ("ra", "dhcp") and wanted.lease_routes
        if version in declared.never_default and (wanted.default_routes(version) or announced):
            found.append("gateway")
    missing = [r for r in wanted.routes if not r.is_default and r not in declared.routes]
    if missing:
        found.append("routes")
    for name in ("resolvers", "search", "time_servers", "netbios_servers"):
        want = getattr(wanted, name)
        if want is not None and (getattr(declared, name) or ()) != want:
            found.append(name)
    if wanted.mtu is not None and declared.mtu != wanted.mtu:
        found.append("mtu")
    if wanted.fallback is not None and (declared.fallback or Fallback()) != wanted.fallback:
        found.append("fallback")
    if wanted.ipv4 == "dhcp":
        if declared.lease_routes != wanted.lease_routes:
            found.append("gateway")
        if declared.lease_resolvers != wanted.lease_resolvers:
            found.append("resolvers")
    return tuple(dict.fromkeys(found))


#: What the kernel of Linux takes for the name of an interface, dev_valid_name(): IFNAMSIZ less one.
_LINK_NAME = re.compile(r"[^\s/:]{1,15}")


def is_link_name(name: str) -> bool:
    """Whether an interface of Linux can be called so; adapters of Windows have names of any kind."""
    return _LINK_NAME.fullmatch(name) is not None and name not in (".", "..")


class Place(msgspec.Struct, frozen=True, order=True, gc=False):
    """A place in a file; lines are counted from 1, and 0 stands for no line at all."""

    file: str
    line: int

    def __str__(self) -> str:
        return f"{self.file}:{self.line}" if self.line else self.file


class Bare(msgspec.Struct, frozen=True):
    """How a link is while no file declares it: so it is left when its declaration goes.

    ``up`` says whether it is switched on, ``leased`` whether its daemon leases an address without being told.
    ``accept_ra`` is what the kernel's setting of that name says, empty where it is not known (ip-sysctl, Linux);
    ``mtu`` is in bytes.
    """

    up: bool = True
    leased: bool = False
    accept_ra: str = ""
    mtu: int | None = None


class Wireless(msgspec.Struct, frozen=True):
    """The radio network that a wireless link joins: its name (SSID), and the passphrase (WPA-PSK) or ``None``.

    Where there is none it is one that the files of the host know already, or an open one.
    """

    network: str
    password: str | None = None

    def __repr__(self) -> str:
        return f"Wireless({self.network!r})"


class LinkFacts(msgspec.Struct, frozen=True):
    """What a format may match an interface by beside its name, and what it must know of it as it runs.

    ``in_kernel`` are the addresses of the kernel (link-local ones left out), ``leased`` those of them
    that come from a lease, ``client`` the program that a lease client of its own process runs.
    ``master`` is the bridge, bond or team of which it is a port. ``profile`` names the profile in force
    where a daemon has several, by its name and its UUID. ``alternative_names`` are further ones of the
    kernel's, ip-link(8). ``mtu`` is in bytes, that in force.
    ``bare`` is how it is without a declaration, where it has none, or will have none. ``lacks`` are the abilities that
    the programs of its host do not have, by their names in :mod:`fixed_anchor.core.programs`.
    """

    name: str
    mac: str | None = None
    permanent_mac: str | None = None
    driver: str | None = None
    kind: str = "ethernet"
    path: str | None = None
    vlan: int | None = None
    in_kernel: tuple[IPInterface, ...] = ()
    leased: tuple[IPInterface, ...] = ()
    client: str | None = None
    master: str | None = None
    alternative_names: tuple[str, ...] = ()
    profile: tuple[str, ...] = ()
    bare: Bare | None = None
    mtu: int | None = None
    lacks: frozenset[str] = frozenset()

    @property
    def has_mac_of_another(self) -> bool:
        """Whether the link is made of others, and has the MAC of one: a match on that MAC means the device."""
        return self.kind in ("vlan", "bond", "bridge", "team")
