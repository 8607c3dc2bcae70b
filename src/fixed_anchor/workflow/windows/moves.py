"""Addresses that move from one adapter of a Windows machine to another in one change: they leave first, as two adapters
cannot have one, not even for a moment (the second would find it taken, by the first).
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping

import msgspec

from fixed_anchor.change.acts import Act, DropAddress, DropRoute, SetDhcp
from fixed_anchor.change.settings import AdapterSettings
from fixed_anchor.core.addresses import IPAddress, default_network
from fixed_anchor.core.config import Route

#: An adapter as it is, and as it shall become.
Pair = tuple[AdapterSettings, AdapterSettings]


def what_moves(pairs: list[Pair], leased: Mapping[str, frozenset[IPAddress]]) -> tuple[list[Act], list[Pair]]:
    """The acts that make room, and the pairs as they are then; ``leased`` are addresses of leases by GUID."""
    acts: list[Act] = []
    left = []
    for was, now in pairs:
        elsewhere = {held.address.ip for _, other in pairs if other.guid != was.guid for held in other.addresses}
        if was.ipv4 == "dhcp" and now.ipv4 != "dhcp" and leased.get(was.guid, frozenset()) & elsewhere:
            acts.append(SetDhcp(now.guid, now.index, False))
            was = msgspec.structs.replace(was, ipv4="fixed")
        # A server may lease what another adapter has fixed until then.
        if was.ipv4 == "fixed" and now.ipv4 == "dhcp" and len(pairs) > 1:
            elsewhere |= {held.address.ip for held in was.held(4)}
        stays = _without(was, elsewhere)
        acts += _leaves(was, stays)
        left.append((stays, now))
    return acts, left


def hop_of(route: Route) -> str:
    """The next hop as Windows names it: of a destination on the link it is nowhere."""
    if route.next_hop is not None:
        return str(route.next_hop)
    return "0.0.0.0" if route.destination.version == 4 else "::"


def _without(was: AdapterSettings, gone: set[IPAddress]) -> AdapterSettings:
    """An adapter without these addresses.

    With the last one of a version its routes go as well; what the persistent store keeps of them would be in the way.
    """
    stay = tuple(held for held in was.addresses if held.address.ip not in gone)
    bare = {v for v in (4, 6) if was.held(v) and not any(h.address.version == v for h in stay)}
    return msgspec.structs.replace(
        was,
        addresses=stay,
        gateways=tuple(g for g in was.gateways if g.address.version not in bare),
        routes=tuple(r for r in was.routes if r.destination.version not in bare),
    )


def _leaves(was: AdapterSettings, stays: AdapterSettings) -> Iterator[Act]:
    for gateway in was.gateways:
        if gateway not in stays.gateways:
            everywhere = str(default_network(gateway.address.version))
            yield DropRoute(was.guid, was.index, everywhere, str(gateway.address))
    for route in was.routes:
        if route not in stays.routes:
            yield DropRoute(was.guid, was.index, str(route.destination), hop_of(route))
    for held in was.addresses:
        if held not in stays.addresses:
            yield DropAddress(was.guid, was.index, str(held.address.ip))
