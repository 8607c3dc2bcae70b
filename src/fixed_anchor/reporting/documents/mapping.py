"""The document of ``map``: each segment with its stretches, hosts, moves, sightings and conflicts."""

from __future__ import annotations

from msgspec import Struct

from fixed_anchor.core.errors import printable
from fixed_anchor.core.segment_map import Ruler, SegmentMap
from fixed_anchor.reporting.documents.parts import Document


class MappedStretch(Struct, frozen=True):
    """Contiguous addresses of one kind, both ends included; ``size`` is exact, and may be large."""

    first: str
    last: str
    size: int
    kind: str
    words: str


class MappedHost(Struct, frozen=True):
    """An address of a host of the plan."""

    address: str
    host: str
    interface: str
    held: bool
    planned: bool


class MappedMove(Struct, frozen=True):
    """A host that leaves one address for another."""

    host: str
    before: str
    after: str


class MappedSighting(Struct, frozen=True):
    """What answers for an address, or what a source has of it."""

    address: str
    kind: str
    words: str


class MappedConflict(Struct, frozen=True):
    """An address of which something was found that stops a change."""

    address: str
    codes: list[str]
    hosts: list[str]


class MappedSubnet(Struct, frozen=True):
    """One subnet; its stretches cover it from end to end."""

    subnet: str
    stretches: list[MappedStretch]
    hosts: list[MappedHost]
    moves: list[MappedMove]
    sightings: list[MappedSighting]
    conflicts: list[MappedConflict]


class MappedSegment(Struct, frozen=True):
    """One segment; ``not_asked`` says what nobody looked at, and why."""

    segment: str
    subnets: list[MappedSubnet]
    not_asked: list[str]


class MapDocument(Document, kw_only=True):
    """What ``map`` prints with ``--json``."""

    plan: str | None = None
    segments: list[MappedSegment] = []


def mapped(found: SegmentMap) -> MappedSegment:
    """A segment as a part of the document."""
    return MappedSegment(
        found.segment, [_subnet(one) for one in found.rulers], list(map(printable, found.not_looked_at))
    )


def _subnet(ruler: Ruler) -> MappedSubnet:
    stretches = []
    for one in ruler.stretches:
        first, last = one.range.ends
        stretches.append(MappedStretch(str(first), str(last), one.range.size, one.kind, printable(one.words)))
    return MappedSubnet(
        str(ruler.subnet),
        stretches,
        [MappedHost(str(m.address), m.host, m.interface, m.is_held, m.is_planned) for m in ruler.marks],
        [MappedMove(m.host, str(m.before), str(m.after)) for m in ruler.moves],
        [MappedSighting(str(one.address), one.kind, printable(one.words)) for one in ruler.sightings],
        [MappedConflict(str(one.address), list(one.codes), list(one.hosts)) for one in ruler.conflicts],
    )
