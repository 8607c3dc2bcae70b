"""Where a host may be that answers neither by its own name nor at the addresses of its plan.

A host that went back to DHCP has the address that its server chose. Whoever answers at one of those that are told
here is still to be proven the host, by its key and its MAC.
"""

from __future__ import annotations

import logging
import threading
import time
from collections.abc import Iterable, Iterator
from functools import partial
from ipaddress import IPv4Address

from fixed_anchor import machines
from fixed_anchor.core.addresses import IPAddress
from fixed_anchor.core.config import LinkFacts
from fixed_anchor.core.errors import AnchorError
from fixed_anchor.core.plan import HostPlan, Plan, Segment
from fixed_anchor.machines.protocol import Machine
from fixed_anchor.machines.seat import OtherPlaces, Seat, nowhere_else
from fixed_anchor.observe.stocktaking import take_stock
from fixed_anchor.packets.arp_probes import QUICKLY
from fixed_anchor.vantages.protocol import Vantage
from fixed_anchor.workflow.network.look import look

_log = logging.getLogger(__name__)

#: Seconds for which a look at a segment counts; a host that boots answers the next one.
_COUNTS = 10.0
#: Seconds after which somebody who can look is sought once more.
_AGAIN = 3.0
#: So many addresses of a segment are asked for at most, and so many hosts tried that could ask.
_MOST, _TRIES = 4096, 3


class Whereabouts:
    """Looks hosts up: safe to be used by several threads, and by connections that are being made."""

    def __init__(self, plan: Plan, here: Machine, seat: Seat) -> None:
        self._plan, self._here, self._seat = plan, here, seat
        #: Addresses that a host is known to have had.
        self.had: dict[str, list[IPAddress]] = {}
        #: Whether whole segments are asked for a host's MAC: for commands about changes, which hosts may come from.
        self.asks_segments = False
        self._lock = threading.Lock()
        self._seen: dict[str, tuple[float, list[tuple[IPAddress, str, str]]]] = {}
        self._lookouts: dict[str, tuple[str, Vantage] | None] = {}
        #: When it was last sought for somebody who looks.
        self._nobody: dict[str, float] = {}

    def of(self, host: HostPlan) -> OtherPlaces:
        """Tells where ``host`` may be: the likeliest first, each looked up when it is wanted."""
        return partial(self._of, host)

    def _of(self, host: HostPlan) -> Iterator[tuple[IPAddress, str]]:
        for address in self.had.get(host.name, ()):
            yield address, "which it had before"
        macs = frozenset(i.mac for i in host.interfaces if i.mac is not None)
        if not macs:
            return
        yield from self._in_sources(macs)
        if self.asks_segments:
            for name in dict.fromkeys(i.segment for i in host.interfaces):
                segment = self._plan.segments[name]
                # Who was not heard once is looked for once more: a host that is busy answers late.
                for counts in (_COUNTS, 0.0):
                    seen = [one for one in self._on(segment, host, time.monotonic() - counts) if one[1] in macs]
                    for address, mac, seen_by in seen:
                        yield address, f"found by its MAC {mac} from {seen_by}"
                    if seen:
                        break

    def _in_sources(self, macs: frozenset[str]) -> Iterator[tuple[IPAddress, str]]:
        # Every kind of source is loaded with it; most hosts answer where the plan says.
        from fixed_anchor.workflow.reached.sources import read_sources

        claims, _ = read_sources(self._plan)
        for source in claims:
            for reservation in source.reservations:
                if reservation.mac in macs:
                    yield reservation.address, f"reserved for it in {reservation.place}"
        now = int(time.time())
        for source in claims:
            for lease in source.leases:
                if lease.mac in macs and lease.holds(now):
                    yield lease.address, f"leased to it by {lease.place}"

    def _on(self, segment: Segment, host: HostPlan, since: float) -> list[tuple[IPAddress, str, str]]:
        """Who is on a segment, by a look that ended after ``since``: each address with its MAC, and from where."""
        with self._lock:
            at, seen = self._seen.get(segment.name, (0.0, []))
            if at >= since and segment.name in self._seen:
                return seen
            found = self._sweep(segment, host)
            self._seen[segment.name] = time.monotonic(), found
            return found

    def _sweep(self, segment: Segment, host: HostPlan) -> list[tuple[IPAddress, str, str]]:
        lookout = self._lookout(segment, host)
        if lookout is None:
            _log.info("nobody on %s can be asked for %s", segment.name, host.name)
            return []
        name, vantage = lookout
        four = (a for s in segment.subnets if s.version == 4 for a in s.hosts())
        targets = [a for a, _ in zip(four, range(_MOST), strict=False) if isinstance(a, IPv4Address)]
        try:
            looked = look(vantage, targets, pattern=QUICKLY, in_use=targets)
        except AnchorError as error:
            _log.info("%s cannot look for %s: %s", name, host.name, error)
            self._lookouts.pop(segment.name, None)
            self._nobody.pop(segment.name, None)
            return []
        return [(a, holder.mac, name) for a, answer in looked.answers.items() for holder in answer.holders]

    def _lookout(self, segment: Segment, host: HostPlan) -> tuple[str, Vantage] | None:
        began = time.monotonic()
        # Where nobody could look some time ago, somebody may by now.
        if self._lookouts.get(segment.name) is None and began - self._nobody.get(segment.name, -_AGAIN) >= _AGAIN:
            self._lookouts[segment.name] = next(iter(self._candidates(segment, host)), None)
            self._nobody[segment.name] = began
        return self._lookouts.get(segment.name)

    def _candidates(self, segment: Segment, host: HostPlan) -> Iterable[tuple[str, Vantage]]:
        if self._here.running:
            yield from self._usable(self._here.name, self._here, segment, ())
        tries = 0
        for other in self._plan.hosts.values():
            if other is host or other.reach is None or all(i.segment != segment.name for i in other.interfaces):
                continue
            if (tries := tries + 1) > _TRIES:
                break
            # A connection of its own, which looks for nobody: two hosts that are lost must not wait for each other.
            try:
                machine = machines.reach(self._plan, other, self._seat, nowhere_else)
            except AnchorError:
                continue
            planned = tuple(LinkFacts(i.name, i.mac, i.mac) for i in other.interfaces)
            if machine is not None and machine.running:
                yield from self._usable(other.name, machine, segment, planned)

    @staticmethod
    def _usable(
        name: str, machine: Machine, segment: Segment, planned: tuple[LinkFacts, ...]
    ) -> Iterator[tuple[str, Vantage]]:
        try:
            survey = take_stock(machine, beside=False, planned=planned)
            found = survey.interface_in(segment.subnets)
            vantage = machine.vantage(found) if found is not None and found.link.mac is not None else None
        except AnchorError as error:
            _log.info("%s cannot look at %s: %s", name, segment.name, error)
            return
        if vantage is not None and vantage.why_not is None:
            yield name, vantage
