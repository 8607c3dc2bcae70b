"""Picking the best free address of a segment, with the reason."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Sequence
from itertools import islice

import msgspec

from fixed_anchor.core.addresses import AddressRange, IPAddress
from fixed_anchor.core.errors import NoAccess, Refused
from fixed_anchor.core.knowledge import Knowledge
from fixed_anchor.core.plan import Segment
from fixed_anchor.core.rules.spoken_for import free_addresses
from fixed_anchor.vantages.protocol import Vantage
from fixed_anchor.workflow.network.look import look

#: How many candidates are probed together, and how many at most.
TOGETHER, MOST = 16, 64


class Picked(msgspec.Struct, frozen=True):
    """The address, and why it is the best one: each reason a sentence."""

    address: IPAddress
    reasons: tuple[str, ...]


def pick(
    known: Knowledge,
    segment: Segment,
    host: str,
    now: IPAddress,
    vantage: Vantage,
    ranges: Sequence[AddressRange] = (),
) -> Picked:
    """The best free address for ``host``, which has ``now``: nobody is known to have it, nobody answers for it,
    and it lies next to its likes; or the first such of ``ranges``, where there are any.

    Raises :class:`Refused` where there is none.
    """
    near, likes = next_to(known, segment, host, now)
    free = free_addresses(near, segment, known)
    if ranges:
        likes = f"the first free one of {', '.join(map(str, ranges))}"
        free = (a for one in ranges for a in _from(one, segment, known))
    candidates = islice((a for a in free if a != now), MOST)
    taken: list[str] = []
    while batch := list(islice(candidates, TOGETHER)):
        seen, how = _holders(vantage, batch)
        for address in batch:
            if seen.get(address):
                taken.append(f"{address} answered from {' and '.join(seen[address])}")
                continue
            return Picked(address, (*_reasons(known, segment, address), how(address), likes, *taken))
    raise Refused(
        f"no free address was found in {segment.name}",
        remedy="; ".join(taken) or "every address is in a pool, set aside, or known to be somebody's",
    )


def _from(within: AddressRange, segment: Segment, known: Knowledge) -> Iterator[IPAddress]:
    """The free addresses of a range, upwards."""
    first, _ = within.ends
    for address in free_addresses(first, segment, known):
        if int(address) > within.last:
            return
        if int(address) >= within.first:
            yield address


def _holders(vantage: Vantage, batch: list[IPAddress]) -> tuple[dict[IPAddress, list[str]], Callable[[IPAddress], str]]:
    """The MACs that answered for each; and of one for which nobody did, how it was asked for, in words."""
    if vantage.why_not is not None:
        return {}, lambda address: f"not probed: {vantage.why_not}"
    try:
        answers = look(vantage, batch).answers
    except NoAccess as error:
        why = error.what
        return {}, lambda address: f"not probed: {why}"
    # Who probes for one may be about to take it.
    seen = {t: [*(h.mac for h in a.holders), *a.probers] for t, a in answers.items()}
    return seen, lambda address: f"nobody answered {answers[address].asked}" if address in answers else "not probed"


def _reasons(known: Knowledge, segment: Segment, address: IPAddress) -> list[str]:
    """What was asked of the address before it was probed."""
    said = [f"{c.source}: {c.said}" for c in known.consulted(segment.name, address)]
    return [
        "given to nobody else in the plan",
        *said,
        *(f"not asked: {m.source}" for m in known.not_consulted(segment.name)),
    ]


def next_to(known: Knowledge, segment: Segment, host: str, now: IPAddress) -> tuple[IPAddress, str]:
    """Where to look for an address, and why there: beside hosts of the same kind, else beside any fixed one."""
    fixed: list[tuple[str, IPAddress]] = []
    for other in known.plan.hosts.values():
        if other.name != host:
            held = (h.address for i in other.interfaces if i.segment == segment.name for h in i.own)
            fixed += [(other.name, a) for a in held if a.version == now.version]
    for claims in known.claims:
        for record in claims.records:
            inside = segment.subnet_of(record.address) is not None
            if inside and record.address.version == now.version and record.name.partition(".")[0] != host:
                fixed.append((record.name.partition(".")[0], record.address))
    outside = [(n, a) for n, a in fixed if known.pool_of(segment.name, a) is None]
    same = [(n, a) for n, a in outside if _stem(n) == _stem(host)]
    for likes, words in ((same, "of its kind"), (outside, "with a fixed address")):
        if likes:
            name, address = max(likes, key=lambda pair: int(pair[1]))
            return address, f"next to {name} ({address}), the last one {words}"
    return now, f"the nearest to today's {now}"


def _stem(name: str) -> str:
    """The kind of a host by its name: `sonar-vm1` and `sonar-vm2` are of one."""
    return re.sub(r"[0-9]+", "", name.partition(".")[0].lower())
