"""What the whole declared state of a host, as it would be after the change, says against the plan."""

from __future__ import annotations

from collections.abc import Iterator
from functools import partial

from fixed_anchor.core.addresses import IPNetwork
from fixed_anchor.core.aside import (
    AGENT,
    BALANCED,
    CLUSTER,
    CONFIGURES,
    DUPLICATE,
    EARLIER_LEASE,
    HOOK,
    MAY_CONFIGURE,
    NAME_TWICE,
    NAMES,
    NETWORK_DISK,
    NO_REMARK,
    NOT_AT_BOOT,
    OTHER_TABLE,
    PORT,
    RENAMED,
    REWRITTEN,
    SWITCH,
    TEAM,
    TYPED_ROUTES,
    UNCLEAR,
    Aside,
)
from fixed_anchor.core.config import Place, Route
from fixed_anchor.core.findings import BLOCKER, NOTE, WARNING, Finding, FindingKind, finding
from fixed_anchor.core.foreseen import Declared, Foreseen, Refusal
from fixed_anchor.core.plan import HostPlan
from fixed_anchor.core.rules.asides import (
    ANOTHER_CONFIGURES,
    ANOTHER_MAY_CONFIGURE,
    CLOUD_AGENT,
    DUPLICATE_SEEN,
    FILE_UNREADABLE,
    GATEWAY_NOT_USED,
    HOOK_CONFIGURES,
    IN_CLUSTER,
    IN_LOAD_BALANCING,
    IS_PORT,
    MATCH_UNCLEAR,
    NAME_CHANGES,
    NAME_NOT_UNIQUE,
    NAMES_OLD_ADDRESS,
    NOT_UP_AT_BOOT,
    ON_TEAM,
    ON_VIRTUAL_SWITCH,
    REMARK_IS_READ,
    REWRITTEN_BY_ANOTHER,
    ROUTES_TYPED,
    SAME_IN_EVERY_NETWORK,
    STOPS_AT_UNREADABLE,
    aside_finding,
    unreadable_finding,
)
from fixed_anchor.core.rules.case import HostCase
from fixed_anchor.core.rules.other_interfaces import ON_ANOTHER_INTERFACE, other_interface_findings
from fixed_anchor.core.rules.plan import TWO_DEFAULT_ROUTES
from fixed_anchor.core.rules.traffic import TRAFFIC_MOVES, traffic_findings
from fixed_anchor.core.rules.windows import (
    CATEGORY_MAY_CHANGE,
    KEPT_FOR_ABSENT_ADAPTER,
    OLD_RECORD_STAYS,
    POLICY_SAYS,
    POLICY_WINS,
    RESOLVERS_OF_PROFILE,
    ROLE_MOVES,
    windows_findings,
)
from fixed_anchor.core.survey import NOBODY, HostSurvey, which_stack

DRAFT_REFUSED = FindingKind(
    "draft-refused",
    "host",
    BLOCKER,
    "the host's own parser does not take its files as drafted",
    "It was asked over a copy, and nothing was written. With such files the change would be rolled back.",
    "Correct the line that it names.",
)
DRAFT_NOT_TRIED = FindingKind(
    "draft-not-tried",
    "host",
    NOTE,
    "the host's own parser was not asked about its files as drafted",
    "They were read with our own readers alone, which know the manual pages, not every release.",
    "Look why it does not answer there.",
)
CANNOT_BE_DRAFTED = FindingKind(
    "cannot-be-drafted",
    "host",
    BLOCKER,
    "the change cannot be written",
    "The files of the host are such that no safe edit of them makes what the plan wants.",
    "See what stands in the way, and change that first.",
)
DEFAULT_ROUTE_OVERRIDDEN = FindingKind(
    "default-route-overridden",
    "host",
    BLOCKER,
    "another route takes traffic from the default route",
    "Routes to 0.0.0.0/1 and 128.0.0.0/1 win over every default route.",
    "Remove them, or list them under `routes` where they are meant.",
)
STACK_UNCLEAR = FindingKind(
    "stack-unclear",
    "host",
    WARNING,
    "no file declares the interface, and several network stacks could take it",
    "Each of them would write another file, and two that configure one interface undo each other's work.",
    "Name the one that is meant with `stack:` in the plan.",
    undetermined=True,
)
RESOLV_CONF_REWRITTEN = FindingKind(
    "resolv-conf-rewritten",
    "host",
    BLOCKER,
    "a lease client would write the planned resolvers over",
    "At each renewal, and at each boot, /etc/resolv.conf would name those of the lease alone.",
    "Tell the lease client to leave them alone.",
)

#: The codes of what these rules raise: what `draft` says of the files that it shows.
CODES = frozenset(
    kind.code
    for kind in (
        CANNOT_BE_DRAFTED, DRAFT_REFUSED, DRAFT_NOT_TRIED,
        IS_PORT, GATEWAY_NOT_USED, DEFAULT_ROUTE_OVERRIDDEN, NAMES_OLD_ADDRESS,
        HOOK_CONFIGURES, NOT_UP_AT_BOOT, NAME_CHANGES, MATCH_UNCLEAR, ANOTHER_CONFIGURES,
        ANOTHER_MAY_CONFIGURE, REWRITTEN_BY_ANOTHER, FILE_UNREADABLE, STOPS_AT_UNREADABLE,
        RESOLV_CONF_REWRITTEN, TWO_DEFAULT_ROUTES, REMARK_IS_READ, STACK_UNCLEAR,
        IN_CLUSTER, NAME_NOT_UNIQUE, DUPLICATE_SEEN, ON_VIRTUAL_SWITCH, ON_TEAM,
        ROLE_MOVES, POLICY_WINS, POLICY_SAYS, CATEGORY_MAY_CHANGE, KEPT_FOR_ABSENT_ADAPTER,
        OLD_RECORD_STAYS, TRAFFIC_MOVES, ON_ANOTHER_INTERFACE, IN_LOAD_BALANCING, CLOUD_AGENT,
        ROUTES_TYPED, SAME_IN_EVERY_NETWORK, RESOLVERS_OF_PROFILE,
    )
)  # fmt: skip
#: Kinds that speak for themselves wherever they concern a planned interface.
_PLAIN = (
    PORT, HOOK, NO_REMARK, NOT_AT_BOOT, RENAMED, UNCLEAR, CONFIGURES, MAY_CONFIGURE, REWRITTEN,
    CLUSTER, NAME_TWICE, DUPLICATE, SWITCH, TEAM, NETWORK_DISK, BALANCED, AGENT, TYPED_ROUTES,
)  # fmt: skip
#: Routes up to this prefix, two of which cover what a default route does.
_HALF = 3


def declared_findings(case: HostCase) -> Iterator[Finding]:
    """All findings about the declared state of a host that is reached, for the interfaces of its plan."""
    planned, survey, foreseen = case.host, case.survey, case.foreseen
    host = planned.name
    touched = tuple(i.name for i in planned.touched)
    if not touched:
        return
    found = [*_ports(host, survey, foreseen), *_asides(host, foreseen), *_unreadable(host, survey, touched)]
    found += [*_default_routes(host, foreseen), *_halves(host, foreseen), *_resolvers(host, survey, foreseen)]
    found += [*windows_findings(case), *traffic_findings(case)]
    found += other_interface_findings(case)
    found += _takers(planned, survey, touched)
    yield from found
    # A port, and a broken file, are refused for what was told already.
    told = any(
        f.code in (IS_PORT.code, STOPS_AT_UNREADABLE.code, NAME_NOT_UNIQUE.code, STACK_UNCLEAR.code) for f in found
    )
    if foreseen.unfit is not None:
        yield _refused(DRAFT_REFUSED, host, foreseen.unfit)
    if foreseen.untried:
        yield finding(DRAFT_NOT_TRIED, foreseen.untried, host=host, seen_in=f"files of {host} as drafted")
    if foreseen.refusal is not None and not told:
        yield _refused(CANNOT_BE_DRAFTED, host, foreseen.refusal)


def _refused(kind: FindingKind, host: str, why: Refusal) -> Finding:
    return finding(kind, why.message, host=host, seen_in=why.seen_in, remedy=why.remedy)


def _takers(planned: HostPlan, survey: HostSurvey, touched: tuple[str, ...]) -> Iterator[Finding]:
    """Interfaces that no file declares, and that several stacks could take."""
    for name in touched if planned.stack is None else ():
        found = survey.interface(name)
        if found is not None and found.declared is None and len(found.takers) > 1:
            yield finding(
                STACK_UNCLEAR,
                f"no file declares {name}, and {' and '.join(taker.stack for taker in found.takers)} could take it",
                host=planned.name,
                interface=name,
                seen_in=f"files and services of {survey.host}",
                remedy=which_stack(found.takers),
            )


def _asides(host: str, foreseen: Foreseen) -> Iterator[Finding]:
    for aside in foreseen.asides:
        if aside.kind in _PLAIN and aside.interface in ("", *foreseen.wanted):
            yield aside_finding(host, aside)
        elif aside.kind == NAMES and foreseen.going & set(aside.addresses):
            yield aside_finding(host, _only(aside, foreseen))
        elif aside.kind == OTHER_TABLE and aside.interface in foreseen.wanted:
            wanted = foreseen.wanted[aside.interface]
            if wanted.default_routes() or (wanted.ipv4 == "dhcp" and wanted.lease_routes):
                yield aside_finding(host, aside)


def _only(aside: Aside, foreseen: Foreseen) -> Aside:
    """The aside with those of its addresses alone that go."""
    gone = tuple(a for a in aside.addresses if a in foreseen.going)
    return Aside(aside.kind, aside.place, aside.text, aside.interface, gone)


def _ports(host: str, survey: HostSurvey, foreseen: Foreseen) -> Iterator[Finding]:
    """Ports that the kernel knows of, and no file says."""
    said = {a.interface for a in foreseen.asides if a.kind == PORT}
    for name in foreseen.wanted:
        found = survey.interface(name)
        if found is not None and found.link.master is not None and name not in said:
            place = Place(f"kernel of {survey.host}", 0)
            yield aside_finding(host, Aside(PORT, place, "", name, of=found.link.master))


def _unreadable(host: str, survey: HostSurvey, names: tuple[str, ...]) -> Iterator[Finding]:
    # In a tree of files an interface may be unknown because of a broken one.
    known = {i.name: i.stack for i in survey.interfaces}
    stacks = {name: known.get(name) for name in names if name in known or not survey.running}
    for broken in survey.unreadable:
        hit = next((n for n, stack in stacks.items() if broken.stops and broken.concerns(n, stack)), None)
        if hit is not None or not broken.stops:
            yield unreadable_finding(host, broken, hit)


def _default_routes(host: str, foreseen: Foreseen) -> Iterator[Finding]:
    """Default routes that interfaces outside the plan make, of the same metric as a planned one."""
    for name, wanted in foreseen.wanted.items():
        raised = partial(finding, TWO_DEFAULT_ROUTES, host=host, interface=name)
        for route in wanted.default_routes():
            version = route.destination.version
            for other, declared in foreseen.declared.items():
                if other in foreseen.wanted:
                    continue
                rival = _rival(declared, version, route.metric, foreseen.declared.get(name))
                if rival is not None:
                    what, its = rival
                    yield raised(
                        f"{other}, which the plan does not mention, has {what} as well as {name} {route}",
                        seen_in=str(declared.where(its)),
                        remedy=f"put {other} into the plan with `gateway: none`, or give the gateways metrics",
                    )
    for aside in foreseen.asides:
        planned = foreseen.wanted.get(aside.interface)
        plainly = planned is not None and any(r.metric is None for r in planned.default_routes(4))
        if aside.kind == EARLIER_LEASE and plainly:
            yield finding(
                TWO_DEFAULT_ROUTES,
                f"{aside.of} comes up before {aside.interface}, and the default route of its lease keeps that of "
                f"{aside.interface} out",
                host=host,
                interface=aside.interface,
                seen_in=str(aside.place),
                remedy=f"bring {aside.interface} up first, or give its gateway a metric",
            )


def _rival(
    other: Declared, version: int, metric: int | None, planned: Declared | None
) -> tuple[str, Route | None] | None:
    """What competes with a planned default route of ``metric``, in words, and the route itself where it is declared."""
    config = other.config
    if version not in config.never_default:
        for route in config.default_routes(version):
            if route.metric == metric:
                return f"the {route}", route
    # systemd-networkd gives leases a metric of their own, and ifup brings the second one up without a default route.
    # Where metrics are numbered the devices of a kind get them as they come.
    both = planned is not None and planned.numbers_metrics and other.numbers_metrics and planned.kind == other.kind
    if both and version == 4 and metric is None and config.ipv4 == "dhcp" and config.lease_routes:
        return "the default route of its lease", None
    return None


def _halves(host: str, foreseen: Foreseen) -> Iterator[Finding]:
    """Routes to half of everything, or so: they win over every default route."""
    planned = {r.destination for wanted in foreseen.wanted.values() for r in wanted.routes}
    versions = {r.destination.version for wanted in foreseen.wanted.values() for r in wanted.default_routes()}
    for name, declared in foreseen.declared.items():
        for route in declared.config.routes:
            if _is_half(route.destination) and route.destination.version in versions - _own(planned):
                yield finding(
                    DEFAULT_ROUTE_OVERRIDDEN,
                    f"the route {route} on {name} takes that part of the traffic away from the default route",
                    host=host,
                    interface=name,
                    seen_in=str(declared.where(route)),
                    remedy=f"remove it from {declared.where(route).file}, or list it under `routes` where it is meant",
                )


def _is_half(destination: IPNetwork) -> bool:
    return bool(0 < destination.prefixlen <= _HALF)


def _own(planned: set[IPNetwork]) -> set[int]:
    """The IP versions for which the plan itself has such routes."""
    return {d.version for d in planned if _is_half(d)}


def _resolvers(host: str, survey: HostSurvey, foreseen: Foreseen) -> Iterator[Finding]:
    """Resolvers of the plan that a lease client will not leave in force."""
    named = {r for wanted in foreseen.wanted.values() for r in wanted.resolvers or ()}
    if survey.resolv_conf_by == NOBODY and named:
        off = {a.interface for a in foreseen.asides if a.kind == NOT_AT_BOOT} - foreseen.wanted.keys()
        for name, declared in foreseen.declared.items():
            found = survey.interface(name)
            if name in off and (found is None or found.lease is None):
                # Nothing brings it up, and it is not up.
                continue
            if not declared.own_client or "dhcp" not in (declared.config.ipv4, declared.config.ipv6):
                continue
            leased = found.lease.resolvers if found is not None and found.lease is not None else ()
            leased += found.announced.resolvers if found is not None and found.announced is not None else ()
            if leased and set(leased) >= named:
                continue
            yield finding(
                RESOLV_CONF_REWRITTEN,
                f"{name} stays on DHCP, and its lease client writes /etc/resolv.conf anew with its own resolvers alone",
                host=host,
                interface=name,
                seen_in=str(declared.place),
                remedy="let the client leave them alone: `supersede domain-name-servers "
                + ", ".join(sorted(map(str, named)))
                + ";` in /etc/dhcp/dhclient.conf",
            )
