"""Everything that is known of the addresses of a plan, put together and indexed: pools, reservations, leases, names."""

from __future__ import annotations

from bisect import bisect_left, bisect_right
from collections.abc import Iterable, Iterator
from functools import cached_property

import msgspec

from fixed_anchor.core.addresses import SIX, AddressRange, IPAddress, RangeSet, address_key
from fixed_anchor.core.claims import Claims, LeaseClaim, ListedClaim, RecordClaim, Remark, ReservationClaim, SubnetClaim
from fixed_anchor.core.config import Place
from fixed_anchor.core.findings import Consulted, NotConsulted
from fixed_anchor.core.indexed_claims import TELLS, IndexedClaims
from fixed_anchor.core.plan import Plan, Segment

#: Who says something, and which gateways.
GatewaysSaid = tuple[str, tuple[IPAddress, ...]]


class Unread(msgspec.Struct, frozen=True):
    """A source that could not be read, or only in part: what it is called, where, and why."""

    label: str
    where: str
    why: str


class Knowledge:
    """What plan, command line and sources say, asked per address in O(1) or O(log n).

    ``told`` are pools told on the command line; ``now`` is in seconds since 1970.
    """

    def __init__(
        self,
        plan: Plan,
        claims: Iterable[Claims] = (),
        told: tuple[AddressRange, ...] = (),
        unread: tuple[Unread, ...] = (),
        now: int = 0,
    ) -> None:
        self.plan = plan
        self.claims = tuple(claims)
        self.told = told
        self.now = now
        self.unread = unread + tuple(
            Unread(c.label, str(remark.place), remark.what) for c in self.claims for remark in c.broken
        )
        self._pools: dict[str, list[tuple[AddressRange, str]]] = {}
        #: Who tells the pools of a segment, for each IP version that anybody tells them of.
        self._told_of: dict[tuple[str, int], list[str]] = {}
        for segment in plan.segments.values():
            self._gather_pools(segment)
        own = Claims("plan", plan.file, reservations=tuple(_planned(plan)))
        self._planned = IndexedClaims(own, self.is_subnet)
        self._sources = [IndexedClaims(c, self.is_subnet) for c in self.claims]
        #: The keys of all addresses that anything is said of, and whether there are rows for whole ranges.
        self._mentioned: set[int] = set()
        self._wide = False
        for source in (self._planned, *self._sources):
            source.mention(self._mentioned)
            self._wide = self._wide or source.has_wide_rows
        self._names: dict[str, list[RecordClaim]] = {}
        for record in (r for c in self.claims for r in c.records):
            if record.kind in ("A", "AAAA"):
                self._names.setdefault(record.name, []).append(record)
        self._pool_sets = {name: RangeSet(r for r, _ in pools) for name, pools in self._pools.items()}
        self._pool_words = {told: self._describe(*told) for told in self._told_of}
        self._asides = {s.name: RangeSet(s.set_aside) for s in plan.segments.values()}
        self._asked_for_some = any(c.asked is not None for c in self.claims)
        #: What is said of an address that nothing is known of, by segment and IP version.
        self._nothing: dict[tuple[str, int], tuple[Consulted, ...]] = {}
        self._not_consulted: dict[str, tuple[NotConsulted, ...]] = {}
        self._routers_told: dict[str, tuple[GatewaysSaid, ...]] = {}

    def routers_told(self, segment: Segment) -> tuple[GatewaysSaid, ...]:
        """What DHCP configurations tell the clients of a segment; for all of its hosts the same."""
        if segment.name not in self._routers_told:
            every = ((claims.label, s.routers) for claims in self.claims for s in claims.subnets if s.routers)
            near = ((label, hops) for label, hops in every if any(segment.subnet_of(h) is not None for h in hops))
            self._routers_told[segment.name] = tuple(near)
        return self._routers_told[segment.name]

    # --- gathering ----------------------------------------------------------------------

    def _gather_pools(self, segment: Segment) -> None:
        """The pools of a segment, with who says so; none at all where nobody knows."""
        here = f"{self.plan.file}:{segment.line}"
        found: list[tuple[AddressRange, str]] = []
        if segment.pools is not None:
            found += [(pool, here) for pool in segment.pools]
            self._tells(segment, here, (4, 6))
        told = [(pool, "--pool") for pool in self.told if _touches(pool, segment)]
        found += told
        self._tells(segment, "--pool", {pool.version for pool, _ in told})
        for claims in self.claims:
            pools = [(p.range, str(p.place)) for p in claims.pools if _touches(p.range, segment)]
            found += pools
            # A server of one IP version says nothing of the other: router advertisements are often all it does.
            versions = {pool.version for pool, _ in pools}
            versions |= {s.network.version for s in claims.subnets if _overlaps(s, segment)}
            where = claims.path if claims.read_at == "read now" else f"{claims.path}, {claims.read_at}"
            self._tells(segment, where, versions)
        self._pools[segment.name] = found

    def _tells(self, segment: Segment, who: str, versions: Iterable[int]) -> None:
        for version in versions:
            self._told_of.setdefault((segment.name, version), []).append(who)

    def is_subnet(self, found: AddressRange) -> bool:
        """Whether a range is a whole subnet of the plan, or more."""
        return any(
            found.version == s.version
            and found.first <= int(s.network_address)
            and int(s.broadcast_address) <= found.last
            for segment in self.plan.segments.values()
            for s in segment.subnets
        )

    def _describe(self, name: str, version: int) -> str:
        # Plan and server usually name the same pools.
        pools = list(dict.fromkeys(pool for pool, _ in self._pools[name] if pool.version == version))
        if not pools:
            return "outside any pool: there is none"
        if len(pools) > 4:
            return f"outside all {len(pools)} pools"
        return "outside the pool" + ("s " if len(pools) > 1 else " ") + ", ".join(map(str, pools))

    # --- asking -------------------------------------------------------------------------

    def nothing_known(self, segment: str, address: IPAddress) -> bool:
        """Whether no pool, range set aside, reservation, lease, record or row has ``address``.

        Of most addresses of a plan nothing is known, so this one question saves many.
        """
        version, number = address.version, int(address)
        if (number if version == 4 else number | SIX) in self._mentioned or self._wide:
            return False
        pools, aside = self._pool_sets.get(segment), self._asides[segment]
        if pools is not None and pools.find_number(version, number) is not None:
            return False
        return aside.find_number(version, number) is None

    @property
    def knows_names(self) -> bool:
        """Whether any forward record is known at all."""
        return bool(self._names)

    def pools_known(self, segment: str) -> bool:
        """Whether the pools of DHCP for IPv4 on a segment are known, be it that there are none."""
        return (segment, 4) in self._told_of

    def pool_of(self, segment: str, address: IPAddress) -> tuple[AddressRange, str] | None:
        """The pool that contains ``address``, and who says so."""
        pools = self._pool_sets.get(segment)
        found = pools.find(address) if pools is not None else None
        if found is None:
            return None
        return found, next(words for pool, words in self._pools[segment] if pool == found)

    def pools(self, segment: str) -> list[tuple[AddressRange, str]]:
        """All pools of a segment, each with who says so."""
        return self._pools.get(segment, [])

    def set_aside(self, segment: str, address: IPAddress) -> AddressRange | None:
        """The range of the plan, set aside on purpose, that ``address`` lies in."""
        return self._asides[segment].find(address)

    def blocks(self, segment: str) -> list[RangeSet]:
        """Ranges of a segment from which nobody gets a fixed address."""
        pools = self._pool_sets.get(segment)
        return [self._asides[segment], *([pools] if pools is not None else [])]

    def named(self, name: str) -> list[RecordClaim]:
        """The forward records of a full name."""
        return self._names.get(name.rstrip(".").lower(), [])

    def reservations(self, address: IPAddress) -> list[ReservationClaim]:
        """The reservations of ``address``."""
        key = address_key(address)
        return [r for source in (self._planned, *self._sources) for r in source.reservations.get(key, ())]

    def records(self, address: IPAddress) -> list[RecordClaim]:
        """The DNS records of ``address``."""
        key = address_key(address)
        return [r for source in self._sources for r in source.records.get(key, ())]

    def listed(self, address: IPAddress) -> list[ListedClaim]:
        """The rows that give ``address`` to somebody."""
        return [row for source in self._sources for row in source.rows(address)]

    def held_leases(self, address: IPAddress) -> list[LeaseClaim]:
        """Leases of ``address`` that a server still keeps."""
        return [lease for lease in self._leases_at(address_key(address)) if lease.holds(self.now)]

    def left_out_by_server(self, address: IPAddress) -> bool:
        """Whether a DHCP server's own configuration serves the subnet of ``address``, and no pool of it has it."""
        serving = [c for c in self.claims if any(address in s.network for s in c.subnets)]
        return bool(serving) and not any(address in p.range for c in serving for p in c.pools)

    def spoken_for(self, address: IPAddress) -> bool:
        """Whether anybody at all is known to have, or to be kept, ``address``."""
        return (
            bool(self.reservations(address))
            or bool(self.records(address))
            or bool(self.held_leases(address))
            or bool(self.listed(address))
        )

    @cached_property
    def leases_in_pools(self) -> dict[AddressRange, int]:
        """How many addresses of each pool are leased now."""
        held = sorted({key for claims in self.claims for key in claims.leases.held(self.now)})
        counted: dict[AddressRange, int] = {}
        for pool in {pool for pools in self._pools.values() for pool, _ in pools}:
            shift = 0 if pool.version == 4 else SIX
            counted[pool] = bisect_right(held, pool.last | shift) - bisect_left(held, pool.first | shift)
        return counted

    def _leases_at(self, key: int) -> list[LeaseClaim]:
        found = (claims.leases.at(key) for claims in self.claims)
        return [lease for lease in found if lease is not None]

    @cached_property
    def taken_by_plan(self) -> frozenset[IPAddress]:
        """Every address that the plan itself gives to somebody."""
        interfaces = [i for host in self.plan.hosts.values() for i in host.interfaces]
        taken = {a for i in interfaces for a in (*i.every_address, *i.leave_alone)}
        for segment in self.plan.segments.values():
            taken.update(g.address for g in segment.gateways)
            taken.update(segment.resolvers)
            taken.update(segment.dhcp_servers or ())
        return frozenset(taken)

    # --- evidence -----------------------------------------------------------------------

    def consulted(self, segment: str, address: IPAddress) -> tuple[Consulted, ...]:
        """What all this says of one address."""
        if self._asked_for_some or not self.nothing_known(segment, address):
            return tuple(self._consulted(segment, address))
        usual = (segment, address.version)
        if usual not in self._nothing:
            self._nothing[usual] = tuple(self._consulted(segment, address))
        return self._nothing[usual]

    def _consulted(self, segment: str, address: IPAddress) -> Iterator[Consulted]:
        told = (segment, address.version)
        if told in self._told_of:
            pool = self.pool_of(segment, address)
            words = f"inside the pool {pool[0]}" if pool else self._pool_words[told]
            yield Consulted("DHCP pools", words, ", ".join(self._told_of[told]))
        if len(self._asides[segment]):
            aside = self.set_aside(segment, address)
            here = f"{self.plan.file}:{self.plan.segments[segment].line}"
            yield Consulted("ranges set aside", f"inside {aside}" if aside else "outside", here)
        for source in self._sources:
            if source.claims.asked is None or address in source.claims.asked:
                yield Consulted(source.label, source.said(address, self.now), source.claims.read_at)

    def not_consulted(self, segment: str) -> tuple[NotConsulted, ...]:
        """What could not be asked, or is not there to be asked."""
        if segment not in self._not_consulted:
            self._not_consulted[segment] = tuple(self._missing(segment))
        return self._not_consulted[segment]

    def _missing(self, segment: str) -> Iterator[NotConsulted]:
        for unread in self.unread:
            yield NotConsulted(unread.label, f"{unread.where}: {unread.why}")
        versions = {subnet.version for subnet in self.plan.segments[segment].subnets}
        if (segment, min(versions, default=4)) not in self._told_of:
            yield NotConsulted("DHCP pools", "nothing is known of them; give --pool")
        kinds = {TELLS.get(c.kind) for c in self.claims} | {TELLS.get(u.label.split(" ")[0]) for u in self.unread}
        if not kinds & {"leases"}:
            yield NotConsulted("DHCP leases", "no source of them is named in the plan")
        if not kinds & {"records"}:
            yield NotConsulted("DNS records", "no source of them is named in the plan")

    def untidy(self) -> Iterator[tuple[Claims, Remark]]:
        """Remarks of the sources on entries that are not written cleanly."""
        for claims in self.claims:
            for remark in claims.untidy:
                yield claims, remark


def _planned(plan: Plan) -> Iterator[ReservationClaim]:
    """The reservations that the plan itself names."""
    for segment in plan.segments.values():
        place = Place(plan.file, segment.line)
        for mac, addresses in segment.reservations.items():
            for address in addresses:
                yield ReservationClaim(address, place, mac)


def _touches(pool: AddressRange, segment: Segment) -> bool:
    return any(
        s.version == pool.version and pool.first <= int(s.broadcast_address) and int(s.network_address) <= pool.last
        for s in segment.subnets
    )


def _overlaps(claim: SubnetClaim, segment: Segment) -> bool:
    return any(s.version == claim.network.version and s.overlaps(claim.network) for s in segment.subnets)
