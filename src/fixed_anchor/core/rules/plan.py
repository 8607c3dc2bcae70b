"""What speaks against a plan in itself, before anything is looked at."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator
from functools import partial
from ipaddress import IPv4Address, IPv6Address

from fixed_anchor.core.addresses import IPAddress, IPNetwork, address_key
from fixed_anchor.core.findings import BLOCKER, WARNING, Finding, FindingKind, finding
from fixed_anchor.core.plan import HostPlan, InterfacePlan, Plan, Segment
from fixed_anchor.core.rules.case import SiteCase
from fixed_anchor.core.rules.clones import CLONED_HOST
from fixed_anchor.core.wanted import gateways_of

OUTSIDE_SUBNET = FindingKind(
    "outside-subnet",
    "plan",
    BLOCKER,
    "the address lies in no subnet of its segment",
    "A host with an address outside its subnet cannot reach its gateway, and its neighbours cannot reach it.",
    "Take an address of the segment's subnet, or put the interface on the right segment.",
)
NETWORK_ADDRESS = FindingKind(
    "network-address",
    "plan",
    BLOCKER,
    "the address is the network's own",
    "The first address of an IPv4 subnet names the subnet; hosts and routers refuse it (RFC 1122, 3.2.1.3).",
    "Take another address of the subnet.",
)
BROADCAST_ADDRESS = FindingKind(
    "broadcast-address",
    "plan",
    BLOCKER,
    "the address is the subnet's broadcast address",
    "What is sent to it goes to every host of the subnet (RFC 1122, 3.2.1.3).",
    "Take another address of the subnet.",
)
IS_GATEWAY = FindingKind(
    "is-gateway",
    "plan",
    BLOCKER,
    "the address is the gateway's",
    "Two machines with the gateway's address cut the whole segment off, in turns.",
    "Take another address; the gateway keeps its own.",
)
HELD_TWICE = FindingKind(
    "held-twice",
    "plan",
    BLOCKER,
    "the plan gives the address to two interfaces",
    "Neighbours would talk to the one or the other at random.",
    "Give one of them another address.",
)
GATEWAY_OUTSIDE_SUBNET = FindingKind(
    "gateway-outside-subnet",
    "plan",
    BLOCKER,
    "the gateway lies in no subnet of the interface",
    "The kernel refuses a next hop it has no direct way to, so there would be no default route.",
    "Correct the gateway or the subnet; where it is meant, give the address its own prefix with an on-link gateway.",
)
NO_DEFAULT_ROUTE = FindingKind(
    "no-default-route",
    "plan",
    WARNING,
    "no default route would be left",
    "Without one, the host reaches its own subnet only. Where routers announce the only IPv6 default "
    "route today, and a fixed address stops listening to them, this is a blocker.",
    "Name a gateway for the segment, or say `gateway: none` on purpose.",
)
TWO_DEFAULT_ROUTES = FindingKind(
    "two-default-routes",
    "plan",
    BLOCKER,
    "two default routes of equal metric",
    "Which of them is used is left to chance, and may differ after each boot.",
    "Say `gateway: none` on one interface, or give them different metrics.",
)
SPECIAL_ADDRESS = FindingKind(
    "special-address",
    "plan",
    BLOCKER,
    "the address is not for hosts",
    "Loopback, multicast, link-local, unspecified and reserved addresses cannot be given to an interface as its own.",
    "Take an address of the segment's subnet.",
)
NO_RESOLVERS = FindingKind(
    "no-resolvers",
    "plan",
    WARNING,
    "no resolvers would be left",
    "The lease supplied them until now; without any, no name is resolved.",
    "Name `resolvers` for the segment or the interface.",
)
BAD_HOSTNAME = FindingKind(
    "bad-hostname",
    "plan",
    BLOCKER,
    "the hostname is not valid",
    "Host names are letters, digits and hyphens (RFC 1123, 2.1), at most 63 a label.",
    "Correct the name.",
)
HOSTNAME_TWICE = FindingKind(
    "hostname-twice",
    "plan",
    BLOCKER,
    "two hosts have the same hostname",
    "Logs, monitoring and certificates could not tell them apart.",
    "Rename one of them.",
)
MAC_TWICE = FindingKind(
    "mac-twice",
    "plan",
    WARNING,
    "two interfaces have the same MAC",
    "Rightly so for VLANs and bond members on one machine.",
    "Compare with `fixed-anchor survey` on both machines.",
)
SEGMENTS_OVERLAP = FindingKind(
    "segments-overlap",
    "plan",
    BLOCKER,
    "two segments share addresses",
    "An address would then belong to two broadcast domains, and checks would look in the wrong one.",
    "Correct the subnets.",
)
POOL_OUTSIDE_SUBNET = FindingKind(
    "pool-outside-subnet",
    "plan",
    WARNING,
    "a pool lies outside its segment's subnet",
    "It is probably mistyped; the real pool is then not guarded against.",
    "Compare it with the DHCP server's configuration.",
)
POOL_COVERS_GATEWAY = FindingKind(
    "pool-covers-gateway",
    "plan",
    WARNING,
    "a pool contains the gateway's address",
    "The DHCP server may lease the gateway's address to someone.",
    "Narrow the pool, or correct it here.",
)

_LABEL = r"(?!-)[a-z0-9-]{1,63}(?<!-)"
_HOST_NAME = re.compile(rf"{_LABEL}(?:\.{_LABEL})*", re.IGNORECASE)


def plan_findings(case: SiteCase) -> Iterator[Finding]:
    """All findings of the family ``plan`` about the hosts that are checked, and about none.

    O(n log n) in the number of addresses: what two hosts have is looked for among all of the plan.
    """
    names = {host.name for host in case.facts.hosts}
    yield from (found for found in _of_plan(case.facts.plan) if found.host is None or found.host in names)


def _of_plan(plan: Plan) -> Iterator[Finding]:
    yield from _segments(plan)
    yield from _hostnames(plan)
    yield from _shared_between_interfaces(plan)
    usual = {name: _Usual(segment) for name, segment in plan.segments.items()}
    for host in plan.hosts.values():
        for interface in host.interfaces:
            segment = plan.segments[interface.segment]
            own_gateways = interface.gateways is not None
            if own_gateways or not all([usual[interface.segment].fits(held.address) for held in interface.own]):
                yield from _addresses(plan, host, interface, segment)
            # An interface that says nothing of its own has the way out of its segment.
            own = own_gateways or interface.resolvers is not None or interface.ipv6 != "untouched"
            if own or not usual[interface.segment].way_out:
                yield from _way_out(plan, host, interface, segment)
        if len(host.interfaces) > 1 or any(len(gateways_of(i, plan.segments[i.segment])) > 1 for i in host.interfaces):
            yield from _two_default_routes(plan, host)


class _Usual:
    """What is true of most addresses of a segment, asked quickly: nothing speaks against them.

    An address that does not fit is looked at with care, and a finding is made or not.
    """

    def __init__(self, segment: Segment) -> None:
        self._spans = [
            (s.version, int(s.network_address) + 1, int(s.broadcast_address) - 1)
            for s in segment.subnets
            # A wider one may have special ranges inside.
            if 16 <= s.prefixlen < s.max_prefixlen - 1 and special_use(s.network_address) is None
        ]
        self._gateways = {address_key(g.address) for g in segment.gateways}
        gateways = [g.address for g in segment.gateways if g.address.version == 4]
        inside = all(segment.subnet_of(g) is not None for g in gateways)
        #: Whether an IPv4 host has a gateway inside the subnet, and resolvers.
        self.way_out = bool(gateways and segment.resolvers) and inside

    def fits(self, address: IPAddress) -> bool:
        """Whether ``address`` lies inside a subnet for hosts, is neither end of it, and not the gateway's."""
        version, number = address.version, int(address)
        for family, first, last in self._spans:
            if family == version and first <= number <= last:
                return address_key(address) not in self._gateways
        return False


def special_use(address: IPAddress) -> str | None:
    """Why ``address`` cannot be an interface's own (RFC 6890), or ``None``."""
    if isinstance(address, IPv4Address):
        first, second = int(address) >> 24, int(address) >> 16 & 0xFF
        if 0 < first < 224 and first != 127 and (first, second) != (169, 254):
            return None
    if address.is_unspecified:
        return "the unspecified address"
    if address.is_loopback:
        return "a loopback address"
    if address.is_multicast:
        return "a multicast address"
    if address.is_link_local:
        return "a link-local address"
    if isinstance(address, IPv4Address):
        if int(address) >> 24 == 0:
            return "an address of 'this network' (0.0.0.0/8)"
        if int(address) >> 28 == 0xF:
            return "a reserved address (240.0.0.0/4)"
    elif isinstance(address, IPv6Address) and address.ipv4_mapped is not None:
        return "an IPv4-mapped address"
    return None


def _addresses(plan: Plan, host: HostPlan, interface: InterfacePlan, segment: Segment) -> Iterator[Finding]:
    gateways = [g.address for g in gateways_of(interface, segment)]
    for held in interface.own:
        address = held.address
        subnet = segment.subnet_of(address)
        # Most addresses are ordinary ones: nothing more is made of them.
        inside = subnet is not None and _end_of_subnet(address, subnet) is None
        if inside and address not in gateways and special_use(address) is None:
            continue
        raised = partial(
            finding,
            host=host.name,
            interface=interface.name,
            address=address,
            seen_in=plan.where_held(host, interface, address),
        )
        special = special_use(address)
        if special is not None:
            yield raised(SPECIAL_ADDRESS, f"{address} is {special}")
            continue
        if address in gateways:
            yield raised(IS_GATEWAY, f"{address} is the gateway of {segment.name}")
        if subnet is None:
            if held.prefix is None or not any(s.version == address.version for s in segment.subnets):
                known = _and(segment.subnets)
                yield raised(OUTSIDE_SUBNET, f"{address} is not in {known} of segment {segment.name}")
            continue
        end = _end_of_subnet(address, subnet)
        if end is not None:
            yield raised(*end)


def _end_of_subnet(address: IPAddress, subnet: IPNetwork) -> tuple[FindingKind, str] | None:
    """Kind and message if ``address`` is one of the two ends of ``subnet`` that no host may hold."""
    # RFC 3021: a /31 has neither; a /32 is the address itself. IPv6 has no broadcast,
    # and its all-zero address is the routers' anycast (RFC 4291, 2.6.1), except on /127.
    if subnet.prefixlen >= subnet.max_prefixlen - 1:
        return None
    if address == subnet.network_address:
        what = "network address" if address.version == 4 else "routers' anycast address"
        return NETWORK_ADDRESS, f"{address} is the {what} of {subnet}"
    if address.version == 4 and address == subnet.broadcast_address:
        return BROADCAST_ADDRESS, f"{address} is the broadcast address of {subnet}"
    return None


def _way_out(plan: Plan, host: HostPlan, interface: InterfacePlan, segment: Segment) -> Iterator[Finding]:
    raised = partial(finding, host=host.name, interface=interface.name, seen_in=f"{plan.file}:{interface.line}")
    fixed: list[int] = [v for v, method in ((4, interface.ipv4), (6, interface.ipv6)) if method == "fixed"]
    gateways = gateways_of(interface, segment)
    for gateway in gateways:
        version: int = gateway.address.version
        if version not in fixed:
            continue
        held = [h for h in interface.hold if h.address.version == version]
        # An address with its own full prefix (/32, /128) reaches its gateway on-link by intent.
        on_link = any(h.prefix == h.address.max_prefixlen for h in held)
        # A link-local one is on link by definition (RFC 5942).
        on_link = on_link or (version == 6 and gateway.address.is_link_local)
        if segment.subnet_of(gateway.address) is None and not on_link:
            yield raised(
                GATEWAY_OUTSIDE_SUBNET,
                f"the gateway {gateway.address} is not in {_and(segment.subnets)} of segment {segment.name}",
                address=gateway.address,
                seen_in=plan.where_gateway(host, interface, gateway.address),
            )
    if interface.gateways != ():
        for version in fixed:
            if not any(g.address.version == version for g in gateways) and not _other_way_out(
                plan, host, interface, version
            ):
                yield raised(
                    NO_DEFAULT_ROUTE,
                    no_default_route(host.name, version, interface),
                    seen_in=plan.where_said(host, interface, "gateway", interface.gateways is not None),
                )
    resolvers = segment.resolvers if interface.resolvers is None else interface.resolvers
    if fixed and not resolvers and interface.gateways != ():
        yield raised(
            NO_RESOLVERS,
            f"{host.name} would have no resolvers on {interface.name}",
            seen_in=plan.where_said(host, interface, "resolvers", interface.resolvers is not None),
        )


def no_default_route(host: str, version: int, interface: InterfacePlan) -> str:
    """What `no-default-route` says of an IP version, whoever finds it."""
    who = f"segment {interface.segment}" if interface.gateways is None else interface.name
    return f"{host} would have no IPv{version} default route: {who} names no IPv{version} gateway"


def _other_way_out(plan: Plan, host: HostPlan, interface: InterfacePlan, version: int) -> bool:
    for other in host.interfaces:
        if other is interface or other.gateways == ():
            continue
        method = other.ipv4 if version == 4 else other.ipv6
        if method in ("dhcp", "ra"):
            return True
        gateways = gateways_of(other, plan.segments[other.segment])
        if method == "fixed" and any(g.address.version == version for g in gateways):
            return True
    return False


def _two_default_routes(plan: Plan, host: HostPlan) -> Iterator[Finding]:
    seen: dict[tuple[int, int | None], str] = {}
    if (
        len(host.interfaces) == 1
        and len(gateways_of(host.interfaces[0], plan.segments[host.interfaces[0].segment])) < 2
    ):
        return
    for interface in host.interfaces:
        methods = {4: interface.ipv4, 6: interface.ipv6}
        for gateway in gateways_of(interface, plan.segments[interface.segment]):
            version = gateway.address.version
            if methods[version] != "fixed":
                continue
            metric = gateway.metric if gateway.metric is not None else interface.metric
            via = f"{gateway.address} on {interface.name}"
            other = seen.setdefault((version, metric), via)
            if other != via:
                yield finding(
                    TWO_DEFAULT_ROUTES,
                    f"default routes via {other} and via {via} have the same metric",
                    host=host.name,
                    interface=interface.name,
                    address=gateway.address,
                    seen_in=plan.where_gateway(host, interface, gateway.address),
                )


def _shared_between_interfaces(plan: Plan) -> Iterator[Finding]:
    interfaces = [i for host in plan.hosts.values() for i in host.interfaces]
    keys = [address_key(a) for i in interfaces for a in i.every_address]
    given = [i.mac for i in interfaces if i.mac is not None]
    if len(set(keys)) == len(keys) and len(set(given)) == len(given):
        return
    holders: dict[int, tuple[str, str]] = {}
    macs: dict[str, tuple[str, str]] = {}
    for host in plan.hosts.values():
        for interface in host.interfaces:
            me = (host.name, interface.name)
            for address in interface.every_address:
                other = holders.setdefault(address_key(address), me)
                if other != me:
                    yield finding(
                        HELD_TWICE,
                        f"{address} is given to {other[0]} ({other[1]}) as well",
                        host=host.name,
                        interface=interface.name,
                        address=address,
                        seen_in=plan.where_held(host, interface, address),
                    )
            if interface.mac is not None:
                other = macs.setdefault(interface.mac, me)
                if other != me:
                    yield finding(
                        MAC_TWICE if other[0] == host.name else CLONED_HOST,
                        f"{interface.mac} stands at {other[0]} ({other[1]}) as well",
                        host=host.name,
                        interface=interface.name,
                        seen_in=plan.where_of(host, interface, "mac"),
                    )


def _hostnames(plan: Plan) -> Iterator[Finding]:
    seen: dict[str, str] = {}
    for host in plan.hosts.values():
        if host.hostname is None:
            continue
        name = host.hostname.rstrip(".")
        if len(name) > 253 or not _HOST_NAME.fullmatch(name):
            where = plan.where("hosts", host.name, "hostname", line=host.line)
            yield finding(BAD_HOSTNAME, f"{name!r} is not a host name", host=host.name, seen_in=where)
            continue
        other = seen.setdefault(name.lower(), host.name)
        if other != host.name:
            where = plan.where("hosts", host.name, "hostname", line=host.line)
            yield finding(HOSTNAME_TWICE, f"{name} is the hostname of {other} as well", host=host.name, seen_in=where)


def _segments(plan: Plan) -> Iterator[Finding]:
    spans: list[tuple[int, int, int, str, IPNetwork]] = []
    for segment in plan.segments.values():
        for subnet in segment.subnets:
            spans.append(
                (
                    subnet.version,
                    int(subnet.network_address),
                    int(subnet.broadcast_address),
                    segment.name,
                    subnet,
                )
            )
        for number, pool in enumerate(segment.pools or ()):
            inside = any(
                s.version == pool.version
                and int(s.network_address) <= pool.first
                and pool.last <= int(s.broadcast_address)
                for s in segment.subnets
            )
            if not inside:
                yield finding(
                    POOL_OUTSIDE_SUBNET,
                    f"the pool {pool} is not inside {_and(segment.subnets)} of segment {segment.name}",
                    address=pool,
                    seen_in=plan.where("segments", segment.name, "pools", number, line=segment.line),
                )
            for gateway in segment.gateways:
                if gateway.address in pool:
                    yield finding(
                        POOL_COVERS_GATEWAY,
                        f"the pool {pool} of segment {segment.name} contains the gateway {gateway.address}",
                        address=gateway.address,
                        seen_in=plan.where("segments", segment.name, "pools", number, line=segment.line),
                    )
    spans.sort(key=lambda span: span[:3])
    widest: tuple[int, int, int, str, IPNetwork] | None = None
    for span in spans:
        if widest and span[0] == widest[0] and span[1] <= widest[2] and span[3] != widest[3]:
            subnets = plan.segments[span[3]].subnets
            yield finding(
                SEGMENTS_OVERLAP,
                f"{widest[4]} of segment {widest[3]} and {span[4]} of segment {span[3]} share addresses",
                address=span[4],
                seen_in=plan.where(
                    "segments", span[3], "subnet", subnets.index(span[4]), line=plan.segments[span[3]].line
                ),
            )
        if widest is None or span[0] != widest[0] or span[2] > widest[2]:
            widest = span


def _and(items: Iterable[object]) -> str:
    return " and ".join(str(item) for item in items) or "any subnet"
