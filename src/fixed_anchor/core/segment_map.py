"""The addresses of a segment as one picture: its stretches, who holds and gets what, what was seen, what clashes.

A map is a value made of facts and of their judgement; drawing only draws it. Nothing in it depends on the size of a
subnet: a /64 has as many stretches as there are claims in it.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from ipaddress import IPv4Address, IPv6Address
from itertools import pairwise

import msgspec

from fixed_anchor.core.addresses import AddressRange, IPAddress, IPNetwork
from fixed_anchor.core.claims import Claims
from fixed_anchor.core.facts import Facts
from fixed_anchor.core.findings import Judgement
from fixed_anchor.core.knowledge import Knowledge
from fixed_anchor.core.plan import Segment

#: What a stretch is: no host's (network and broadcast address), given out by DHCP, set aside by the plan, a host's of
#: the plan, somebody else's by a source, or nobody's.
EDGE, POOL, ASIDE, HOSTS, OTHERS, FREE = "edge", "pool", "set aside", "hosts", "others", "free"
_KINDS = (EDGE, POOL, ASIDE, HOSTS, OTHERS)


class Stretch(msgspec.Struct, frozen=True):
    """Contiguous addresses that are the same: ``words`` say by whom, where somebody says so."""

    range: AddressRange
    kind: str
    words: str = ""


class Mark(msgspec.Struct, frozen=True):
    """An address of a host of the plan: held now, planned, or both."""

    address: IPAddress
    host: str
    interface: str
    is_held: bool
    is_planned: bool


class Move(msgspec.Struct, frozen=True):
    """A host that leaves ``before`` for ``after``."""

    host: str
    before: IPAddress
    after: IPAddress


class Sighting(msgspec.Struct, frozen=True):
    """What was seen or is written of an address: ``kind`` is ``answers``, ``lease``, ``reserved`` or ``record``."""

    address: IPAddress
    kind: str
    words: str


class Conflict(msgspec.Struct, frozen=True):
    """An address of which the check found something that stops a change, by its codes."""

    address: IPAddress
    codes: tuple[str, ...]
    hosts: tuple[str, ...]


class Ruler(msgspec.Struct, frozen=True):
    """One subnet of a segment: its stretches cover it from the first to the last address, each address once."""

    subnet: IPNetwork
    stretches: tuple[Stretch, ...]
    marks: tuple[Mark, ...]
    moves: tuple[Move, ...]
    sightings: tuple[Sighting, ...]
    conflicts: tuple[Conflict, ...]

    @property
    def going(self) -> dict[tuple[str, IPAddress], IPAddress]:
        """Where a host that leaves an address goes, by the host and that address."""
        return {(move.host, move.before): move.after for move in self.moves}

    @property
    def coming(self) -> dict[tuple[str, IPAddress], IPAddress]:
        """Where a host that gets an address comes from, by the host and that address."""
        return {(move.host, move.after): move.before for move in self.moves}

    @property
    def noted(self) -> set[int]:
        """The addresses, as numbers, of which there is something to see."""
        return {int(one.address) for several in (self.marks, self.sightings, self.conflicts) for one in several}

    def address(self, number: int) -> IPAddress:
        """The address that a number is here."""
        return IPv4Address(number) if self.subnet.version == 4 else IPv6Address(number)

    def count(self, kind: str) -> int:
        """How many addresses are of a kind."""
        return sum(stretch.range.size for stretch in self.stretches if stretch.kind == kind)

    @property
    def free(self) -> tuple[AddressRange, ...]:
        """The stretches that are nobody's, in order."""
        return tuple(stretch.range for stretch in self.stretches if stretch.kind == FREE)


class SegmentMap(msgspec.Struct, frozen=True):
    """A segment with a ruler for each subnet; ``not_looked_at`` says what nobody asked, and why."""

    segment: str
    rulers: tuple[Ruler, ...]
    not_looked_at: tuple[str, ...] = ()


def segment_map(facts: Facts, judgement: Judgement, segment: Segment) -> SegmentMap:
    """The map of ``segment``, of what was gathered and judged."""
    rulers = tuple(_ruler(facts, judgement, segment, subnet) for subnet in segment.subnets)
    missing = [f"{one.source}: {one.why}" for one in facts.known.not_consulted(segment.name)]
    if facts.wire is None:
        missing.append("the wire: nobody was to look")
    elif not facts.wire.vantages.get(segment.name):
        missing.append("the wire: nobody looked from this segment")
    missing += [f"{name}: {error.what}" for name, error in facts.unreached.items() if _is_on(facts, name, segment)]
    return SegmentMap(segment.name, rulers, tuple(missing))


def _is_on(facts: Facts, host: str, segment: Segment) -> bool:
    planned = facts.plan.hosts.get(host)
    return planned is not None and any(i.segment == segment.name for i in planned.interfaces)


def _ruler(facts: Facts, judgement: Judgement, segment: Segment, subnet: IPNetwork) -> Ruler:
    marks = sorted(_marks(facts, segment, subnet), key=lambda mark: (int(mark.address), mark.host))
    sightings = sorted(set(_sightings(facts, subnet)), key=lambda one: (int(one.address), one.kind, one.words))
    parts = [
        *((pool, POOL, words) for pool, words in facts.known.pools(segment.name)),
        *((aside, ASIDE, "the plan") for aside in segment.set_aside),
        *_services(facts.known, segment, subnet),
        *_of_others(facts.known, sightings),
    ]
    return ruler_of(subnet, parts, marks, _moves(facts, segment, subnet), sightings, _conflicts(judgement, subnet))


def ruler_of(
    subnet: IPNetwork,
    parts: Iterable[tuple[AddressRange, str, str]] = (),
    marks: Iterable[Mark] = (),
    moves: Iterable[Move] = (),
    sightings: Iterable[Sighting] = (),
    conflicts: Iterable[Conflict] = (),
) -> Ruler:
    """The ruler of a subnet: its edges and its hosts' addresses are stretches beside ``parts`` (range, kind, words).

    ``marks``, ``sightings`` and ``conflicts`` are in the order of their addresses.
    """
    every = tuple(marks)
    hosts = ((_one(mark.address), HOSTS, mark.host) for mark in every)
    stretches = _stretches(subnet, [*_edges(subnet), *parts, *hosts])
    return Ruler(subnet, tuple(stretches), every, tuple(moves), tuple(sightings), tuple(conflicts))


def _one(address: IPAddress) -> AddressRange:
    return AddressRange(address.version, int(address), int(address))


def _edges(subnet: IPNetwork) -> Iterator[tuple[AddressRange, str, str]]:
    """RFC 1122, section 3.2.1.3; RFC 3021 has none for a /31; RFC 4291, section 2.6.1, has one for IPv6."""
    if subnet.prefixlen >= subnet.max_prefixlen - 1:
        return
    yield _one(subnet.network_address), EDGE, "network address" if subnet.version == 4 else "all routers"
    if subnet.version == 4:
        yield _one(subnet.broadcast_address), EDGE, "broadcast address"


def _stretches(subnet: IPNetwork, parts: Iterable[tuple[AddressRange, str, str]]) -> Iterator[Stretch]:
    """The subnet from end to end: the first of the kinds counts, of one kind who said it first."""
    begin, end = int(subnet.network_address), int(subnet.broadcast_address)
    inside = [
        (max(part.first, begin), min(part.last, end), _KINDS.index(kind), order, words)
        for order, (part, kind, words) in enumerate(parts)
        if part.version == subnet.version and part.first <= end and part.last >= begin
    ]
    cuts = sorted({begin, end + 1, *(first for first, *_ in inside), *(last + 1 for _, last, *_ in inside)})
    opening = sorted(inside)
    active: list[tuple[int, int, int, int, str]] = []
    place = 0
    pending: Stretch | None = None
    for first, following in pairwise(cuts):
        while place < len(opening) and opening[place][0] <= first:
            active.append(opening[place])
            place += 1
        active = [one for one in active if one[1] >= first]
        best = min(active, key=lambda one: (one[2], one[3]), default=None)
        kind, words = (_KINDS[best[2]], best[4]) if best is not None else (FREE, "")
        if pending is not None and (pending.kind, pending.words) == (kind, words):
            pending = Stretch(AddressRange(subnet.version, pending.range.first, following - 1), kind, words)
            continue
        if pending is not None:
            yield pending
        pending = Stretch(AddressRange(subnet.version, first, following - 1), kind, words)
    if pending is not None:
        yield pending


def _marks(facts: Facts, segment: Segment, subnet: IPNetwork) -> Iterator[Mark]:
    for host in facts.plan.hosts.values():
        survey = facts.surveys.get(host.name)
        for interface in host.interfaces:
            if interface.segment != segment.name:
                continue
            found = survey.interface(interface.name) if survey is not None else None
            held = {a.address.ip for a in found.addresses} if found is not None else set()
            planned = set(interface.every_address)
            for address in held | planned:
                if address in subnet and not address.is_link_local:
                    yield Mark(address, host.name, interface.name, address in held, address in planned)


def _moves(facts: Facts, segment: Segment, subnet: IPNetwork) -> Iterator[Move]:
    """From each address that goes to the one that comes in its place: the first of those that come."""
    for host in facts.plan.hosts.values():
        survey = facts.surveys.get(host.name)
        going = facts.going.get(host.name, frozenset())
        for interface in host.interfaces:
            found = survey.interface(interface.name) if survey is not None else None
            if found is None or interface.segment != segment.name:
                continue
            held = [a.address.ip for a in found.addresses]
            coming = [p.address for p in interface.own if p.address in subnet and p.address not in held]
            for address in held:
                if address in going and address in subnet and coming:
                    yield Move(host.name, address, coming[0])


def _sightings(facts: Facts, subnet: IPNetwork) -> Iterator[Sighting]:
    for claims in facts.known.claims:
        yield from _claimed(claims, subnet)
    if facts.wire is None:
        return
    for host in facts.hosts:
        for interface in host.interfaces:
            answers, _ = facts.wire.of((host.name, interface.name))
            for address, answer in answers.items():
                if address in subnet:
                    yield from (Sighting(address, "answers", holder.mac) for holder in answer.holders)


def _claimed(claims: Claims, subnet: IPNetwork) -> Iterator[Sighting]:
    for lease in claims.leases:
        if lease.address in subnet and lease.state == "active":
            yield Sighting(lease.address, "lease", lease.name or lease.mac or claims.label)
    for kept in claims.reservations:
        if kept.address in subnet:
            yield Sighting(kept.address, "reserved", kept.client or kept.mac or claims.label)
    for record in claims.records:
        if record.address in subnet:
            yield Sighting(record.address, "record", record.name)
    for row in claims.listed:
        first, _ = row.range.ends
        if row.range.size == 1 and first in subnet:
            yield Sighting(first, "record", row.name or row.mac or claims.label)


def _services(known: Knowledge, segment: Segment, subnet: IPNetwork) -> Iterator[tuple[AddressRange, str, str]]:
    """The gateways, resolvers and DHCP servers that the plan names, and whatever else of it is nobody's to take."""
    roles = {address: "the plan" for address in known.taken_by_plan}
    roles |= {address: "DHCP server" for address in segment.dhcp_servers or ()}
    roles |= {address: "resolver" for address in segment.resolvers}
    roles |= {gateway.address: "gateway" for gateway in segment.gateways}
    for address, role in roles.items():
        if address in subnet:
            yield _one(address), OTHERS, role


def _of_others(known: Knowledge, sightings: Iterable[Sighting]) -> Iterator[tuple[AddressRange, str, str]]:
    """What sources say of addresses; a range of a list is one stretch."""
    for one in sightings:
        yield _one(one.address), OTHERS, one.words
    for claims in known.claims:
        for row in claims.listed:
            if row.range.size > 1:
                yield row.range, OTHERS, row.name or claims.label


def _conflicts(judgement: Judgement, subnet: IPNetwork) -> Iterator[Conflict]:
    codes: dict[IPAddress, dict[str, None]] = {}
    hosts: dict[IPAddress, dict[str, None]] = {}
    make: type[IPv4Address] | type[IPv6Address] = IPv4Address if subnet.version == 4 else IPv6Address
    every = [*judgement.elsewhere, *(one for several in judgement.by_host.values() for one in several)]
    for found in every:
        if not found.stops or found.undetermined or found.address is None:
            continue
        try:
            address = make(found.address)
        except ValueError:
            continue
        if address in subnet:
            codes.setdefault(address, {})[found.code] = None
            hosts.setdefault(address, {}).update({found.host: None} if found.host else {})
    for address in sorted(codes, key=int):
        yield Conflict(address, tuple(codes[address]), tuple(hosts[address]))
