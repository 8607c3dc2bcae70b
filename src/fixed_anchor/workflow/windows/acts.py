"""The acts that bring a Windows machine from its settings to those that are wanted, in an order that drops a session
once at most: resolvers before addresses, new addresses before old ones go, routes before the addresses that they need.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping

from fixed_anchor.change.acts import (
    Act,
    AddAddress,
    AddRoute,
    DropAddress,
    DropRoute,
    HearRouters,
    HoldIPv4,
    Rename,
    SetDhcp,
    SetFallback,
    SetGateways,
    SetMtu,
    SetNetbios,
    SetResolvers,
    SetSearch,
    SetSource,
    SetSuffix,
    SetVersion,
    TakeDefaultRoutes,
)
from fixed_anchor.change.settings import AdapterSettings, HeldAddress, Settings
from fixed_anchor.core.addresses import IPAddress, default_network
from fixed_anchor.core.config import Route
from fixed_anchor.core.plan import Gateway
from fixed_anchor.observe.windows import USUAL_METRIC
from fixed_anchor.workflow.windows.moves import hop_of, what_moves


def acts_between(
    before: Settings,
    after: Settings,
    left_over: dict[str, tuple[Route, ...]],
    connected: frozenset[str],
    leased: Mapping[str, frozenset[IPAddress]] | None = None,
    options: Mapping[str, str] | None = None,
) -> tuple[Act, ...]:
    """What turns ``before`` into ``after``, whose adapters are the same ones in the same order.

    ``left_over`` are persistent default routes by GUID that belong to no address any more, ``connected`` the GUIDs of
    adapters with a carrier: on others not every address can be set in one call. ``leased`` are the addresses that
    adapters have from DHCP, by GUID. ``options`` are the alternate configurations of ``after`` as the
    registry shall have them, in hexadecimal.
    """
    acts: list[Act] = []
    pairs = list(zip(before.adapters, after.adapters, strict=True))
    for was, now in pairs:
        if now.ipv4 != "dhcp" or was.ipv4 == "dhcp":
            acts += _names(was, now)
    if after.machine.search != before.machine.search:
        acts.append(SetSearch(after.machine.search))
    leaving, pairs = what_moves(pairs, leased or {})
    acts += leaving
    for was, now in pairs:
        acts += _ipv4(was, now, left_over.get(now.guid, ()), now.guid in connected)
        acts += _ipv6(was, now)
        acts += _routes(was, now)
        acts += _beside(was, now, (options or {}).get(now.guid, ""))
    if after.machine.name != before.machine.name:
        acts.append(Rename(after.machine.name))
    return tuple(acts)


def _names(was: AdapterSettings, now: AdapterSettings) -> Iterator[Act]:
    """Resolvers and suffix: before the address, or a member of a domain has none for a moment."""
    if was.resolvers != now.resolvers:
        gone = {r.version for r in was.resolvers} - {r.version for r in now.resolvers}
        if gone and now.resolvers:
            # Naming those of one version leaves the other one's as they are.
            yield SetResolvers(now.guid, now.index, ())
        yield SetResolvers(now.guid, now.index, tuple(map(str, now.resolvers)))
    if was.suffix != now.suffix:
        yield SetSuffix(now.guid, now.index, now.suffix)
    if was.netbios_servers != now.netbios_servers:
        yield SetNetbios(now.guid, now.index, tuple(map(str, now.netbios_servers)))


def _ipv4(
    was: AdapterSettings, now: AdapterSettings, left_over: tuple[Route, ...], is_connected: bool
) -> Iterator[Act]:
    if was.ipv4 == "off" and now.ipv4 != "off":
        yield SetVersion(now.guid, now.index, 4, True)
    if now.ipv4 == "fixed":
        if was.ipv4 == "fixed" and not _prefix_changes(was, now):
            yield from _one_by_one(was, now, 4)
        else:
            yield from (DropRoute(now.guid, now.index, str(r.destination), str(r.next_hop)) for r in left_over)
            yield from _all_at_once(now, is_connected)
        yield from _gateways(was, now) if is_connected else _routes_out(was, now, 4)
        if was.ipv4 == "fixed" and not _prefix_changes(was, now):
            yield from _gone(was, now, 4)
    elif was.ipv4 == "fixed":
        yield from _gone_gateways(was, now, 4)
        yield from _gone(was, now, 4)
    if now.ipv4 == "dhcp" and was.ipv4 != "dhcp":
        yield from _names(was, now)
        yield SetDhcp(now.guid, now.index, True)
    if now.ipv4 == "off" and was.ipv4 != "off":
        yield SetVersion(now.guid, now.index, 4, False)


def _prefix_changes(was: AdapterSettings, now: AdapterSettings) -> bool:
    """Whether an address that stays has another prefix: it cannot be there twice."""
    prefixes = {h.address.ip: h.address for h in was.held(4)}
    return any(prefixes.get(h.address.ip, h.address) != h.address for h in now.held(4))


def _all_at_once(now: AdapterSettings, is_connected: bool) -> Iterator[Act]:
    """One call for all addresses, which also ends DHCP; it forgets who may be a source."""
    held = now.held(4)
    if not is_connected:
        yield SetDhcp(now.guid, now.index, False)
        yield from (_added(now, one) for one in held)
        return
    yield HoldIPv4(
        now.guid,
        now.index,
        tuple(str(h.address.ip) for h in held),
        tuple(str(h.address.netmask) for h in held),
    )
    yield from (SetSource(now.guid, now.index, str(h.address.ip), False) for h in held if not h.is_source)


def _added(now: AdapterSettings, held: HeldAddress) -> AddAddress:
    return AddAddress(now.guid, now.index, str(held.address.ip), held.address.network.prefixlen, held.is_source)


def _one_by_one(was: AdapterSettings, now: AdapterSettings, version: int) -> Iterator[Act]:
    """What is new beside the others, which stay; and who of them may be a source."""
    there = {h.address: h for h in was.held(version)}
    for held in now.held(version):
        if held.address not in there:
            yield _added(now, held)
        elif held.is_source != there[held.address].is_source:
            yield SetSource(now.guid, now.index, str(held.address.ip), held.is_source)


def _gone(was: AdapterSettings, now: AdapterSettings, version: int) -> Iterator[Act]:
    """The addresses that go, each by itself: the others are not touched."""
    stay = {h.address for h in now.held(version)} if now.method(version) == "fixed" else set()
    for held in was.held(version):
        if held.address not in stay:
            yield DropAddress(now.guid, now.index, str(held.address.ip))


def _gateways(was: AdapterSettings, now: AdapterSettings) -> Iterator[Act]:
    """The IPv4 gateways: in one call, which cannot take the last one away."""
    wanted = now.gateways_of(4)
    if was.ipv4 == "fixed" and wanted == was.gateways_of(4):
        return
    if wanted:
        metrics = tuple(_metric(g) for g in wanted)
        yield SetGateways(now.guid, now.index, tuple(str(g.address) for g in wanted), metrics)
    else:
        yield from _gone_gateways(was, now, 4)


def _routes_out(was: AdapterSettings, now: AdapterSettings, version: int) -> Iterator[Act]:
    """The default routes one by one: for IPv6, and for an adapter without a carrier, of which CIM takes nothing."""
    everywhere = str(default_network(version))
    there = {g.address: g for g in was.gateways_of(version)} if was.method(version) == "fixed" else {}
    if now.method(version) == "fixed":
        changed = [g for g in now.gateways_of(version) if there.get(g.address) not in (None, g)]
        yield from (DropRoute(now.guid, now.index, everywhere, str(g.address)) for g in changed)
        for gateway in now.gateways_of(version):
            if there.get(gateway.address) != gateway:
                yield AddRoute(now.guid, now.index, everywhere, str(gateway.address), _metric(gateway))
    if there:
        yield from _gone_gateways(was, now, version)


def _gone_gateways(was: AdapterSettings, now: AdapterSettings, version: int) -> Iterator[Act]:
    everywhere = str(default_network(version))
    stay = {g.address for g in now.gateways_of(version)}
    for gateway in was.gateways_of(version):
        if gateway.address not in stay:
            yield DropRoute(now.guid, now.index, everywhere, str(gateway.address))


def _metric(gateway: Gateway) -> int:
    return gateway.metric if gateway.metric is not None else USUAL_METRIC


def _ipv6(was: AdapterSettings, now: AdapterSettings) -> Iterator[Act]:
    if was.ipv6 == "off" and now.ipv6 in ("fixed", "ra"):
        yield SetVersion(now.guid, now.index, 6, True)
    if now.ipv6 in ("fixed", "ra") and (now.hears_routers != was.hears_routers or was.ipv6 == "off"):
        yield HearRouters(now.guid, now.index, now.hears_routers)
    if now.ipv6 == "fixed":
        yield from _one_by_one(was, now, 6)
    yield from _routes_out(was, now, 6)
    if was.ipv6 == "fixed":
        yield from _gone(was, now, 6)
    if now.ipv6 == "off" and was.ipv6 != "off":
        yield SetVersion(now.guid, now.index, 6, False)


def _routes(was: AdapterSettings, now: AdapterSettings) -> Iterator[Act]:
    stay = {(route.destination, route.next_hop) for route in now.routes}
    # A plan takes none away; the way back from one takes those that it brought.
    for route in was.routes:
        if (route.destination, route.next_hop) not in stay:
            yield DropRoute(now.guid, now.index, str(route.destination), hop_of(route))
    for route in now.routes:
        if route in was.routes:
            continue
        hop = hop_of(route)
        for other in was.routes:
            if (other.destination, other.next_hop) == (route.destination, route.next_hop):
                yield DropRoute(now.guid, now.index, str(other.destination), hop)
        metric = route.metric if route.metric is not None else USUAL_METRIC
        yield AddRoute(now.guid, now.index, str(route.destination), hop, metric)


def _beside(was: AdapterSettings, now: AdapterSettings, options: str) -> Iterator[Act]:
    for version in (4, 6):
        if now.method(version) == "off":
            continue
        takes = version in now.default_from_lease
        if takes != (version in was.default_from_lease) or was.method(version) == "off":
            yield TakeDefaultRoutes(now.guid, now.index, version, takes)
        if now.mtu is not None and now.mtu != was.mtu:
            yield SetMtu(now.guid, now.index, version, now.mtu)
    if now.fallback != was.fallback:
        yield SetFallback(now.guid, now.index, options)
