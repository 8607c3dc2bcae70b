"""What ``.network`` files with their drop-ins say of an interface, systemd.network(5)."""

from __future__ import annotations

from fixed_anchor.core.addresses import (
    IPAddress,
    IPInterface,
    default_network,
    parse_address,
    parse_destination,
    parse_interface_address,
)
from fixed_anchor.core.config import InterfaceConfig, LinkFacts, Place, Route
from fixed_anchor.text.ini import Block, IniText, Setting, truth

#: Settings of ``[Address]`` that make something else of it than a plain address.
_OPTIONS = frozenset({"Peer", "Label", "PreferredLifetime", "Scope", "AddPrefixRoute", "RouteMetric", "Broadcast"})
_DHCP = {
    "yes": (True, True),
    "no": (False, False),
    "ipv4": (True, False),
    "ipv6": (False, True),
    "both": (True, True),
    "none": (False, False),
    "v4": (True, False),
    "v6": (False, True),
}


def _gather(parts: list[IniText], section: str, key: str) -> list[tuple[IniText, Setting]]:
    """All assignments of a list setting; an empty one resets what came before (systemd.syntax(7))."""
    found: list[tuple[IniText, Setting]] = []
    for part in parts:
        for block in part.named(section):
            for entry in block.all(key):
                if entry.value:
                    found.append((part, entry))
                else:
                    found.clear()
    return found


def _last(parts: list[IniText], section: str, key: str) -> tuple[IniText, Setting] | None:
    found = _gather(parts, section, key)
    return found[-1] if found else None


def _flag(parts: list[IniText], section: str, key: str) -> bool | None:
    found = _last(parts, section, key)
    if found is None:
        return None
    answer = truth(found[1].value)
    if answer is None:
        raise found[0].bad_value(found[1], f"{found[1].value!r} is neither yes nor no")
    return answer


def parsed(part: IniText, entry: Setting, text: str | None = None) -> IPAddress:
    """The address in ``text``, or in the value of ``entry``. Raises ``InputError``."""
    try:
        # DNS=ADDRESS[:PORT][%INTERFACE][#NAME]
        return parse_address((text or entry.value).partition("#")[0].partition("%")[0])
    except ValueError as error:
        raise part.bad_value(entry, str(error)) from None


def interface_address(part: IniText, entry: Setting) -> IPInterface:
    """The address with its prefix in the value of ``entry``. Raises ``InputError``."""
    try:
        if "/" not in entry.value:
            address = parse_address(entry.value)
            return parse_interface_address(entry.value, 32 if address.version == 4 else 128)
        return parse_interface_address(entry.value)
    except ValueError as error:
        raise part.bad_value(entry, str(error)) from None


def dhcp_of(parts: list[IniText]) -> tuple[bool, bool, tuple[IniText, Setting] | None]:
    """Whether IPv4 and IPv6 ask for a lease, and where that is said."""
    found = _last(parts, "Network", "DHCP")
    if found is None:
        return False, False, None
    lowered = found[1].value.lower()
    answer = _DHCP.get(lowered)
    if answer is None:
        flag = truth(lowered)
        if flag is None:
            raise found[0].bad_value(found[1], f"{found[1].value!r} is none of yes, no, ipv4, ipv6")
        answer = (flag, flag)
    return answer[0], answer[1], found


def plain_route(part: IniText, block: Block) -> Route | None:
    """A plain route of the main table, or ``None``."""
    if block.get("Type") not in (None, "unicast") or block.get("Table") not in (None, "main", "254"):
        return None
    gateway, destination = block.all("Gateway"), block.all("Destination")
    hop: IPAddress | None = None
    if gateway:
        if gateway[-1].value.startswith("_"):
            return None
        hop = parsed(part, gateway[-1])
    if destination:
        text = destination[-1].value
        try:
            network = parse_destination(text)
        except ValueError as error:
            raise part.bad_value(destination[-1], str(error)) from None
    elif hop is not None:
        network = default_network(hop.version)
    else:
        return None
    metric = block.get("Metric")
    return Route(
        network,
        hop,
        int(metric) if metric and metric.isdecimal() else None,
        truth(block.get("GatewayOnLink") or block.get("GatewayOnlink") or "no") is True,
    )


def read_parts(parts: list[IniText], link: LinkFacts) -> tuple[InterfaceConfig, tuple[Place, ...]]:
    """What a file and its drop-ins say together, and where; the file itself comes first."""
    main = parts[0]
    places: list[Place] = []

    def seen(part: IniText, entry: Setting) -> None:
        places.append(Place(part.path, entry.line))

    dhcp4, dhcp6, dhcp_at = dhcp_of(parts)
    if dhcp_at:
        seen(*dhcp_at)
    addresses: list[IPInterface] = []
    for section in ("Network", "Address"):
        for part, entry in _gather(parts, section, "Address"):
            addresses.append(interface_address(part, entry))
            seen(part, entry)
    optioned = [
        interface_address(part, block.all("Address")[-1])
        for part in parts
        for block in part.named("Address")
        if block.all("Address") and any(e.key in _OPTIONS for e in block.entries)
    ]
    routes: list[Route] = []
    for part, entry in _gather(parts, "Network", "Gateway"):
        if not entry.value.startswith("_"):
            hop = parsed(part, entry)
            routes.append(Route(default_network(hop.version), hop))
            seen(part, entry)
    on_device = _last(parts, "Network", "DefaultRouteOnDevice")
    if on_device is not None and _flag(parts, "Network", "DefaultRouteOnDevice"):
        routes.append(Route(default_network(4)))
        seen(*on_device)
    for part in parts:
        for block in part.named("Route"):
            route = plain_route(part, block)
            if route is not None:
                routes.append(route)
                places.append(Place(part.path, block.first + 1))
    resolvers = []
    for part, entry in _gather(parts, "Network", "DNS"):
        for word in entry.value.split():
            resolvers.append(parsed(part, entry, word))
        seen(part, entry)
    search: list[str] = []
    for part, entry in _gather(parts, "Network", "Domains"):
        search += [w for w in entry.value.split() if not w.startswith("~")]
        seen(part, entry)
    servers = [w for _, e in _gather(parts, "Network", "NTP") for w in e.value.split()]
    accept_ra = _flag(parts, "Network", "IPv6AcceptRA")
    mtu = _last(parts, "Link", "MTUBytes")
    held4 = any(a.version == 4 for a in addresses)
    held6 = any(a.version == 6 and not a.is_link_local for a in addresses)
    section4 = "DHCPv4" if any(p.named("DHCPv4") for p in parts) else "DHCP"
    use_routes = _flag(parts, section4, "UseRoutes")
    use_gateway = _flag(parts, section4, "UseGateway")
    use_dns = _flag(parts, section4, "UseDNS")
    config = InterfaceConfig(
        link.name,
        ipv4="dhcp" if dhcp4 else "fixed" if held4 else "off",
        ipv6="dhcp" if dhcp6 else "fixed" if held6 else "off" if accept_ra is False else "ra",
        addresses=tuple(addresses),
        routes=tuple(routes),
        resolvers=tuple(resolvers) or None,
        search=tuple(search) or None,
        mtu=int(mtu[1].value) if mtu and mtu[1].value.isdecimal() else None,
        time_servers=tuple(servers) or None,
        lease_routes=use_routes is not False and use_gateway is not False,
        lease_resolvers=use_dns is not False,
        optioned=tuple(optioned),
        accepts_ra=held6 and not dhcp6 and accept_ra is not False,
    )
    return config, (Place(main.path, 1), *sorted(set(places)))


def plain_gateways(main: IniText) -> set[Route]:
    """The default routes that ``Gateway=`` in ``[Network]`` makes, those that were dropped left out."""
    found = set()
    for block in main.named("Network"):
        for entry in block.all("Gateway"):
            if entry.value and not entry.value.startswith("_") and not main.is_gone(entry):
                hop = parsed(main, entry)
                found.add(Route(default_network(hop.version), hop))
    return found
