"""All findings of a plan, with the evidence for every address."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterable, Mapping
from functools import cache, partial

import msgspec

from fixed_anchor.change.change import Draft
from fixed_anchor.core.addresses import AddressRange, IPAddress
from fixed_anchor.core.findings import (
    Consulted,
    Evidence,
    Finding,
    Judgement,
    NotConsulted,
    sorted_findings,
    without_lesser,
)
from fixed_anchor.core.foreseen import Foreseen
from fixed_anchor.core.knowledge import Knowledge
from fixed_anchor.core.plan import HostPlan, InterfacePlan, Plan
from fixed_anchor.core.rules.clones import clone_findings
from fixed_anchor.core.rules.declared import CODES, declared_findings
from fixed_anchor.core.rules.evidence import age_findings, rests_on_evidence
from fixed_anchor.core.rules.gateways import gateway_findings, told_by_sources
from fixed_anchor.core.rules.host import host_findings, not_reached
from fixed_anchor.core.rules.plan import plan_findings
from fixed_anchor.core.rules.prefixes import prefix_findings
from fixed_anchor.core.rules.readiness import readiness_findings
from fixed_anchor.core.rules.spoken_for import knowledge_findings, segment_findings, source_findings
from fixed_anchor.core.rules.survey import of_change
from fixed_anchor.core.rules.wire import (
    WireAnswer,
    resolver_findings,
    server_findings,
    switched_off,
    wire_findings,
)
from fixed_anchor.core.survey import HostSurvey
from fixed_anchor.core.times import utc
from fixed_anchor.workflow.beside.site_wire import SiteWire, gateways_asked, look_at_wire
from fixed_anchor.workflow.dhcp_server import with_reservation_lines
from fixed_anchor.workflow.evidence import MAX_AGE, SavedEvidence
from fixed_anchor.workflow.evidence_bound import refuse_unless_about
from fixed_anchor.workflow.old_address import old_address_findings
from fixed_anchor.workflow.reached.site import Site
from fixed_anchor.workflow.reached.sources import read_sources
from fixed_anchor.workflow.targets import target_of

Job = tuple[HostPlan, InterfacePlan]

#: The codes of what is said of the files that a draft shows.
OF_DRAFTS = CODES


class Checked(msgspec.Struct, frozen=True):
    """The outcome of a check, and what it went by: for a second look, and to be saved."""

    result: Judgement
    known: Knowledge


def check(
    site: Site,
    host_names: tuple[str, ...] = (),
    told_pools: tuple[AddressRange, ...] = (),
    wire: bool = True,
    carried: SavedEvidence | None = None,
    drafts: Mapping[str, Draft] | None = None,
) -> Judgement:
    """Checks the hosts of the plan (all, or those named); see :func:`check_with_knowledge`."""
    return check_with_knowledge(site, host_names, told_pools, wire, carried, drafts).result


def check_with_knowledge(
    site: Site,
    host_names: tuple[str, ...] = (),
    told_pools: tuple[AddressRange, ...] = (),
    wire: bool = True,
    carried: SavedEvidence | None = None,
    drafts: Mapping[str, Draft] | None = None,
) -> Checked:
    """Checks the hosts of the plan (all, or those named).

    ``told_pools`` are DHCP pools told on the command line. Without ``wire`` every address stays
    undetermined. ``carried`` is saved evidence, for sources that cannot be read here. ``drafts`` are those that are
    made by now, by host: they are what is judged. Raises :class:`Refused` where ``carried`` is about something else.
    """
    plan = site.plan
    chosen = site.hosts(host_names)
    names = {h.name for h in chosen}
    jobs: list[Job] = [(h, i) for h in chosen for i in h.interfaces]
    site.look_at(chosen)
    surveys = {h.name: site.survey(h) for h in chosen}
    machines = {h.name: site.machine(h) for h in chosen}
    sessions = {name: machine.session_address() if machine is not None else None for name, machine in machines.items()}
    if carried is not None:
        for host in chosen:
            refuse_unless_about(carried.about, plan, host, carried.path)
    claims, unread = read_sources(plan, carried.claims if carried is not None else None)
    seen = look_at_wire(site, jobs) if wire else SiteWire("switched off with --no-wire")
    known = Knowledge(plan, [*claims, *seen.names], told_pools, unread, int(time.time()))
    findings: list[Finding] = [f for f in plan_findings(plan) if f.host is None or f.host in names]
    findings += [not_reached(plan, host, site.unreached[host.name]) for host in chosen if host.name in site.unreached]
    findings += source_findings(known)
    for name in dict.fromkeys(i.segment for _, i in jobs):
        findings += _of_segment(known, name, seen)
        findings += resolver_findings(plan.segments[name], seen.silent)
    if carried is not None:
        findings += _of_carried(carried, plan, jobs, surveys, seen, known, told_pools)
    twice = frozenset(f.address for f in findings if f.code == "held-twice")
    if not wire:
        findings += switched_off(jobs)
    told_gateways = {name: told_by_sources(known, segment) for name, segment in plan.segments.items()}
    fine: set[tuple[str, str, str]] = set()
    gather: list[Callable[[], Iterable[Evidence]]] = []
    for host, interface in jobs:
        survey = surveys[host.name]
        own = survey.own_macs() if survey else frozenset((interface.mac,)) if interface.mac else _NO_MACS
        answers, why_not = seen.of((host.name, interface.name))
        second = seen.second((host.name, interface.name))
        here = survey.interface(interface.name) if survey is not None else None
        findings += prefix_findings(plan, host, interface, here, seen.servers.get(interface.segment, ()))
        findings += _of_interface(known, host, interface, survey)
        servers, told = seen.servers.get(interface.segment, ()), told_gateways[interface.segment]
        # Where the sources alone know better, what is said of a segment's gateways is the same for all its hosts.
        is_usual = here is None and not servers and interface.gateways is None
        usual = (interface.segment, interface.ipv4, interface.ipv6)
        if not (is_usual and usual in fine):
            differing = list(gateway_findings(known, host, interface, here, servers, told, partial(_surveys, site)))
            findings += differing
            if is_usual and not differing:
                fine.add(usual)
        if wire and (host.name, interface.name) not in seen.without_neighbours:
            telling = seen.most_telling((host.name, interface.name), own)
            findings += wire_findings(host, interface, gateways_asked(plan, interface), telling, own, why_not)
        if survey is not None:
            findings += host_findings(plan, host, interface, survey, sessions[host.name])
            alone = tuple(map(str, interface.leave_alone))
            findings += (msgspec.structs.replace(f, host=host.name) for f in of_change(survey, interface.name, alone))
        gather.append(partial(_evidence, host, interface, known, survey, seen, answers, second, why_not, own, twice))
    findings += clone_findings({name: survey for name, survey in surveys.items() if survey is not None})
    foreseen: dict[str, Foreseen] = {}
    for host in chosen:
        machine, survey = machines[host.name], surveys[host.name]
        if machine is None:
            continue
        target = target_of(machine)
        now = target.readiness()
        if now is not None:
            changing = (i.name for i in host.interfaces if i.ipv4 != "untouched" or i.ipv6 != "untouched")
            findings += readiness_findings(now, tuple(changing), host.name)
        if survey is not None:
            foreseen[host.name] = target.foresee(plan, host, survey, (drafts or {}).get(host.name))
            findings += declared_findings(host, survey, foreseen[host.name])
    findings += list(old_address_findings(site, known, foreseen, findings))
    findings = with_reservation_lines(site, known, findings)
    segments = {host.name: frozenset(i.segment for i in host.interfaces) for host in chosen}
    gathered = sorted_findings(without_lesser(findings))
    result = Judgement(gathered, lambda: (e for one in gather for e in one()), segments, seen.vantages)
    return Checked(result, known)


def _surveys(site: Site) -> Iterable[HostSurvey]:
    """Every host of the plan that can be looked at."""
    site.look_at(site.plan.hosts.values())
    surveys = (site.survey(host) for host in site.plan.hosts.values())
    return (survey for survey in surveys if survey is not None)


def _of_segment(known: Knowledge, name: str, seen: SiteWire) -> list[Finding]:
    """What follows for a segment from what is known of addresses."""
    segment = known.plan.segments[name]
    return [*segment_findings(known, segment), *server_findings(segment, known, seen.servers.get(name, ()))]


def _of_interface(
    known: Knowledge, host: HostPlan, interface: InterfacePlan, survey: HostSurvey | None
) -> list[Finding]:
    """The same for an interface."""
    found = survey.interface(interface.name) if survey else None
    leased = found.leased_addresses() if found else ()
    held = tuple(a.address.ip for a in found.addresses) if found else ()
    return list(knowledge_findings(known, host, interface, leased, held))


def _of_carried(
    carried: SavedEvidence,
    plan: Plan,
    jobs: list[Job],
    surveys: dict[str, HostSurvey | None],
    seen: SiteWire,
    known: Knowledge,
    told_pools: tuple[AddressRange, ...],
) -> list[Finding]:
    """How old the evidence is, and what rests on it alone: what stops the change with what can be read here."""
    now = int(time.time())
    claims, unread = read_sources(plan)
    by_itself = Knowledge(plan, [*claims, *seen.names], told_pools, unread, now)

    def said(knowledge: Knowledge) -> list[Finding]:
        found = list(source_findings(knowledge))
        for name in dict.fromkeys(i.segment for _, i in jobs):
            found += _of_segment(knowledge, name, seen)
        for host, interface in jobs:
            found += _of_interface(knowledge, host, interface, surveys[host.name])
        return found

    findings = list(rests_on_evidence(carried.path, said(by_itself), said(known)))
    if carried.is_old(now):
        for host in dict.fromkeys(host.name for host, _ in jobs):
            findings += age_findings(carried.path, carried.age(now), MAX_AGE, host)
    return findings


_NO_MACS: frozenset[str] = frozenset()


def _evidence(
    host: HostPlan,
    interface: InterfacePlan,
    known: Knowledge,
    survey: HostSurvey | None,
    seen: SiteWire,
    answers: dict[IPAddress, WireAnswer],
    second: dict[IPAddress, WireAnswer],
    why_not: dict[IPAddress, str],
    own: frozenset[str],
    twice: frozenset[str | None],
) -> Iterable[Evidence]:
    servers = tuple(
        Consulted("DHCP servers on the wire", str(server), server.at)
        for server in seen.servers.get(interface.segment, ())
    )
    unasked = known.not_consulted(interface.segment)
    for address in interface.every_address:
        shown = str(address)
        consulted = (_given(shown in twice, known.plan.file), *known.consulted(interface.segment, address))
        if survey is not None and survey.running:
            is_own = address in survey.own_addresses()
            said = "the host holds it now" if is_own else "the host does not hold it now"
            consulted = (*consulted, Consulted(f"kernel of {survey.host}", said, utc()))
        looks = tuple(looks[address].consulted(own) for looks in (answers, second) if address in looks)
        unlooked = () if looks else (_not_asked(why_not.get(address, seen.why)),)
        yield Evidence(shown, host.name, interface.name, (*consulted, *looks, *servers), (*unasked, *unlooked))


@cache
def _given(twice: bool, plan_file: str) -> Consulted:
    said = "given to another interface too" if twice else "given to nobody else"
    return Consulted("addressing plan", said, plan_file)


@cache
def _not_asked(why: str) -> NotConsulted:
    return NotConsulted("wire", why)
