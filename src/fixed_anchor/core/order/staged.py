"""The plan of one turn: in a host's first change it differs from the whole plan by addresses that others still hold."""

from __future__ import annotations

import msgspec

from fixed_anchor.core.order.turn import Turn
from fixed_anchor.core.plan import HostPlan, InterfacePlan, Plan, PlannedAddress
from fixed_anchor.core.survey import HostSurvey


def staged(plan: Plan, turn: Turn, survey: HostSurvey) -> Plan:
    """``plan`` as it is for ``turn``, whose host is as ``survey`` has it; the same plan where nothing differs.

    Parking addresses stand in the place of planned ones, and those that stay beside are held as well.
    """
    if not turn.beside and not turn.parked:
        return plan
    host = plan.hosts[turn.host]
    interfaces = tuple(_interface(interface, turn, survey) for interface in host.interfaces)
    changed: HostPlan = msgspec.structs.replace(host, interfaces=interfaces)
    made: Plan = msgspec.structs.replace(plan, hosts={**plan.hosts, turn.host: changed})
    return made


def _interface(interface: InterfacePlan, turn: Turn, survey: HostSurvey) -> InterfacePlan:
    found = survey.interface(interface.name)
    addresses = found.addresses if found is not None else ()
    hold = [
        PlannedAddress(turn.parked.get(held.address, held.address), held.prefix)
        if held.address in turn.parked
        else held
        for held in interface.hold
    ]
    hold += [
        PlannedAddress(one.address.ip, one.address.network.prefixlen)
        for one in addresses
        if one.address.ip in turn.beside and one.address.ip not in {h.address for h in hold}
    ]
    made: InterfacePlan = msgspec.structs.replace(interface, hold=tuple(hold))
    return made
