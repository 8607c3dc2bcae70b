"""Gathering what a check judges: the hosts are looked at, the sources read, the wire asked, files searched. Once."""

from __future__ import annotations

import logging
import time
from collections.abc import Iterable, Mapping

import msgspec

from fixed_anchor.core.addresses import AddressRange, IPAddress
from fixed_anchor.core.elsewhere import Elsewhere
from fixed_anchor.core.errors import AnchorError
from fixed_anchor.core.facts import CarriedEvidence, Facts
from fixed_anchor.core.foreseen import going_from
from fixed_anchor.core.knowledge import Knowledge
from fixed_anchor.core.plan import HostPlan
from fixed_anchor.core.readiness import Readiness
from fixed_anchor.core.rules.gateways import gateway_findings
from fixed_anchor.core.rules.old_address import addresses_gone
from fixed_anchor.core.survey import HostSurvey
from fixed_anchor.core.wanted import wanted_config
from fixed_anchor.machines.protocol import Machine
from fixed_anchor.workflow.beside.site_wire import look_at_wire
from fixed_anchor.workflow.check import cases
from fixed_anchor.workflow.evidence import MAX_AGE, SavedEvidence
from fixed_anchor.workflow.evidence_bound import refuse_unless_about
from fixed_anchor.workflow.reached.at_once import at_once
from fixed_anchor.workflow.reached.site import Site
from fixed_anchor.workflow.reached.sources import read_sources
from fixed_anchor.workflow.targets import target_of

_log = logging.getLogger(__name__)


def gather(
    site: Site,
    host_names: tuple[str, ...] = (),
    pools: tuple[AddressRange, ...] = (),
    wire: bool = True,
    carried: SavedEvidence | None = None,
) -> Facts:
    """What there is to be judged of the hosts of the plan (all, or those named).

    ``pools`` are DHCP pools told on the command line. Without ``wire`` nobody looks there. ``carried`` is saved
    evidence, for sources that cannot be read here. Raises :class:`Refused` where that is about something else.
    """
    plan, hosts = site.plan, tuple(site.hosts(host_names))
    site.look_at(hosts)
    surveys = {h.name: survey for h in hosts if (survey := site.survey(h)) is not None}
    if carried is not None:
        for host in hosts:
            refuse_unless_about(carried.about, plan, host, carried.path)
    claims, unread = read_sources(plan, carried.claims if carried is not None else None)
    seen = look_at_wire(site, [(h, i) for h in hosts for i in h.interfaces]) if wire else None
    named = seen.names if seen is not None else []
    now = int(time.time())
    machines = {h.name: machine for h in hosts if (machine := site.machine(h)) is not None}
    going = {h.name: _going(site, h, surveys[h.name]) for h in hosts if h.name in surveys}
    facts = Facts(
        hosts,
        Knowledge(plan, [*claims, *named], pools, unread, now),
        surveys,
        {h.name: site.unreached[h.name] for h in hosts if h.name in site.unreached},
        _sessions(machines),
        _readiness(machines),
        seen,
        going,
        _search(site, going),
    )
    if carried is not None:
        claims, unread = read_sources(plan)
        limit = MAX_AGE if carried.is_old(now) else None
        without = Knowledge(plan, [*claims, *named], pools, unread, now)
        facts = msgspec.structs.replace(facts, carried=CarriedEvidence(carried.path, carried.age(now), limit, without))
    if any(found for case in cases(facts) for found in gateway_findings(case)):
        # Only where a gateway is doubted it is asked who has it in force.
        facts = msgspec.structs.replace(facts, around=tuple(_surveys(site)))
    return facts


def _going(site: Site, host: HostPlan, survey: HostSurvey) -> frozenset[IPAddress]:
    """The addresses of today that the host would not hold any more."""
    wanted = {i.name: wanted_config(site.plan, i) for i in host.touched if survey.interface(i.name) is not None}
    return frozenset(going_from(host, survey, wanted))


def _sessions(machines: Mapping[str, Machine]) -> dict[str, IPAddress]:
    found = {name: machine.session.address() for name, machine in machines.items()}
    return {name: address for name, address in found.items() if address is not None}


def _readiness(machines: Mapping[str, Machine]) -> dict[str, Readiness]:
    found = {name: target_of(machine).readiness() for name, machine in machines.items()}
    return {name: readiness for name, readiness in found.items() if readiness is not None}


def _search(site: Site, going: Mapping[str, frozenset[IPAddress]]) -> dict[str, Elsewhere | AnchorError]:
    """Looks on every host of the plan that is reached for what still uses the addresses that go."""
    if not any(going.values()):
        return {}
    gone = addresses_gone(site.plan, going)

    def search(host: HostPlan) -> Elsewhere | None:
        own = going.get(host.name, frozenset())
        others = [a for a, name in gone.items() if name != host.name]
        machine = site.machine(host) if own or others else None
        if machine is None:
            return None
        _log.info("searching %s for addresses that go", host.name)
        return target_of(machine).elsewhere(own, others)

    hosts = list(site.plan.hosts.values())
    found = zip(hosts, at_once(hosts, search, site.at_once), strict=True)
    return {host.name: one for host, one in found if one is not None}


def _surveys(site: Site) -> Iterable[HostSurvey]:
    """Every host of the plan that can be looked at."""
    site.look_at(site.plan.hosts.values())
    surveys = (site.survey(host) for host in site.plan.hosts.values())
    return (survey for survey in surveys if survey is not None)
