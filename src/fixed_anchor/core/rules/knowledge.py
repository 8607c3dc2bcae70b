"""What is known of the addresses of a plan: pools, reservations, ranges set aside."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from functools import partial
from ipaddress import IPv4Address, IPv6Address

import msgspec

from fixed_anchor.core.addresses import AddressRange, IPAddress, RangeSet
from fixed_anchor.core.findings import Consulted, Finding, finding
from fixed_anchor.core.plan import HostPlan, InterfacePlan, Plan, Segment


class SegmentKnowledge(msgspec.Struct, frozen=True):
    """Everything known of one segment's DHCP service, gathered from plan, options and sources.

    ``pools`` is ``None`` where nothing is known. ``reservations`` maps a MAC to the
    addresses reserved for it; ``pools_said_by`` and ``aside_said_by`` say who told.
    """

    pools: RangeSet | None
    set_aside: RangeSet
    reservations: Mapping[str, tuple[IPAddress, ...]]
    pools_said_by: str
    aside_said_by: str

    def consulted(self, address: IPAddress) -> Iterator[Consulted]:
        """What this knowledge says of one address, for the evidence."""
        if self.pools is not None:
            pool = self.pools.find(address)
            said = f"inside the pool {pool}" if pool else f"outside {_pools(self.pools)}"
            yield Consulted("DHCP pools", said, self.pools_said_by)
        if len(self.set_aside):
            aside = self.set_aside.find(address)
            yield Consulted("ranges set aside", f"inside {aside}" if aside else "outside", self.aside_said_by)


def _pools(pools: RangeSet) -> str:
    if not len(pools):
        return "any pool: there is no DHCP server"
    return "the pool" + ("s " if len(pools) > 1 else " ") + ", ".join(str(p) for p in pools)


def segment_knowledge(plan: Plan, segment: Segment, told_pools: tuple[AddressRange, ...]) -> SegmentKnowledge:
    """The knowledge of ``segment`` from the plan, with the pools told on the command line."""
    here = f"{plan.file}:{segment.line}"
    told = tuple(p for p in told_pools if _touches(p, segment))
    pools: RangeSet | None = None
    said_by: list[str] = []
    if segment.pools is not None or told:
        pools = RangeSet([*(segment.pools or ()), *told])
    if segment.pools is not None:
        said_by.append(here)
    if told:
        said_by.append("--pool")
    return SegmentKnowledge(
        pools=pools,
        set_aside=RangeSet(segment.set_aside),
        reservations=segment.reservations,
        pools_said_by=", ".join(said_by),
        aside_said_by=here,
    )


def _touches(pool: AddressRange, segment: Segment) -> bool:
    return any(
        s.version == pool.version and pool.first <= int(s.broadcast_address) and int(s.network_address) <= pool.last
        for s in segment.subnets
    )


def knowledge_findings(
    plan: Plan,
    host: HostPlan,
    interface: InterfacePlan,
    known: SegmentKnowledge,
    leased_now: tuple[IPAddress, ...],
) -> Iterator[Finding]:
    """The findings of the family ``knowledge`` for one interface.

    ``leased_now`` are the addresses that the interface holds by DHCP today, empty
    where that is not known.
    """
    raised = partial(finding, host=host.name, interface=interface.name, seen_in=f"{plan.file}:{interface.line}")
    versions = {h.address.version for h in interface.hold}
    if 4 in versions and known.pools is None:
        yield raised(
            "pool-unknown",
            f"nothing is known of the DHCP pools of segment {interface.segment}",
            remedy="give it with --pool FIRST-LAST, or as `pools:` of the segment "
            "(`[]` says that there is no DHCP server)",
        )
    reserved_here = known.reservations.get(interface.mac or "", ())
    for held in interface.hold:
        address = held.address
        aside = known.set_aside.find(address)
        if aside is not None:
            yield raised("set-aside", f"{address} lies in {aside}, which is set aside", address=address)
        if address in reserved_here:
            continue
        if address in leased_now:
            yield raised(
                "lease-not-reserved",
                f"{address} is this interface's leased address, and no reservation keeps it",
                address=address,
                remedy=f"reserve {address} for {interface.mac or 'the MAC'} on the DHCP server and say so "
                f"under `reservations:`, or take an address outside every pool",
            )
            continue
        pool = known.pools.find(address) if known.pools is not None else None
        if pool is not None:
            nearest = nearest_outside(address, plan.segments[interface.segment], known, _taken(plan))
            yield raised(
                "in-dhcp-pool",
                f"{address} lies in the DHCP pool {pool}",
                address=address,
                remedy=f"the nearest address outside is {nearest}" if nearest else None,
            )


def _taken(plan: Plan) -> frozenset[IPAddress]:
    taken = {h.address for host in plan.hosts.values() for i in host.interfaces for h in i.hold}
    for segment in plan.segments.values():
        taken.update(g.address for g in segment.gateways)
        taken.update(segment.resolvers)
    return frozenset(taken)


def nearest_outside(
    address: IPAddress, segment: Segment, known: SegmentKnowledge, taken: frozenset[IPAddress]
) -> IPAddress | None:
    """The address nearest to ``address`` in its subnet that no pool, range set aside or plan entry has."""
    subnet = segment.subnet_of(address)
    if subnet is None:
        return None
    first, last = int(subnet.network_address), int(subnet.broadcast_address)
    if subnet.prefixlen < subnet.max_prefixlen - 1:
        first, last = first + 1, last - 1
    make = IPv4Address if address.version == 4 else IPv6Address
    blocks = [known.set_aside] + ([known.pools] if known.pools is not None else [])
    up = down = int(address)
    # Whole ranges are stepped over, so this is short even where a pool has millions of addresses.
    while up <= last or down >= first:
        for candidate in sorted({up, down}, key=lambda c: abs(c - int(address))):
            if not first <= candidate <= last:
                continue
            tried = make(candidate)
            if tried not in taken and not any(tried in block for block in blocks):
                return tried
        up = _step(make(up), blocks, 1) if up <= last else up
        down = _step(make(down), blocks, -1) if down >= first else down
    return None


def _step(address: IPAddress, blocks: list[RangeSet], direction: int) -> int:
    for block in blocks:
        inside = block.find(address)
        if inside is not None:
            return inside.last + 1 if direction > 0 else inside.first - 1
    return int(address) + direction
