"""What is known of the addresses of a plan: pools, reservations, leases, names, ranges set aside."""

from __future__ import annotations

import heapq
from collections.abc import Callable, Iterator
from functools import partial
from ipaddress import IPv4Address, IPv6Address

from fixed_anchor.core.addresses import AddressRange, IPAddress, IPNetwork, RangeSet
from fixed_anchor.core.claims import Claims, ReservationClaim, SubnetClaim
from fixed_anchor.core.config import Place
from fixed_anchor.core.findings import BLOCKER, NOTE, WARNING, Finding, FindingKind, finding
from fixed_anchor.core.indexed_claims import few, whom
from fixed_anchor.core.knowledge import Knowledge
from fixed_anchor.core.plan import HostPlan, InterfacePlan, Segment
from fixed_anchor.core.rules.case import InterfaceCase, SegmentCase, SiteCase

IN_DHCP_POOL = FindingKind(
    "in-dhcp-pool",
    "knowledge",
    BLOCKER,
    "the address lies in a DHCP pool",
    "The DHCP server may lease it to someone else at any time, and both then lose their connections.",
    "Take an address outside every pool, or reserve it on the server.",
)
LEASE_NOT_RESERVED = FindingKind(
    "lease-not-reserved",
    "knowledge",
    BLOCKER,
    "today's leased address is kept without a reservation",
    "The lease runs out once the host stops renewing it, and the server leases the address to someone else.",
    "Reserve the address for this MAC on the server, or narrow its pool, and say so in the plan or a source.",
)
RESERVED_FOR_ANOTHER = FindingKind(
    "reserved-for-another",
    "knowledge",
    BLOCKER,
    "the address is reserved for another MAC",
    "The DHCP server will give it to that machine.",
    "Take another address, or remove the reservation if that machine is gone.",
)
LEASED_TO_ANOTHER = FindingKind(
    "leased-to-another",
    "knowledge",
    BLOCKER,
    "the address is leased to another machine",
    "It is in use, or may be again: a machine that sleeps keeps its lease.",
    "Take another address.",
)
SET_ASIDE = FindingKind(
    "set-aside",
    "knowledge",
    BLOCKER,
    "the address lies in a range that is set aside",
    "The plan itself says that nobody gets addresses of this range.",
    "Take another address, or change `set_aside`.",
)
LISTED_FOR_ANOTHER = FindingKind(
    "listed-for-another",
    "knowledge",
    BLOCKER,
    "the site's address list, or a hypervisor's network, has it for another holder",
    "A list is the word of whoever keeps it; the machine may be switched off today. A network's own "
    "bridge answers for its address.",
    "Take another address, or correct the list.",
)
DNS_SAYS_OTHERWISE = FindingKind(
    "dns-says-otherwise",
    "knowledge",
    WARNING,
    "DNS has the address for another name",
    "Clients of that name would arrive here.",
    "Correct the record, or take another address.",
)
POOL_NEARLY_FULL = FindingKind(
    "pool-nearly-full",
    "knowledge",
    NOTE,
    "a pool is nearly full",
    "Every fixed address taken out of it makes it smaller.",
    "Look at the pool before more hosts are added.",
)
POOL_UNKNOWN = FindingKind(
    "pool-unknown",
    "knowledge",
    NOTE,
    "the segment's DHCP pools are not known",
    "Without them nobody can say that the address will not be leased to someone else.",
    "Say it with `--pool RANGE`, with `pools:` in the plan (`[]` says: no DHCP server), or with a source.",
    undetermined=True,
)
SOURCE_UNREADABLE = FindingKind(
    "source-unreadable",
    "knowledge",
    NOTE,
    "a source could not be read",
    "What it would have said is not known.",
    "Correct its path, its permissions or the place it names.",
    undetermined=True,
)
EXPECTED_NOT_RESERVED = FindingKind(
    "expected-not-reserved",
    "knowledge",
    WARNING,
    "the address that the plan expects by DHCP is not reserved",
    "The host stays on DHCP, and would be leased whatever is free.",
    "Reserve it for the interface's MAC on the DHCP server, or correct `expect`.",
)
SOURCE_DISAGREES = FindingKind(
    "source-disagrees",
    "knowledge",
    WARNING,
    "a source and the plan say different things of a segment",
    "One of them is out of date; a wrong mask or gateway cuts the host off, a wrong pool leases its address away.",
    "Find out which one is right, and correct the other.",
)
SOURCE_UNTIDY = FindingKind(
    "source-untidy",
    "knowledge",
    NOTE,
    "an entry of a source is not written cleanly",
    "It was understood here, but other programs may read it differently, or not at all.",
    "Correct the entry.",
)

#: A pool with more of its addresses leased than this share is nearly full.
NEARLY_FULL = 0.9

Raised = Callable[..., Finding]


def knowledge_findings(case: InterfaceCase) -> Iterator[Finding]:
    """The findings of the family ``knowledge`` for one interface."""
    known, host, interface, found = case.known, case.host, case.interface, case.found
    # The addresses that the interface holds today by DHCP, and all that it holds.
    leased_now = found.leased_addresses() if found is not None else ()
    held_now = tuple(a.address.ip for a in found.addresses) if found is not None else ()
    segment = interface.segment
    usual = not interface.expect and not leased_now and not known.knows_names and known.pools_known(segment)
    if usual and all(known.nothing_known(segment, h.address) for h in interface.own):
        # Of the usual host of a large plan nothing is known, and then there is nothing to be said.
        return
    raised = partial(finding, host=host.name, interface=interface.name, seen_in=f"{known.plan.file}:{interface.line}")
    if any(h.address.version == 4 for h in interface.own) and not known.pools_known(interface.segment):
        yield raised(
            POOL_UNKNOWN,
            f"the DHCP pools of segment {interface.segment} are not known",
            seen_in=f"{known.plan.file}:{known.plan.segments[interface.segment].line}",
            segment=interface.segment,
            remedy="give it with --pool FIRST-LAST, or as `pools:` of the segment "
            "(`[]` says that there is no DHCP server), or name the server's configuration under `sources:`",
        )
    for held in interface.own:
        if known.nothing_known(interface.segment, held.address) and held.address not in leased_now:
            continue
        about = _about(known, host, interface, held.address)
        yield from _of_pools(known, interface, held.address, leased_now, about)
        yield from _of_others(case, held.address, held_now, about)
    for address in interface.expect:
        about = _about(known, host, interface, address)
        yield from _of_others(case, address, held_now, about)
        yield from _expected(known, interface, address, about)
    if known.knows_names:
        yield from _forward_names(known, host, interface, raised)


def _about(known: Knowledge, host: HostPlan, interface: InterfacePlan, address: IPAddress) -> Raised:
    """Findings about one address, seen where the plan has it unless something else is said; which costs a look."""

    def raised(kind: FindingKind, message: str, seen_in: str | None = None, remedy: str | None = None) -> Finding:
        where = seen_in or known.plan.where_held(host, interface, address)
        return finding(
            kind, message, seen_in=where, remedy=remedy, host=host.name, interface=interface.name, address=address
        )

    return raised


def _own(known: Knowledge, interface: InterfacePlan, address: IPAddress) -> list[ReservationClaim]:
    """The reservations of ``address`` for this interface."""
    return [r for r in known.reservations(address) if r.mac is not None and r.mac == interface.mac]


def _is_ours(mac: str | None, name: str, interface: InterfacePlan, names: frozenset[str]) -> bool:
    """Whether a reservation or lease is this interface's: by its MAC, and by its name only where it has none."""
    return mac == interface.mac if mac is not None else _same_name(name, names)


def _of_pools(
    known: Knowledge, interface: InterfacePlan, address: IPAddress, leased_now: tuple[IPAddress, ...], about: Raised
) -> Iterator[Finding]:
    aside = known.set_aside(interface.segment, address)
    if aside is not None:
        yield about(SET_ASIDE, f"{address} lies in {aside}, which is set aside")
    pool = known.pool_of(interface.segment, address)
    own = _own(known, interface, address)
    if own and (pool is None or any(r.keeps_pool_clear for r in own)):
        return
    if address in leased_now or any(lease.mac == interface.mac and lease.mac for lease in known.held_leases(address)):
        if not known.left_out_by_server(address):
            yield about(
                LEASE_NOT_RESERVED,
                f"{address} is this interface's leased address, and no reservation keeps it",
                remedy=f"reserve {address} for {interface.mac or 'the MAC'} on the DHCP server and say so "
                f"under `reservations:`, or take an address outside every pool",
            )
        return
    if pool is None:
        return
    range_, said_by = pool
    nearest = nearest_outside(address, known.plan.segments[interface.segment], known)
    yield about(
        IN_DHCP_POOL,
        f"{address} lies in the DHCP pool {range_}"
        + ("; the server leases it to others although a host names it" if own else ""),
        seen_in=_where_pool(known, interface.segment, range_, said_by),
        remedy=f"the nearest address outside is {nearest}" if nearest else None,
    )


def _where_pool(known: Knowledge, name: str, pool: AddressRange, said_by: str) -> str:
    """Where a pool stands: in the plan its own line, and not that of its segment."""
    segment = known.plan.segments[name]
    own = list(segment.pools or ())
    if said_by == f"{known.plan.file}:{segment.line}" and pool in own:
        return known.plan.where("segments", name, "pools", own.index(pool), line=segment.line)
    return said_by


def _where_reserved(known: Knowledge, name: str, kept: ReservationClaim) -> str:
    """Where a reservation stands: in the plan its own line, and not that of its segment."""
    segment = known.plan.segments[name]
    if kept.place == Place(known.plan.file, segment.line) and kept.mac in segment.reservations:
        return known.plan.where("segments", name, "reservations", kept.mac, line=segment.line)
    return str(kept.place)


def _of_others(
    case: InterfaceCase, address: IPAddress, held_now: tuple[IPAddress, ...], about: Raised
) -> Iterator[Finding]:
    """Everybody else who is known to have, or to be kept, ``address``."""
    known, interface = case.known, case.interface
    names = _names_of(known, case.host, interface)
    for kept in known.reservations(address):
        if not _is_ours(kept.mac, kept.client, interface, names):
            yield about(
                RESERVED_FOR_ANOTHER,
                f"{address} is reserved for {whom(kept)}" + (f" ({kept.client})" if kept.mac and kept.client else ""),
                seen_in=_where_reserved(known, interface.segment, kept),
            )
    for lease in known.held_leases(address):
        if lease.state == "declined":
            if address not in held_now:
                what = f"a client of the DHCP server found {address} in use by somebody else"
                yield about(LEASED_TO_ANOTHER, what, seen_in=str(lease.place))
        elif lease.mac is not None and lease.mac in case.facts.handed.get(address, ()):
            # Its holder gives it back before.
            continue
        elif not _is_ours(lease.mac, lease.name, interface, names):
            client = lease.mac or "a client"
            yield about(
                LEASED_TO_ANOTHER,
                f"{address} is leased to {client}" + (f" ({lease.name})" if lease.name else ""),
                seen_in=str(lease.place),
            )
    for row in known.listed(address):
        if not (row.mac and row.mac == interface.mac) and not _same_name(row.name, names):
            whose = f"for {row.name}" if row.name else "without saying for whom"
            yield about(LISTED_FOR_ANOTHER, f"{address} is listed {whose}", seen_in=str(row.place))
    records = known.records(address)
    if records and not any(_same_name(r.name, names) for r in records):
        found = few(r.name for r in records)
        yield about(DNS_SAYS_OTHERWISE, f"DNS has {address} for {found}", seen_in=str(records[0].place))


def _names_of(known: Knowledge, host: HostPlan, interface: InterfacePlan) -> frozenset[str]:
    """The names this host goes by: as the plan calls it, its hostname, and both in the search domains."""
    names = {host.name.lower()}
    if host.hostname:
        names.add(host.hostname.rstrip(".").lower())
    search = interface.search if interface.search is not None else known.plan.segments[interface.segment].search
    return frozenset(names | {f"{n}.{domain}" for n in names for domain in search})


def _same_name(name: str, names: frozenset[str]) -> bool:
    """Whether ``name`` is one of ``names``; a name without its domain is enough."""
    lowered = name.rstrip(".").lower()
    return lowered in names or (
        bool(lowered) and "." not in lowered and lowered in {n.partition(".")[0] for n in names}
    )


def _expected(known: Knowledge, interface: InterfacePlan, address: IPAddress, about: Raised) -> Iterator[Finding]:
    """A host that stays on DHCP, and the address that a reservation is to give it."""
    if _own(known, interface, address):
        return
    serving = [next((s for s in c.subnets if address in s.network), None) for c in known.claims]
    places = [str(subnet.place) for subnet in serving if subnet is not None]
    segment = known.plan.segments[interface.segment]
    if places or segment.reservations:
        where = ", ".join(places) or known.plan.where("segments", segment.name, "reservations", line=segment.line)
        yield about(
            EXPECTED_NOT_RESERVED,
            f"{address} is expected by DHCP, and is not reserved for {interface.mac or 'this interface'}",
            seen_in=where,
        )


def _forward_names(known: Knowledge, host: HostPlan, interface: InterfacePlan, raised: Raised) -> Iterator[Finding]:
    """The host's own name, where DNS has it at other addresses only."""
    mine = [a for i in host.interfaces for a in i.every_address]
    for name in sorted(n for n in _names_of(known, host, interface) if "." in n):
        for version in (4, 6):
            held = [h.address for h in interface.hold if h.address.version == version]
            records = [r for r in known.named(name) if r.address.version == version]
            if held and records and not any(r.address in mine for r in records):
                there = ", ".join(str(r.address) for r in records)
                yield raised(
                    DNS_SAYS_OTHERWISE,
                    f"DNS has {name} at {there}, and the plan gives it {held[0]}",
                    address=held[0],
                    seen_in=str(records[0].place),
                    remedy="change the record when the host has moved",
                )


# --- what is said of segments, not of addresses ---------------------------------------------


def segment_findings(case: SegmentCase) -> Iterator[Finding]:
    """Where sources and plan say different things of a segment, and pools that are nearly full."""
    known, segment = case.facts.known, case.segment
    for claims in known.claims:
        for subnet in claims.subnets:
            yield from _disagreements(segment, subnet)
        yield from _pools_disagree(segment, claims)
    yield from _nearly_full(known, segment)


def source_findings(case: SiteCase) -> Iterator[Finding]:
    """What could not be read, and what is not written cleanly."""
    known = case.facts.known
    for unread in known.unread:
        yield finding(SOURCE_UNREADABLE, f"{unread.label}: {unread.why}", seen_in=unread.where)
    for claims, remark in known.untidy():
        yield finding(SOURCE_UNTIDY, f"{claims.label}: {remark.what}", seen_in=str(remark.place))


def _disagreements(segment: Segment, claim: SubnetClaim) -> Iterator[Finding]:
    version = claim.network.version
    mine = [s for s in segment.subnets if s.version == version and s.overlaps(claim.network)]
    if not mine:
        return

    def raised(what: str, about: str = "") -> Finding:
        return finding(SOURCE_DISAGREES, what, seen_in=str(claim.said_in.get(about, claim.place)))

    if claim.network not in mine:
        yield raised(f"the DHCP server has the subnet {claim.network}, the plan {mine[0]} for {segment.name}")
    gateways = tuple(g.address for g in segment.gateways if g.address.version == version)
    resolvers = tuple(r for r in segment.resolvers if r.version == version)
    for what, about, told, planned in (
        ("gateway", "routers", claim.routers, gateways),
        ("resolvers", "resolvers", claim.resolvers, resolvers),
    ):
        if told is not None and set(told) != set(planned):
            yield raised(
                f"the DHCP server tells clients of {claim.network} the {what} {_words(told)}, "
                f"the plan says {_words(planned)} for {segment.name}",
                about,
            )
    if claim.search is not None and claim.search != segment.search:
        yield raised(
            f"the DHCP server tells clients of {claim.network} the search domains {_words(claim.search)}, "
            f"the plan says {_words(segment.search)} for {segment.name}",
            "search",
        )


def _words(values: tuple[object, ...]) -> str:
    return ", ".join(map(str, values)) or "none"


def _pools_disagree(segment: Segment, claims: Claims) -> Iterator[Finding]:
    """Addresses in a pool of a server that the plan does not count among the pools."""
    for pool in claims.pools if segment.pools is not None else ():
        within = any(s.version == pool.range.version and _within(pool.range, s) for s in segment.subnets)
        if within and not _covered(pool.range, segment.pools or ()):
            yield finding(
                SOURCE_DISAGREES,
                f"the DHCP server has the pool {pool.range}, which the plan's pools of {segment.name} do not cover",
                seen_in=str(pool.place),
            )


def _within(range_: AddressRange, subnet: IPNetwork) -> bool:
    return int(subnet.network_address) <= range_.first and range_.last <= int(subnet.broadcast_address)


def _covered(range_: AddressRange, pools: tuple[AddressRange, ...]) -> bool:
    """Whether every address of ``range_`` lies in one of ``pools``."""
    reached = range_.first
    for pool in sorted(p for p in pools if p.version == range_.version):
        if pool.first <= reached <= pool.last:
            reached = pool.last + 1
    return reached > range_.last


def _nearly_full(known: Knowledge, segment: Segment) -> Iterator[Finding]:
    for pool, said_by in dict(reversed(known.pools(segment.name))).items():
        used = known.leases_in_pools.get(pool, 0)
        if used > NEARLY_FULL * pool.size:
            what = f"{used} of {pool.size} addresses of the pool {pool} are leased"
            yield finding(POOL_NEARLY_FULL, what, seen_in=_where_pool(known, segment.name, pool, said_by))


# --- the nearest free one -------------------------------------------------------------------


def nearest_outside(address: IPAddress, segment: Segment, known: Knowledge) -> IPAddress | None:
    """The address nearest to ``address`` in its subnet that nobody is known to have."""
    return next(free_addresses(address, segment, known), None)


def free_addresses(near: IPAddress, segment: Segment, known: Knowledge) -> Iterator[IPAddress]:
    """Addresses of the subnet of ``near`` that no pool, range set aside, plan or source has; nearest first."""
    subnet = segment.subnet_of(near)
    if subnet is None:
        return
    first, last = int(subnet.network_address), int(subnet.broadcast_address)
    if subnet.prefixlen < subnet.max_prefixlen - 1:
        first, last = first + 1, last - 1
    taken = known.taken_by_plan
    make = IPv4Address if near.version == 4 else IPv6Address
    blocks = known.blocks(segment.name)
    start = int(near)
    upwards = _outside(max(start, first), last, 1, near.version, blocks)
    downwards = _outside(min(start - 1, last), first, -1, near.version, blocks)
    for number in heapq.merge(upwards, downwards, key=lambda n: abs(n - start)):
        # In a large IPv4 subnet .0 and .255 are good addresses that people and filters take for bad ones.
        if near.version == 4 and number & 0xFF in (0, 0xFF) and subnet.prefixlen < 31:
            continue
        address = make(number)
        if address not in taken and not known.spoken_for(address):
            yield address


def _outside(number: int, end: int, step: int, version: int, blocks: list[RangeSet]) -> Iterator[int]:
    """The numbers up (``step`` 1) or down (-1) to ``end``, whole blocks stepped over: a pool may have millions."""
    while (end - number) * step >= 0:
        inside = next((found for b in blocks if (found := b.find_number(version, number)) is not None), None)
        if inside is None:
            yield number
            number += step
        else:
            number = inside.last + 1 if step > 0 else inside.first - 1
