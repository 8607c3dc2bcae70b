"""Finding the neighbours that look at a host from beside while it is changed or verified."""

from __future__ import annotations

from fixed_anchor.core.errors import AnchorError
from fixed_anchor.core.plan import HostPlan
from fixed_anchor.core.survey import HostSurvey
from fixed_anchor.machines.protocol import Machine
from fixed_anchor.workflow.beside.neighbour_checks import NeighbourChecks, addresses_today
from fixed_anchor.workflow.beside.on_segment import neighbour_of
from fixed_anchor.workflow.reached.site import Site


def neighbours_of(
    site: Site, host: HostPlan, machine: Machine, survey: HostSurvey, may_connect: bool
) -> dict[str, NeighbourChecks]:
    """Somebody beside each interface of ``host`` in the plan, as far as there is anybody who is reached.

    Without ``may_connect`` only those count that were asked something before.
    """
    found: dict[str, NeighbourChecks] = {}
    try:
        port = machine.session.port()
    except AnchorError:
        port = None
    for interface in host.interfaces:
        neighbour = neighbour_of(site, host, site.plan.segments[interface.segment], may_connect)
        # A weaker look is not worth a rollback.
        if neighbour is not None and neighbour.vantage.frames is not None:
            own = survey.own_macs()
            found[interface.name] = NeighbourChecks(host.name, interface.name, own, neighbour, port)
    return found


def neighbours_before(site: Site, host: HostPlan, machine: Machine, survey: HostSurvey) -> dict[str, NeighbourChecks]:
    """Those that look at a host which is about to be changed; what they see of it today they have seen.

    For the machine on which this runs nobody is connected who was not anyway. Where the host has been until now is
    kept, so that it is found again there.
    """
    found = neighbours_of(site, host, machine, survey, may_connect=machine is not site.here)
    had = site.whereabouts.had.setdefault(host.name, [])
    for interface in host.interfaces:
        today = addresses_today(survey, interface.name)
        if interface.name in found:
            found[interface.name].before(today)
        had += [address for address in today if address not in had]
    return found
