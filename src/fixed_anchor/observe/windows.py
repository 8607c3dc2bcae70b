"""The survey of a Windows machine, made of what its collector told."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator

import msgspec

from fixed_anchor.core.addresses import (
    IPAddress,
    IPInterface,
    parse_address,
    parse_destination,
    parse_interface_address,
)
from fixed_anchor.core.config import Fallback, InterfaceConfig, LinkFacts, Place, Route
from fixed_anchor.core.errors import InputError, printable
from fixed_anchor.core.survey import FoundAddress, HostSurvey, SurveyedInterface
from fixed_anchor.machines.windows.alternate import decode
from fixed_anchor.machines.windows.windows_facts import Adapter, Address, Kept, WindowsFacts, listed, plain_mac
from fixed_anchor.observe.windows_asides import windows_asides
from fixed_anchor.observe.windows_lease import lease_of

_INTERFACES = r"HKLM\SYSTEM\CurrentControlSet\Services\Tcpip\Parameters\Interfaces"
#: Where an address comes from, by Windows' word for the origin of its prefix.
_ORIGINS = {"Manual": "fixed", "Dhcp": "dhcp", "WellKnown": "link-local", "RouterAdvertisement": "slaac"}
#: The metric of a route of which nobody says one, as Windows has it in force.
USUAL_METRIC = 256
_NOWHERE = frozenset({"0.0.0.0", "::"})


def windows_survey(name: str, facts: WindowsFacts) -> HostSurvey:
    """What ``facts`` amount to. Raises :class:`InputError` for a value that is none."""
    try:
        return _survey(name, facts)
    except ValueError as error:
        raise InputError(f"what was collected on {printable(name)} cannot be right: {printable(str(error))}") from None


def _survey(name: str, facts: WindowsFacts) -> HostSurvey:
    if facts.is_restricted:
        return HostSurvey(name, None, (facts.unknown,), (), system="Windows", unknown=facts.unknown)
    shown = [a for a in facts.adapters if not a.hidden or _held(facts, a, "ActiveStore")]
    interfaces = tuple(_interface(facts, adapter) for adapter in shown)
    said = [f"{what} could not be asked: {why}" for what, why in facts.missing.items()]
    if not facts.elevated:
        said.insert(0, "it was collected without elevation: what wants that is missing")
    hostname = facts.dns_host or facts.host
    beside = tuple(windows_asides(facts, interfaces))
    return HostSurvey(
        name or hostname,
        None,
        tuple(said),
        interfaces,
        hostname=hostname,
        others=beside,
        system=_system(facts.system),
        unknown=facts.unknown,
    )


def _system(text: str) -> str:
    """Its name without its maker's, as people call it."""
    words = text.split()
    return " ".join(words[words.index("Windows") :] if "Windows" in words else words) or "Windows"


def _interface(facts: WindowsFacts, adapter: Adapter) -> SurveyedInterface:
    kept = facts.kept_of(adapter)
    addresses = tuple(_found(a) for a in _held(facts, adapter, "ActiveStore"))
    on_fallback = _on_fallback(kept, addresses)
    link = LinkFacts(
        adapter.name,
        plain_mac(adapter.mac),
        plain_mac(adapter.permanent_mac) or plain_mac(adapter.mac),
        kind=_kind(facts, adapter),
        master=_master(facts, adapter),
        in_kernel=tuple(a.address for a in addresses if a.origin != "link-local"),
        leased=tuple(a.address for a in addresses if a.origin == "dhcp"),
    )
    return SurveyedInterface(
        link,
        adapter.status.lower() or "unknown",
        adapter.index,
        addresses,
        tuple(_routes(facts, adapter, "ActiveStore")),
        tuple(_resolvers(facts, adapter)),
        _search(facts, adapter),
        None if on_fallback else lease_of(kept, addresses),
        with_whole_metrics(kept_config(facts, adapter, kept), facts, adapter.index) if kept is not None else None,
        (Place(f"{_INTERFACES}\\{adapter.guid}", 0),) if kept is not None else (),
        by_hand=tuple(_by_hand(facts, adapter)),
        category=next((printable(p.category) for p in facts.profiles if p.index == adapter.index), ""),
        network=next((printable(p.name) for p in facts.profiles if p.index == adapter.index), ""),
        own_metric=next((i.metric for i in facts.ip_interfaces if i.index == adapter.index and i.version == 4), None),
        on_fallback=on_fallback,
    )


def _on_fallback(kept: Kept | None, addresses: tuple[FoundAddress, ...]) -> bool:
    """Whether its alternate configuration is in force: no server has answered."""
    given = _alternate(kept) if kept is not None and kept.dhcp == "1" else None
    return given is not None and given.address is not None and any(a.address == given.address for a in addresses)


def _by_hand(facts: WindowsFacts, adapter: Adapter) -> Iterator[IPInterface]:
    """Fixed addresses in force that no restart would bring again."""
    kept = {a.address for a in _held(facts, adapter, "PersistentStore")}
    for address in _held(facts, adapter, "ActiveStore"):
        if address.prefix_origin == "Manual" and address.address not in kept:
            yield _address(address)


def _held(facts: WindowsFacts, adapter: Adapter, store: str) -> list[Address]:
    return [a for a in facts.addresses if a.index == adapter.index and a.store == store]


def _found(address: Address) -> FoundAddress:
    ip = _address(address)
    origin = "link-local" if ip.ip.is_link_local else _ORIGINS.get(address.prefix_origin, "fixed")
    return FoundAddress(ip, origin, address.seconds)


def _address(address: Address) -> IPInterface:
    # Link-local addresses have the number of their interface behind them.
    return parse_interface_address(f"{address.address.partition('%')[0]}/{address.prefix}")


def _kind(facts: WindowsFacts, adapter: Adapter) -> str:
    if any(adapter.name in team.interfaces for team in facts.teams):
        return "team"
    if adapter.component.lower() == "vms_mp":
        return "virtual switch"
    return "wireless" if "802.11" in adapter.media else "ethernet"


def _master(facts: WindowsFacts, adapter: Adapter) -> str | None:
    """The team or switch that has taken the adapter: then the address is there."""
    for team in facts.teams:
        if adapter.name in team.members:
            return f"team {team.name}"
    for switch in facts.switches:
        if adapter.description in switch.adapters:
            return f"switch {switch.name}"
    # Its bindings say so where the switch, or the team, does not name it.
    if facts.is_bound(adapter, "vms_pp"):
        return "a virtual switch"
    return "a team" if facts.is_bound(adapter, "ms_implat") else None


def _routes(facts: WindowsFacts, adapter: Adapter, store: str) -> Iterator[Route]:
    """Those with a next hop, each with the metric that counts: its own and its interface's."""
    for route in facts.routes:
        if route.index != adapter.index or route.store != store or route.next_hop in _NOWHERE:
            continue
        hop = parse_address(route.next_hop.partition("%")[0])
        added = next(
            (i.metric for i in facts.ip_interfaces if i.index == adapter.index and i.version == hop.version), 0
        )
        yield Route(parse_destination(route.destination), hop, route.metric + added)


def _resolvers(facts: WindowsFacts, adapter: Adapter) -> Iterator[IPAddress]:
    for said in facts.resolvers:
        if said.index == adapter.index:
            # Where none are set, three site-local ones of old stand there.
            found = (parse_address(server.partition("%")[0]) for server in said.servers)
            yield from (a for a in found if not (a.version == 6 and a.is_site_local))


def _search(facts: WindowsFacts, adapter: Adapter) -> tuple[str, ...]:
    """What is searched: the list of a policy or of the whole machine, else the suffix of the connection."""
    return _one_list(facts) or tuple(d.suffix for d in facts.dns if d.index == adapter.index and d.suffix)


def _one_list(facts: WindowsFacts) -> tuple[str, ...]:
    """The list of domains of the whole machine; empty where there is none."""
    policy = next((said for name, said in facts.policies.items() if name.lower() == "searchlist"), [])
    return listed(",".join(policy)) or tuple(facts.search)


def with_whole_metrics(config: InterfaceConfig, facts: WindowsFacts, index: int) -> InterfaceConfig:
    """The same with the metrics by which routes are chosen: each route's own and its adapter's together."""
    added = {i.version: i.metric for i in facts.ip_interfaces if i.index == index}

    def whole(route: Route) -> Route:
        return msgspec.structs.replace(route, metric=(route.metric or 0) + added.get(route.destination.version, 0))

    return msgspec.structs.replace(config, routes=tuple(map(whole, config.routes)))


def kept_config(facts: WindowsFacts, adapter: Adapter, kept: Kept) -> InterfaceConfig:
    """What the machine comes up with after a restart, by its persistent settings; metrics are the routes' own."""
    four = [
        parse_interface_address(f"{a}/{m}") for a, m in zip(kept.addresses, kept.masks, strict=False) if a != "0.0.0.0"
    ]
    six = [_address(a) for a in _held(facts, adapter, "PersistentStore") if ":" in a.address]
    six = [a for a in six if not a.ip.is_link_local]
    spoken = {i.version: i for i in facts.ip_interfaces if i.index == adapter.index}
    leased = kept.dhcp == "1" and 4 in spoken
    routers = 6 in spoken and spoken[6].hears_routers
    metrics = [*kept.metrics, *[""] * len(kept.gateways)]
    routes = [
        Route(parse_destination("0.0.0.0/0"), parse_address(g), _metric(m))
        for g, m in zip(kept.gateways, metrics, strict=False)
        if g and not leased and 4 in spoken
    ]
    kept_routes = list(kept_routes_of(facts, adapter))
    routes += [r for r in kept_routes if r.is_default and r.destination.version == 6]
    routes += [r for r in kept_routes if not r.is_default]
    ignoring = [i.version for i in facts.ip_interfaces if i.index == adapter.index and i.ignores_defaults == "Enabled"]
    return InterfaceConfig(
        adapter.name,
        ipv4="dhcp" if leased else "fixed" if four and 4 in spoken else "off",
        ipv6="fixed" if six else "ra" if routers else "off",
        addresses=tuple(
            address
            for held in (four if 4 in spoken and not leased else [], six)
            for address in in_windows_order(held, never_source(facts, adapter))
        ),
        routes=tuple(routes),
        resolvers=tuple(map(parse_address, (*listed(kept.name_servers), *listed(kept.name_servers6)))) or None,
        search=_one_list(facts) or listed(kept.domain) or None,
        accepts_ra=bool(six) and routers,
        lease_routes=4 not in ignoring,
        fallback=_alternate(kept),
        netbios_servers=tuple(map(parse_address, kept.netbios_servers)) or None,
    )


def _metric(text: str) -> int:
    """A metric of the registry: 0, or none, is what the dialog writes for the one that Windows gives by itself."""
    return (int(text) if text.isdecimal() else 0) or USUAL_METRIC


def never_source(facts: WindowsFacts, adapter: Adapter) -> frozenset[IPAddress]:
    """The addresses of an adapter that are never chosen as a source by themselves."""
    held = (a for a in facts.addresses if a.index == adapter.index and a.skip_as_source)
    return frozenset(_address(a).ip for a in held)


def in_windows_order(held: Iterable[IPInterface], never: Collection[IPAddress]) -> list[IPInterface]:
    """Addresses of one version: those that may be a source first, then by number. Windows itself knows no order."""
    return sorted(held, key=lambda a: (a.ip in never, int(a.ip)))


def kept_routes_of(facts: WindowsFacts, adapter: Adapter) -> Iterator[Route]:
    """Its persistent routes, each with its own metric: what a restart brings."""
    for route in facts.routes:
        if route.index == adapter.index and route.store == "PersistentStore":
            hop = None if route.next_hop in _NOWHERE else parse_address(route.next_hop.partition("%")[0])
            yield Route(parse_destination(route.destination), hop, route.metric)


def _alternate(kept: Kept) -> Fallback | None:
    """What it has where no DHCP server answers; ``None`` where what stands there cannot be read."""
    if kept.alternate is None or not kept.alternate_counts:
        return Fallback()
    try:
        return decode(bytes.fromhex(kept.alternate))
    except ValueError:
        return None
