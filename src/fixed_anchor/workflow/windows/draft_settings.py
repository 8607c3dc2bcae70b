"""What a plan makes of the settings of a Windows machine, as its collector told of them. Touches nothing."""

from __future__ import annotations

import re
from collections.abc import Iterator

import msgspec

from fixed_anchor.change.change import Draft, LeavingLease
from fixed_anchor.change.settings import AdapterSettings, HeldAddress, MachineSettings, Settings
from fixed_anchor.core.addresses import IPAddress
from fixed_anchor.core.config import InterfaceConfig, Route
from fixed_anchor.core.errors import InputError, NotSupported, located, printable
from fixed_anchor.core.plan import Gateway, HostPlan, InterfacePlan, Plan
from fixed_anchor.core.survey import HostSurvey, SurveyedInterface
from fixed_anchor.core.wanted import wanted_config
from fixed_anchor.machines.windows.windows_facts import WindowsFacts
from fixed_anchor.observe.windows import USUAL_METRIC, in_windows_order, with_whole_metrics
from fixed_anchor.observe.windows_settings import gateways_in, settings_now
from fixed_anchor.workflow.hosts.host_wide import in_order
from fixed_anchor.workflow.windows.change import grace_of, settings_change, with_grace

#: The metrics that SetGateways takes.
_LEAST, _MOST = 1, 9999
#: A name of a machine, which is also its NetBIOS name.
_NAME = re.compile(r"(?!\d+$)[A-Za-z0-9][A-Za-z0-9-]{0,13}[A-Za-z0-9]|[A-Za-z]")
_RESTART = "the new name is in force after a restart"


def draft_windows(
    plan: Plan, host: HostPlan, facts: WindowsFacts, survey: HostSurvey, hold: frozenset[IPAddress] = frozenset()
) -> Draft:
    """The draft of one Windows machine. ``hold`` are addresses of today that stay until the decision.

    Raises :class:`NotSupported` by name for what cannot be carried out, :class:`InputError` for an interface that is
    not there.
    """
    if survey.unknown:
        restricted = "application control keeps scripts from it: change it by hand, or have this tool allowed there"
        raise NotSupported(
            f"{host.name}: {survey.unknown}",
            file=plan.file,
            line=host.line,
            remedy=restricted if facts.is_restricted else "collect again, elevated",
        )
    touched = host.touched
    wanted: dict[str, InterfaceConfig] = {}
    for interface in touched:
        with located(plan.file, interface.line):
            found = adapter_of(survey, interface)
            _refuse(interface, found)
            config = _as_windows_has_it(wanted_config(plan, interface))
            wanted[interface.name] = _with_metrics(config, found, facts)
            _refuse_config(wanted[interface.name])
    search = _one_list(facts, survey, touched, wanted)
    before = settings_now(facts, survey, tuple(wanted))
    adapters: list[AdapterSettings] = []
    for now, interface in zip(before.adapters, touched, strict=True):
        adapters.append(_after(now, wanted[interface.name], interface))
    with located(plan.file, host.line):
        name = _new_name(host, facts)
    # A size of which the plan says nothing is not told.
    said = [msgspec.structs.replace(a, mtu=None) if wanted[a.name].mtu is None else a for a in before.adapters]
    before = Settings(before.machine, tuple(said))
    after = Settings(MachineSettings(name, search), tuple(adapters))
    if search != tuple(facts.search):
        wanted = {n: msgspec.structs.replace(c, search=search) if c.search else c for n, c in wanted.items()}
    grace = tuple(grace_of(survey, after, hold))
    content = settings_change(facts, before, after, grace, _RESTART if name != facts.host else "")
    configs = tuple(
        with_whole_metrics(config, facts, now.index)
        for config, now in zip(wanted.values(), before.adapters, strict=True)
    )
    reachable = {i.name: plan.segments[i.segment].reachable for i in host.interfaces}
    return Draft(
        host.name,
        survey.system,
        configs,
        content,
        tuple(with_grace(config, grace) for config in configs),
        grace,
        # A new one is in force after a restart alone, and set when the change is kept.
        None,
        reachable,
        tuple(_leaving(survey, before, after)),
    )


def _leaving(survey: HostSurvey, before: Settings, after: Settings) -> Iterator[LeavingLease]:
    """The leases whose addresses go: the server keeps them until they end."""
    for was, now in zip(before.adapters, after.adapters, strict=True):
        found = survey.interface(was.name)
        if was.ipv4 == "dhcp" != now.ipv4 and found is not None and found.lease is not None and was.mac is not None:
            yield LeavingLease(was.name, was.mac, str(found.lease.address), str(found.lease.server or ""))


def adapter_of(survey: HostSurvey, interface: InterfacePlan) -> SurveyedInterface:
    """The adapter that an interface of the plan is.

    Raises :class:`InputError` where there is none, or its name stands for several.
    """
    found = survey.interface(interface.name)
    at = survey.by_mac(interface.mac) if interface.mac is not None else ()
    where = f"Its MAC {interface.mac} is at {' and '.join(printable(i.name) for i in at)}" if at else None
    if found is None:
        raise InputError(printable(survey.missing(interface.name)), remedy=where)
    if sum(i.name == interface.name for i in survey.interfaces) > 1:
        raise NotSupported(
            f"{survey.host} has several adapters called {printable(interface.name)}",
            remedy="give each a name of its own there (Rename-NetAdapter), and collect again",
        )
    mac = found.link.permanent_mac or found.link.mac
    if interface.mac is not None and interface.mac not in (mac, found.link.mac):
        # The name is a person's choice, and may have moved on: the MAC decides which adapter is meant.
        raise InputError(
            f"{printable(interface.name)} has the MAC {mac}, the plan says {interface.mac}",
            remedy=where or "compare the plan with `fixed-anchor survey`",
        )
    return found


def _refuse(interface: InterfacePlan, found: SurveyedInterface) -> None:
    """What of an interface's plan Windows does not offer, or nobody does in this way."""
    name = printable(interface.name)
    if found.declared is None and found.link.master is None:
        raise NotSupported(
            f"what is kept of {name} is not known: nothing was told of it", remedy="collect again, elevated"
        )
    if found.link.master is not None:
        raise NotSupported(
            f"{name} belongs to {found.link.master}, and takes no addresses",
            remedy="plan them for the adapter of the team, or for vEthernet of the switch",
        )
    if interface.ipv6 == "dhcp":
        raise NotSupported(
            f"`ipv6: dhcp` on {name}: whether a Windows machine asks DHCPv6 servers its routers decide",
            remedy="say `ipv6: ra`",
        )
    if interface.time_servers is not None:
        raise NotSupported(
            f"`time_servers` on {name}: Windows follows those of its domain, or of its time service",
            remedy="leave them out of the plan, and set them there (w32tm)",
        )


def _refuse_config(config: InterfaceConfig) -> None:
    """The same of what follows from its segment."""
    name = printable(config.interface)
    for route in config.routes:
        if route.on_link:
            raise NotSupported(
                f"the gateway {route.next_hop} of {name} is in no subnet of it: Windows takes no such gateway",
                remedy="give the address the prefix of a subnet that the gateway lies in",
            )
    for route in config.default_routes(4):
        if not _LEAST <= (route.metric or 0) <= _MOST:
            raise NotSupported(
                f"metric {route.metric} for the gateway {route.next_hop} of {name}: Windows takes {_LEAST} to {_MOST}",
            )
    if config.ipv4 == "dhcp" and not config.lease_resolvers and not config.resolvers:
        raise NotSupported(
            f"`gateway: none` with `ipv4: dhcp` on {name}: Windows would use the resolvers of its lease all the same",
            remedy="name resolvers for it: `resolvers: [...]`",
        )


def _as_windows_has_it(config: InterfaceConfig) -> InterfaceConfig:
    """The same in the order in which Windows tells of it: the first address of a version, then the others by number.

    Resolvers are kept for each version by itself: those of IPv4 come first.
    """
    addresses = []
    for version in (4, 6):
        held = config.of_family(version)
        addresses += in_windows_order(held, {a.ip for a in held[1:]})
    resolvers = config.resolvers if config.resolvers is None else sorted(config.resolvers, key=lambda r: r.version)
    return msgspec.structs.replace(
        config, addresses=tuple(addresses), resolvers=None if resolvers is None else tuple(resolvers)
    )


def _with_metrics(config: InterfaceConfig, found: SurveyedInterface, facts: WindowsFacts) -> InterfaceConfig:
    """Every default route with a metric, or what leaves by which adapter would change by the way.

    Where the plan names none it is the one of today; a leased route has 0, and the least that can be set is 1.
    """
    routes: list[Route] = []
    given: dict[int, int] = {}
    for route in config.routes:
        if route.is_default and route.metric is None:
            version = route.destination.version
            metric = given.get(version, _metric_now(found, facts, version))
            given[version] = metric + 1
            route = msgspec.structs.replace(route, metric=metric)
        routes.append(route)
    return msgspec.structs.replace(config, routes=tuple(routes))


def _metric_now(found: SurveyedInterface, facts: WindowsFacts, version: int) -> int:
    """The metric of the adapter's own default route today, without that of the adapter."""
    everywhere = "0.0.0.0/0" if version == 4 else "::/0"
    metrics = [
        r.metric
        for r in facts.routes
        if r.index == found.index and r.destination == everywhere and r.store == "ActiveStore"
    ]
    return max(_LEAST, min(metrics, default=USUAL_METRIC))


def _one_list(
    facts: WindowsFacts, survey: HostSurvey, touched: tuple[InterfacePlan, ...], wanted: dict[str, InterfaceConfig]
) -> tuple[str, ...]:
    """The list of domains that the whole machine searches; as it is where one domain for each connection does."""
    named = any(i.search is not None for i in touched)
    domains = [d for config in in_order(wanted.values()) for d in config.search or ()]
    several = tuple(dict.fromkeys(domains))
    if not domains and not named:
        return tuple(facts.search)
    if len(several) < 2 and not facts.search:
        return ()
    # Where there is a list, the domains of connections are not searched any more: those of others go into it.
    others = [d for i in survey.interfaces if i.name not in wanted and i.addresses for d in i.search]
    beside = others if not facts.search else []
    return tuple(dict.fromkeys((*several, *beside)))


def _after(now: AdapterSettings, config: InterfaceConfig, interface: InterfacePlan) -> AdapterSettings:
    """The settings of an adapter as the plan wants them; what it does not touch as they are."""
    addresses: list[HeldAddress] = []
    gateways: list[Gateway] = []
    for version in (4, 6):
        if not config.touches(version):
            addresses += now.held(version)
            gateways += now.gateways_of(version)
        elif config.method(version) == "fixed":
            addresses += _held(now, config, version, interface.leave_alone)
            gateways += (g for g in gateways_in(config) if g.address.version == version)
    return msgspec.structs.replace(
        now,
        ipv4=now.ipv4 if config.ipv4 == "untouched" else config.ipv4,
        ipv6=now.ipv6 if config.ipv6 == "untouched" else config.ipv6,
        addresses=tuple(addresses),
        gateways=tuple(gateways),
        routes=tuple(_all_routes(now, config)),
        resolvers=now.resolvers if config.resolvers is None else config.resolvers,
        suffix=now.suffix if config.search is None else next(iter(config.search), ""),
        mtu=config.mtu,
        default_from_lease=tuple(_takes_defaults(now, config)),
        hears_routers=now.hears_routers if config.ipv6 == "untouched" else config.ipv6 == "ra",
        fallback=now.fallback if config.fallback is None else config.fallback,
        netbios_servers=now.netbios_servers if config.netbios_servers is None else config.netbios_servers,
        left=now.left if config.ipv4 in ("untouched", now.ipv4) else (),
    )


def _held(
    now: AdapterSettings, config: InterfaceConfig, version: int, left_alone: tuple[IPAddress, ...]
) -> Iterator[HeldAddress]:
    """The addresses of a version: the first may be a source by itself, those beside it never are."""
    wanted = config.of_family(version)
    held = [HeldAddress(address, number == 0) for number, address in enumerate(wanted)]
    taken = {address.ip for address in wanted}
    held += (h for h in now.held(version) if h.address.ip in left_alone and h.address.ip not in taken)
    order = in_windows_order((h.address for h in held), {h.address.ip for h in held if not h.is_source})
    yield from sorted(held, key=lambda h: order.index(h.address))


def _all_routes(now: AdapterSettings, config: InterfaceConfig) -> Iterator[Route]:
    """Those that are there, and those of the plan, each with a metric; the plan's metric counts."""
    planned = {(r.destination, r.next_hop): r for r in config.routes if not r.is_default}
    for route in now.routes:
        said = planned.pop((route.destination, route.next_hop), None)
        metric = said.metric if said is not None and said.metric is not None else route.metric
        yield msgspec.structs.replace(route, metric=metric)
    for route in planned.values():
        yield msgspec.structs.replace(route, metric=USUAL_METRIC if route.metric is None else route.metric)


def _takes_defaults(now: AdapterSettings, config: InterfaceConfig) -> Iterator[int]:
    """The IP versions of which default routes of leases and routers are taken."""
    for version in (4, 6):
        method = config.method(version)
        # Of a version that is off nothing is kept.
        if config.lease_routes if method in ("dhcp", "ra") else method == "off" or version in now.default_from_lease:
            yield version


def _new_name(host: HostPlan, facts: WindowsFacts) -> str:
    """The machine's name. Raises :class:`NotSupported` for one that it cannot have."""
    if host.hostname is None or host.hostname.lower() in (facts.host.lower(), facts.dns_host.lower()):
        return facts.host
    if not _NAME.fullmatch(host.hostname):
        raise NotSupported(
            f"`hostname: {printable(host.hostname)}`: the name of a Windows machine has at most 15 letters, digits and "
            "hyphens, and no dots",
            remedy="say its first label alone; its domain is no part of it",
        )
    if facts.domain_member:
        raise NotSupported(
            f"`hostname: {host.hostname}`: {host.name} is a member of {printable(facts.domain)}, and a new name takes "
            "somebody who may change its account there",
            remedy="rename it there, or leave `hostname:` out of the plan",
        )
    return host.hostname
