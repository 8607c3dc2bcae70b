"""What interfaces(5) says to ifupdown2, ifupdown2's own interfaces(5): it merges all stanzas of an interface into one.

Measured with ifupdown2 3.0.0, where its manual says nothing (docs/stacks.md): the method of the first stanza is that
of both versions of IP, and with ``dhcp`` no address of a stanza is set.
"""

from __future__ import annotations

import re
from collections.abc import Iterator

from fixed_anchor.core.addresses import IPAddress, IPInterface, default_network, parse_interface_address, parse_prefix
from fixed_anchor.core.config import InterfaceConfig, LinkFacts, Place, Route
from fixed_anchor.core.errors import InputError
from fixed_anchor.formats.interfaces_asides import names_in
from fixed_anchor.formats.interfaces_hooks import UP_HOOKS, read_hook
from fixed_anchor.formats.interfaces_read import ADDRESSING, DNS, OPTIONS, bad_option, option_of, plain_address
from fixed_anchor.formats.interfaces_text import Line, Stanza

_METHODS = ("static", "manual", "loopback", "dhcp", "dhcp6", "ppp", "tunnel")
#: A hook that has the kernel listen to router advertisements, or not: no option does.
ACCEPT_RA = re.compile(r"(?:echo|printf) ([012]) ?> ?/proc/sys/net/ipv6/conf/([^/ ]+)/accept_ra")
_SYSCTL = re.compile(r"(?:/sbin/|/usr/sbin/)?sysctl (?:-\S+ )*net[./]ipv6[./]conf[./](.+)[./]accept_ra ?= ?([012])")


def names_of(stanza: Stanza) -> tuple[str, ...]:
    """The interfaces of an ``iface`` stanza: ``eth0``, also by its alias ``eth0:1``, or those of ``eth[0-3]``."""
    return tuple(names_in(stanza.name.partition(":")[0]))


def stanzas_for(stanzas: list[Stanza], name: str) -> list[Stanza]:
    """The ``iface`` stanzas of an interface."""
    return [s for s in stanzas if s.kind == "iface" and name in names_of(s)]


def method_of(mine: list[Stanza]) -> str:
    """The one method of an interface. Raises :class:`InputError` for one that ifupdown2 does not have."""
    for stanza in mine:
        if stanza.family is not None and (stanza.method or "static") not in _METHODS:
            raise InputError(
                f"{stanza.method!r} is no method of ifupdown2",
                file=stanza.path,
                line=stanza.head.first + 1,
                expected="one of static, manual, dhcp"
                + ("; the kernel listens to routers without a stanza" if stanza.method == "auto" else ""),
            )
    return next((stanza.method or "static" for stanza in mine if stanza.family is not None), "static")


def is_for(stanza: Stanza, version: int) -> bool:
    """Whether a stanza is for IP ``version``: one without a family is for both."""
    return stanza.family in (None, "inet" if version == 4 else "inet6")


def held_by(stanza: Stanza) -> Iterator[tuple[Line, IPInterface]]:
    """The ``address`` lines of a stanza, each with the ``netmask`` that follows it. Raises :class:`InputError`."""
    held: list[tuple[Line, str | None]] = []
    for line in stanza.options:
        if line.key == "address":
            held.append((line, None))
        elif line.key == "netmask" and held:
            held[-1] = (held[-1][0], line.value)
    for line, mask in held:
        version = 6 if ":" in line.value else 4
        try:
            if "/" in line.value:
                yield line, parse_interface_address(line.value)
            else:
                whole = 32 if version == 4 else 128
                yield line, parse_interface_address(line.value, parse_prefix(mask, version) if mask else whole)
        except ValueError as error:
            raise bad_option(stanza, line, str(error)) from None


def hears_routers(line: Line, name: str) -> bool | None:
    """Whether an ``up`` hook has ``name`` listen to router advertisements; ``None`` where it says nothing of that."""
    if line.key not in UP_HOOKS:
        return None
    text = line.value.replace("$IFACE", name)
    said = ACCEPT_RA.fullmatch(text)
    if said is not None:
        return said[1] != "0" if said[2] == name else None
    said = _SYSCTL.fullmatch(text)
    return said[2] != "0" if said is not None and said[1] == name else None


def read_merged(mine: list[Stanza], link: LinkFacts) -> tuple[InterfaceConfig, tuple[Place, ...]]:
    """What the stanzas ``mine`` of a link say together, and where. Raises :class:`InputError`."""
    method = method_of(mine)
    places: list[Place] = []
    addresses: list[IPInterface] = []
    optioned: list[IPInterface] = []
    by_hook: list[IPInterface] = []
    routes: list[Route] = []
    hops: list[Route] = []
    resolvers: list[IPAddress] = []
    search: list[str] = []
    mtus: list[int] = []
    accepts = True
    metric = next((o for s in mine if (o := option_of(list(s.options), "metric")) is not None), None)
    number = int(metric.value) if metric is not None and metric.value.isdecimal() else None
    for stanza in mine:
        places.append(Place(stanza.path, stanza.head.first + 1))
        odd = any(line.key in OPTIONS for line in stanza.options)
        for _, address in held_by(stanza):
            addresses.append(address)
            optioned += [address] if odd else []
        for line in stanza.options:
            if line.key in ADDRESSING | DNS:
                places.append(Place(stanza.path, line.first + 1))
            if line.key == "gateway":
                hop = plain_address(stanza, line, line.value)
                hops.append(Route(default_network(hop.version), hop, number))
            elif line.key in ("dns-nameservers", "dns-nameserver"):
                resolvers += [plain_address(stanza, line, w) for w in line.words[1:]]
            elif line.key in ("dns-search", "dns-domain"):
                search += line.words[1:]
            elif line.key == "mtu" and line.value.isdecimal():
                mtus.append(int(line.value))
            elif (heard := hears_routers(line, link.name)) is not None:
                accepts = heard
                places.append(Place(stanza.path, line.first + 1))
            elif line.key in UP_HOOKS:
                added = read_hook(line.value, link.name)
                if added is None or not added.adds or added.interface not in ("", link.name):
                    continue
                places.append(Place(stanza.path, line.first + 1))
                by_hook += [added.address] if added.address is not None else []
                routes += [added.route] if added.route is not None else []
    if method in ("dhcp", "dhcp6"):
        # The client alone sets addresses, and the stanzas' own are passed over.
        addresses, hops = [], []
    addresses += [a for a in by_hook if a not in addresses]
    hops = [_as_reached(route, addresses) for route in hops]
    methods = {}
    for version in (4, 6):
        leased = method in ("dhcp", "dhcp6") and any(is_for(s, version) and s.family is not None for s in mine)
        held = any(a.version == version and not a.is_link_local for a in addresses)
        methods[version] = "dhcp" if leased else "fixed" if held else "off" if version == 4 else "ra"
    config = InterfaceConfig(
        link.name,
        ipv4=methods[4],
        ipv6=methods[6],
        addresses=tuple(dict.fromkeys(addresses)),
        routes=tuple(dict.fromkeys((*hops, *routes))),
        resolvers=tuple(dict.fromkeys(resolvers)) or None,
        search=tuple(dict.fromkeys(search)) or None,
        mtu=mtus[-1] if mtus else None,
        optioned=tuple(optioned),
        accepts_ra=methods[6] == "fixed" and accepts,
    )
    return config, (places[0], *sorted(set(places[1:])))


def _as_reached(route: Route, addresses: list[IPInterface]) -> Route:
    """A default route as it comes into force: every next hop of ``gateway`` is taken to be on the link."""
    within = any(route.next_hop is not None and route.next_hop in a.network for a in addresses)
    return Route(route.destination, route.next_hop, route.metric, not within)
