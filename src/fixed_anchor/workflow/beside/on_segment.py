"""Places to look from on a segment: the host itself, this machine, or another host of the plan that is reached there.

A second host sees what the first one cannot: whether others find it, and find it alone.
"""

from __future__ import annotations

import logging
from bisect import bisect_right
from collections.abc import Iterator, Sequence
from itertools import islice

import msgspec

from fixed_anchor.core.errors import AnchorError, NoAccess
from fixed_anchor.core.plan import HostPlan, InterfacePlan, Segment
from fixed_anchor.vantages.nowhere import Nowhere
from fixed_anchor.vantages.protocol import Vantage
from fixed_anchor.workflow.reached.site import Site, own_vantage

_log = logging.getLogger(__name__)

#: So many hosts that were not asked yet are connected, to find one that can look.
_TRIES = 3
#: So many hosts that could look are named.
_NAMED = 3
#: So many hosts behind one in the plan are thought of: of very many all is not tried for each.
_NEAR = 50


class Neighbour(msgspec.Struct, frozen=True):
    """A host that is reached, by its name, and its vantage on a segment."""

    host: str
    vantage: Vantage


def vantage_for(site: Site, host: HostPlan, interface: InterfacePlan) -> Vantage:
    """The vantage for ``interface`` of ``host``; or why there is none, and who could give one.

    Where the host itself cannot be asked, this machine or another host that is reached on the segment looks in its
    stead.
    """
    segment = site.plan.segments[interface.segment]
    machine = site.machine(host)
    own = own_vantage(machine, site.survey(host), interface.name) if machine is not None else None
    can_look = own is not None and (own.why_not is None or not own.has_neighbours)
    if machine is not None and own is not None and can_look and not machine.is_afar:
        return own
    neighbour = neighbour_of(site, host, segment)
    if neighbour is not None:
        return neighbour.vantage
    why = own.why_not if own is not None else None
    why = why or f"this machine is not {host.name}, and has no address on its segment"
    return Nowhere(why + _who_could(site, host, segment))


def neighbour_of(site: Site, host: HostPlan, segment: Segment, may_connect: bool = True) -> Neighbour | None:
    """Somebody on ``segment`` who is not ``host``: this machine, else a host of the plan that is reached.

    Hosts look for one another in turn, and those that send frames come first. Without ``may_connect`` only those
    are asked that have been asked before.
    """
    best: Neighbour | None = None
    for found in _candidates(site, host, segment, may_connect):
        if found.vantage.frames is not None:
            return found
        best = best or found
    return best


def _candidates(site: Site, host: HostPlan, segment: Segment, may_connect: bool) -> Iterator[Neighbour]:
    if site.here.running and site.machine(host) is not site.here:
        here = site.here_survey()
        found = here.interface_in(segment.subnets)
        if found is not None and found.link.mac is not None:
            yield from _usable(site.here.name, site.here.vantage(found))
    others = site.reached_on(segment.name)
    near = list(islice(_in_turn(others, host), _NEAR))
    fresh = [other for other in near if not site.is_surveyed(other) and other.name not in site.unreached]
    for other in near:
        if site.is_surveyed(other):
            yield from _of_host(site, other, segment)
    for other in fresh[:_TRIES] if may_connect else ():
        yield from _of_host(site, other, segment)


def _in_turn(hosts: Sequence[HostPlan], host: HostPlan) -> Iterator[HostPlan]:
    """The other hosts, beginning behind this one, so that not all look from the same."""
    at = bisect_right(hosts, host.line, key=lambda other: other.line)
    for number in range(len(hosts)):
        other = hosts[(at + number) % len(hosts)]
        if other is not host:
            yield other


def _of_host(site: Site, host: HostPlan, segment: Segment) -> Iterator[Neighbour]:
    machine = site.machine(host)
    if machine is None or not machine.running or machine is site.here:
        return
    try:
        survey = site.survey(host)
        found = survey.interface_in(segment.subnets) if survey is not None else None
        if found is not None and found.link.mac is not None:
            yield from _usable(host.name, machine.vantage(found))
    except NoAccess as error:
        site.unreached.setdefault(host.name, error)
        _log.info("%s cannot look at %s: %s", host.name, segment.name, error)
    except AnchorError as error:
        _log.info("%s cannot look at %s: %s", host.name, segment.name, error)


def _usable(name: str, vantage: Vantage) -> Iterator[Neighbour]:
    if vantage.why_not is None and vantage.has_neighbours:
        yield Neighbour(name, vantage)


def _who_could(site: Site, host: HostPlan, segment: Segment) -> str:
    """The next step: whom to reach, or why those that are reached do not look."""
    down = [h.name for h in islice(_in_turn(site.reached_on(segment.name), host), _NEAR) if h.name in site.unreached]
    if down:
        return f"; {_some(down)} could, and does not answer"
    own = [host.name] if host.reach is None else []
    others = [h.name for h in islice(site.not_reached_on(segment.name), _NAMED + 1) if h is not host]
    if own or others:
        names = [*own, *others]
        return f"; {_some(names)} could: say `reach: ssh:{names[0]}` in the plan, or check there as root"
    return f"; another host of {segment.name} could, with `reach:` in the plan"


def _some(names: list[str]) -> str:
    return " or ".join(names[:_NAMED]) + (" or others" if len(names) > _NAMED else "")
