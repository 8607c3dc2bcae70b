"""What a lease, routers and DHCPv6 give an interface, and a fixed address takes away unless the plan names it."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from functools import partial

from fixed_anchor.core.addresses import IPAddress
from fixed_anchor.core.config import Route
from fixed_anchor.core.findings import BLOCKER, WARNING, Finding, FindingKind, finding
from fixed_anchor.core.plan import HostPlan, InterfacePlan, Plan
from fixed_anchor.core.rules.case import InterfaceCase
from fixed_anchor.core.rules.plan import NO_DEFAULT_ROUTE, no_default_route
from fixed_anchor.core.survey import HostSurvey, SurveyedInterface
from fixed_anchor.core.wanted import wanted_config

LEASE_SUPPLIED_MORE = FindingKind(
    "lease-supplied-more",
    "host",
    WARNING,
    "the lease supplies more than the plan says",
    "It is lost with the lease: MTU, time servers, search list or routes; with router advertisements and "
    "DHCPv6 the resolvers, too.",
    "Add the keys named to the interface.",
)


def given_findings(case: InterfaceCase) -> Iterator[Finding]:
    """All of it for one interface of the plan that its host has."""
    plan, host, interface, survey, found = case.plan, case.host, case.interface, case.survey, case.found
    if survey is None or found is None:
        return
    raised = partial(finding, host=host.name, interface=interface.name)
    takes_time_servers = survey.time_service is not None or bool(found.time_daemon)
    yield from _lease_supplied_more(plan, interface, found, takes_time_servers, raised)
    yield from _advertisements_supply_more(plan, interface, found, raised)
    yield from _no_way_out_but_theirs(plan, host, interface, survey, found, raised)


def _lease_supplied_more(
    plan: Plan,
    interface: InterfacePlan,
    found: SurveyedInterface,
    takes_time_servers: bool,
    raised: Callable[..., Finding],
) -> Iterator[Finding]:
    """What would go with the lease, and the key of the plan that keeps it."""
    lease = found.lease
    if lease is None or interface.ipv4 != "fixed":
        return
    more = [] if lease.mtu == 1500 else list(_mtu(lease.mtu, interface))
    if lease.time_servers and interface.time_servers is None:
        servers = ", ".join(lease.time_servers)
        by_hand = f"(in the time daemon's own configuration, since none that is known runs) {servers}"
        more.append((f"time servers {servers}", f"time_servers: [{servers}]" if takes_time_servers else by_hand))
    more += _routes(lease.routes, interface)
    more += _search(tuple(d for d in lease.search if d in found.search), plan, interface)
    more += [(what, f"(by hand, since no key is about it) {what}") for what in lease.others]
    if more:
        yield _supplied(f"the lease of {found.name}", more, raised)


def _advertisements_supply_more(
    plan: Plan, interface: InterfacePlan, found: SurveyedInterface, raised: Callable[..., Finding]
) -> Iterator[Finding]:
    """The same of router advertisements and DHCPv6, which are not listened to where IPv6 is fixed."""
    given = found.announced
    if given is None or interface.ipv6 != "fixed":
        return
    resolvers, _ = _resolvers_of(plan, interface)
    more = [*_mtu(given.mtu, interface), *_routes(given.routes, interface)]
    lost = [r for r in given.resolvers if r not in resolvers]
    if lost:
        kept = ", ".join(_quoted(r) for r in (*resolvers, *lost))
        more.append((f"the resolver{'s' if len(lost) > 1 else ''} {', '.join(map(str, lost))}", f"resolvers: [{kept}]"))
    more += _search(given.search, plan, interface)
    if more:
        yield _supplied(f"what routers and DHCPv6 announce on {found.name}", more, raised)


def _supplied(what: str, more: list[tuple[str, str]], raised: Callable[..., Finding]) -> Finding:
    return raised(
        LEASE_SUPPLIED_MORE,
        f"{what} also supplies " + ", ".join(said for said, _ in more),
        seen_in=what,
        remedy="to keep it, add to the interface: " + "; ".join(key for _, key in more),
    )


def _mtu(mtu: int | None, interface: InterfacePlan) -> Iterator[tuple[str, str]]:
    if mtu is not None and interface.mtu is None:
        yield f"MTU {mtu}", f"mtu: {mtu}"


def _routes(routes: tuple[Route, ...], interface: InterfacePlan) -> Iterator[tuple[str, str]]:
    planned = {(r.destination, r.next_hop) for r in interface.routes}
    for route in routes:
        if (route.destination, route.next_hop) not in planned:
            words = f"{{destination: {_quoted(route.destination)}, next_hop: {_quoted(route.next_hop)}}}"
            yield f"the route {route.destination} via {route.next_hop}", f"routes: [{words}]"


def _search(search: tuple[str, ...], plan: Plan, interface: InterfacePlan) -> Iterator[tuple[str, str]]:
    _, planned = _resolvers_of(plan, interface)
    lost = [d for d in search if d not in planned]
    if lost:
        yield f"the search list {' '.join(search)}", f"search: [{', '.join((*planned, *lost))}]"


def _resolvers_of(plan: Plan, interface: InterfacePlan) -> tuple[tuple[IPAddress, ...], tuple[str, ...]]:
    """Resolvers and search list that the interface will have."""
    config = wanted_config(plan, interface)
    return config.resolvers or (), config.search or ()


def _quoted(value: object) -> str:
    """A value as it stands in a plan: an IPv6 address or subnet in quotes."""
    return f'"{value}"' if ":" in str(value) else str(value)


def _no_way_out_but_theirs(
    plan: Plan,
    host: HostPlan,
    interface: InterfacePlan,
    survey: HostSurvey,
    found: SurveyedInterface,
    raised: Callable[..., Finding],
) -> Iterator[Finding]:
    """Routers announce the only IPv6 default route, and the plan stops listening without naming a gateway."""
    if interface.ipv6 != "fixed" or interface.gateways == ():
        return
    silenced = {i.name for i in host.interfaces if i.ipv6 in ("fixed", "off")}
    left = [i for i in survey.interfaces if i.default_routes(6) and i.name not in silenced]
    planned = any(i.ipv6 == "fixed" and wanted_config(plan, i).default_routes(6) for i in host.interfaces)
    hops = [r.next_hop for r in found.default_routes(6)] if found.announced is not None else []
    if left or planned or not hops:
        return
    yield raised(
        NO_DEFAULT_ROUTE,
        no_default_route(host.name, 6, interface),
        seen_in=plan.where_said(host, interface, "gateway", interface.gateways is not None),
        severity=BLOCKER,
        remedy=f"name the one that routers announce on {interface.name}: `gateway: {_quoted(hops[0])}`, beside an IPv4 "
        "one in a list; or say `gateway: none` on purpose",
    )
