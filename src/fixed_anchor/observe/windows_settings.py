"""The settings of a Windows machine as they are kept, made of what its collector told."""

from __future__ import annotations

import msgspec

from fixed_anchor.change.settings import AdapterSettings, HeldAddress, MachineSettings, Settings
from fixed_anchor.core.config import Fallback, InterfaceConfig
from fixed_anchor.core.plan import Gateway
from fixed_anchor.core.survey import HostSurvey, SurveyedInterface
from fixed_anchor.machines.windows.windows_facts import Adapter, Kept, WindowsFacts
from fixed_anchor.observe.windows import kept_config, kept_routes_of, never_source


def settings_now(facts: WindowsFacts, survey: HostSurvey, names: tuple[str, ...]) -> Settings:
    """The settings of the machine, and of its adapters ``names``; ``survey`` is the one that was made of ``facts``."""
    adapters = (_adapter(facts, found) for name in names if (found := survey.interface(name)) is not None)
    return Settings(MachineSettings(facts.host, tuple(facts.search)), tuple(adapters))


def gateways_in(config: InterfaceConfig) -> tuple[Gateway, ...]:
    """Its gateways, the one that counts first: Windows knows no other order."""
    found = [Gateway(r.next_hop, r.metric) for r in config.default_routes() if r.next_hop is not None]
    return tuple(sorted(found, key=lambda g: (g.address.version, g.metric or 0, int(g.address))))


def _adapter(facts: WindowsFacts, found: SurveyedInterface) -> AdapterSettings:
    there = next(a for a in facts.adapters if a.index == found.index)
    kept = facts.kept_of(there)
    sides = [i for i in facts.ip_interfaces if i.index == found.index]
    now = AdapterSettings(there.name, there.guid, there.index, found.link.mac, "off", "off")
    if kept is None:
        return now
    declared = kept_config(facts, there, kept)
    ignoring = {i.version for i in sides if i.ignores_defaults == "Enabled"}
    never = never_source(facts, there)
    return msgspec.structs.replace(
        now,
        ipv4=declared.ipv4,
        ipv6=declared.ipv6,
        addresses=tuple(HeldAddress(a, a.ip not in never) for a in declared.addresses),
        gateways=gateways_in(declared),
        routes=tuple(r for r in declared.routes if not r.is_default),
        resolvers=declared.resolvers or (),
        suffix=kept.domain,
        mtu=next((i.mtu for i in sides), None),
        default_from_lease=tuple(v for v in (4, 6) if v not in ignoring),
        hears_routers=any(i.version == 6 and i.hears_routers for i in sides),
        fallback=declared.fallback or Fallback(),
        netbios_servers=declared.netbios_servers or (),
        left=_left(facts, there, kept) if declared.ipv4 == "dhcp" else (),
    )


def _left(facts: WindowsFacts, adapter: Adapter, kept: Kept) -> tuple[str, ...]:
    """What an earlier fixed setting has left: values of the registry, and of the persistent store."""
    stored = [a for a in facts.addresses if (a.index, a.store) == (adapter.index, "PersistentStore")]
    addresses = [a for a in kept.addresses if a and a != "0.0.0.0"]
    addresses += [a.address for a in stored if a.prefix_origin == "Manual" and ":" not in a.address]
    hops = [g for g in kept.gateways if g]
    hops += [str(r.next_hop) for r in kept_routes_of(facts, adapter) if str(r.destination) == "0.0.0.0/0"]
    return (*(f"address {a}" for a in dict.fromkeys(addresses)), *(f"gateway {g}" for g in dict.fromkeys(hops)))
