"""Places to look from on a segment: the host itself, this machine, or another host of the plan that is reached there.

A second host sees what the first one cannot: whether others find it, and find it alone.
"""

from __future__ import annotations

import logging
from collections.abc import Iterator
from itertools import islice

import msgspec

from fixed_anchor.core.errors import AnchorError, NoAccess
from fixed_anchor.core.plan import HostPlan, InterfacePlan, Segment
from fixed_anchor.vantages.nowhere import Nowhere
from fixed_anchor.vantages.protocol import Vantage
from fixed_anchor.workflow.site import Site, own_vantage

_log = logging.getLogger(__name__)

#: So many hosts that were not asked yet are connected, to find one that can look.
_TRIES = 3
#: So many hosts that could look are named.
_NAMED = 3


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
    others = [other for other in _in_turn(site, host) if _is_reached_on(site, other, segment)]
    asked = [other for other in others if site.is_surveyed(other)]
    for other in asked:
        yield from _of_host(site, other, segment)
    if may_connect:
        fresh = (other for other in others if other not in asked and other.name not in site.unreached)
        for other in islice(fresh, _TRIES):
            yield from _of_host(site, other, segment)


def _in_turn(site: Site, host: HostPlan) -> list[HostPlan]:
    """The other hosts, beginning behind this one, so that not all look from the same."""
    hosts = list(site.plan.hosts.values())
    at = next((n for n, other in enumerate(hosts) if other.name == host.name), 0)
    return [*hosts[at + 1 :], *hosts[:at]]


def _is_reached_on(site: Site, host: HostPlan, segment: Segment) -> bool:
    if host.reach is None or not any(i.segment == segment.name for i in host.interfaces):
        return False
    machine = site.machine(host)
    return machine is not None and machine.running and machine is not site.here


def _of_host(site: Site, host: HostPlan, segment: Segment) -> Iterator[Neighbour]:
    machine = site.machine(host)
    try:
        survey = site.survey(host)
        found = survey.interface_in(segment.subnets) if survey is not None else None
        if machine is not None and found is not None and found.link.mac is not None:
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
    on_it = [h for h in site.plan.hosts.values() if any(i.segment == segment.name for i in h.interfaces)]
    down = [h.name for h in on_it if h.reach is not None and h.name in site.unreached and h is not host]
    not_reached = [h.name for h in (host, *(h for h in on_it if h is not host)) if h.reach is None]
    if down:
        return f"; {_some(down)} could, and does not answer"
    if not_reached:
        return f"; {_some(not_reached)} could: say `reach: ssh:{not_reached[0]}` in the plan, or check there as root"
    return "" if host.reach is None else f"; another host of {segment.name} could, with `reach:` in the plan"


def _some(names: list[str]) -> str:
    more = f" and {len(names) - _NAMED} more" if len(names) > _NAMED else ""
    return (" or " if not more else ", ").join(names[:_NAMED]) + more
