"""The content of a change of a Windows machine, from its settings before to those after: the acts there and back."""

from __future__ import annotations

from collections.abc import Iterator, Mapping

import msgspec

from fixed_anchor.change.change import GraceAddress
from fixed_anchor.change.settings import AdapterSettings, HeldAddress, Settings, SettingsContent
from fixed_anchor.core.addresses import IPAddress, default_network, parse_address
from fixed_anchor.core.config import InterfaceConfig, Route
from fixed_anchor.core.survey import HostSurvey
from fixed_anchor.machines.windows.alternate import encode
from fixed_anchor.machines.windows.windows_facts import WindowsFacts
from fixed_anchor.observe.windows import in_windows_order, kept_routes_of
from fixed_anchor.workflow.windows.acts import acts_between


def settings_change(
    facts: WindowsFacts,
    before: Settings,
    after: Settings,
    grace: tuple[GraceAddress, ...],
    restart: str = "",
    options: Mapping[str, str] | None = None,
) -> SettingsContent:
    """What leads from ``before`` to ``after``, whose adapters are the same; ``grace`` stays until the decision.

    ``options`` are alternate configurations that come back byte by byte, in hexadecimal by GUID; others are encoded.
    """
    connected = frozenset(a.guid for a in facts.adapters if a.status == "Up")
    waiting = _held(after, grace) if grace else after
    guids = {a.name: a.guid for a in before.adapters}
    options_before = options_of(facts, before)
    options_after = _options_after(before, after, options_before, options or {})
    return SettingsContent(
        tuple(a.name for a in before.adapters),
        before,
        after,
        acts_between(before, waiting, _left_over(facts, before), connected, _leased(facts), options_after),
        restart,
        waiting if grace else None,
        acts_between(waiting, after, {}, connected) if grace else (),
        acts_between(waiting, before, {}, connected, options=options_before),
        tuple(f"address {g.address} fixed on {guids[g.interface]}" for g in grace),
        options_before,
        options_after,
    )


def _options_after(
    before: Settings, after: Settings, options: Mapping[str, str], given: Mapping[str, str]
) -> dict[str, str]:
    """The alternate configurations after a change: what it leaves stays as it is, byte by byte."""
    then = dict(options)
    for was, now in zip(before.adapters, after.adapters, strict=True):
        if now.fallback != was.fallback:
            made = encode(now.fallback).hex() if now.fallback.address is not None else ""
            then[now.guid] = given.get(now.guid, made)
    return then


def _leased(facts: WindowsFacts) -> dict[str, frozenset[IPAddress]]:
    """The addresses of IPv4 leases by GUID of the adapter."""
    guids = {a.index: a.guid for a in facts.adapters}
    return {
        guid: frozenset(
            parse_address(a.address)
            for a in facts.addresses
            if a.index == index and a.prefix_origin == "Dhcp" and ":" not in a.address
        )
        for index, guid in guids.items()
    }


def grace_of(survey: HostSurvey, after: Settings, hold: frozenset[IPAddress]) -> Iterator[GraceAddress]:
    """The addresses of ``hold`` that would go, where they can stay beside fixed ones."""
    # One that moves to another adapter cannot stay on this one.
    stay = {held.address.ip for adapter in after.adapters for held in adapter.addresses}
    for adapter in after.adapters:
        found = survey.interface(adapter.name)
        for address in found.addresses if found is not None else ():
            ip = address.address
            if ip.ip in hold and ip.ip not in stay and adapter.method(ip.version) == "fixed":
                yield GraceAddress(adapter.name, ip)


def with_grace(config: InterfaceConfig, grace: tuple[GraceAddress, ...]) -> InterfaceConfig:
    """``config`` with what stays until the decision."""
    held = tuple(g.address for g in grace if g.interface == config.interface)
    return msgspec.structs.replace(config, addresses=(*config.addresses, *held))


def config_of(settings: Settings, adapter: AdapterSettings) -> InterfaceConfig:
    """The settings of an adapter as a configuration; metrics are the routes' own."""
    gateways = [Route(default_network(g.address.version), g.address, g.metric) for g in adapter.gateways]
    return InterfaceConfig(
        adapter.name,
        ipv4=adapter.ipv4,
        ipv6=adapter.ipv6,
        addresses=tuple(h.address for h in adapter.addresses),
        routes=(*gateways, *adapter.routes),
        resolvers=adapter.resolvers or None,
        search=settings.machine.search or ((adapter.suffix,) if adapter.suffix else None),
        accepts_ra=adapter.ipv6 == "fixed" and adapter.hears_routers,
        lease_routes=4 in adapter.default_from_lease,
        fallback=adapter.fallback,
        netbios_servers=adapter.netbios_servers,
    )


def _held(after: Settings, grace: tuple[GraceAddress, ...]) -> Settings:
    """``after`` with what stays until the decision, never the source by itself: new connections shall use the new."""
    adapters = []
    for adapter in after.adapters:
        more = [HeldAddress(g.address, False) for g in grace if g.interface == adapter.name]
        held = [*adapter.addresses, *more]
        order = in_windows_order((h.address for h in held), {h.address.ip for h in held if not h.is_source})
        ordered = sorted(held, key=lambda h: (h.address.version, order.index(h.address)))
        adapters.append(msgspec.structs.replace(adapter, addresses=tuple(ordered)))
    return Settings(after.machine, tuple(adapters))


def options_of(facts: WindowsFacts, before: Settings) -> dict[str, str]:
    """The alternate configurations of the adapters that count today, by GUID, as the registry has them."""
    found: dict[str, str] = {}
    for kept in facts.kept:
        if kept.alternate is not None and kept.alternate_counts:
            found[kept.guid] = kept.alternate
    return {a.guid: found[a.guid] for a in before.adapters if a.guid in found}


def _left_over(facts: WindowsFacts, before: Settings) -> dict[str, tuple[Route, ...]]:
    """Persistent default routes of adapters that ask DHCP: an earlier address left them, and they are in the way."""
    found: dict[str, tuple[Route, ...]] = {}
    for now in before.adapters:
        adapter = next(a for a in facts.adapters if a.guid == now.guid)
        if now.ipv4 != "fixed":
            routes = (r for r in kept_routes_of(facts, adapter) if r.is_default and r.destination.version == 4)
            found[now.guid] = tuple(r for r in routes if r.next_hop is not None)
    return found
