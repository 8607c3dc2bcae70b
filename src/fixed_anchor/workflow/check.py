"""All findings of a plan, with the evidence for every address."""

from __future__ import annotations

import time
from collections.abc import Iterable
from ipaddress import IPv4Address

import msgspec

from fixed_anchor.core.addresses import AddressRange, IPAddress
from fixed_anchor.core.errors import NoAccess
from fixed_anchor.core.findings import (
    CheckResult,
    Consulted,
    Evidence,
    Finding,
    NotConsulted,
    finding,
    sorted_findings,
)
from fixed_anchor.core.plan import HostPlan, InterfacePlan
from fixed_anchor.core.rules.host import host_findings
from fixed_anchor.core.rules.knowledge import SegmentKnowledge, knowledge_findings, segment_knowledge
from fixed_anchor.core.rules.plan import plan_findings
from fixed_anchor.core.rules.wire import Holder, WireAnswer, wire_findings
from fixed_anchor.core.survey import HostSurvey
from fixed_anchor.core.wanted import gateways_of
from fixed_anchor.observe.session import session_address
from fixed_anchor.packets.conversation import ArpProbes
from fixed_anchor.vantages.protocol import Vantage
from fixed_anchor.workflow.site import Site

Job = tuple[HostPlan, InterfacePlan]


def check(
    site: Site,
    host_names: tuple[str, ...] = (),
    told_pools: tuple[AddressRange, ...] = (),
    look_at_wire: bool = True,
) -> CheckResult:
    """Checks the hosts of the plan (all, or those named).

    ``told_pools`` are DHCP pools told on the command line. Without ``look_at_wire``
    every address stays undetermined.
    """
    plan = site.plan
    chosen = site.hosts(host_names)
    names = {h.name for h in chosen}
    findings: list[Finding] = [f for f in plan_findings(plan) if f.host is None or f.host in names]
    findings += _sources(site)
    known = {s.name: segment_knowledge(plan, s, told_pools) for s in plan.segments.values()}
    jobs: list[Job] = [(h, i) for h in chosen for i in h.interfaces]
    surveys = {h.name: site.survey(h) for h in chosen}
    answers, why_not = _ask_wire(site, jobs) if look_at_wire else ({}, {})
    session = session_address()
    evidence: list[Evidence] = []
    twice = {f.address for f in findings if f.code == "held-twice"}
    for host, interface in jobs:
        survey = surveys[host.name]
        found = survey.interface(interface.name) if survey else None
        leased = found.leased_addresses() if found else ()
        own = survey.own_macs() if survey else frozenset(m for m in (interface.mac,) if m)
        job = (host.name, interface.name)
        why = why_not.get(job) if look_at_wire else "switched off with --no-wire"
        knowledge = known[interface.segment]
        findings += knowledge_findings(plan, host, interface, knowledge, leased)
        gateways = _gateways(site, interface)
        findings += wire_findings(host, interface, gateways, answers.get(job, {}), own, why)
        if survey is not None:
            findings += host_findings(plan, host, interface, survey, session if survey.running else None)
            findings += _of_host(host, interface, survey)
        evidence += _evidence(host, interface, knowledge, survey, answers.get(job, {}), own, why, plan.file, twice)
    return CheckResult(sorted_findings(dict.fromkeys(findings)), tuple(evidence))


#: What a draft puts right by itself speaks against no change; `survey` still says it.
_DRAFTED_AWAY = ("rewritten-at-boot", "file-too-open", "resolv-conf-not-ours")


def _of_host(host: HostPlan, interface: InterfacePlan, survey: HostSurvey) -> Iterable[Finding]:
    """What taking stock found about the interface, as far as it matters to a change."""
    for found in survey.findings:
        if found.interface != interface.name or found.code in _DRAFTED_AWAY:
            continue
        if found.code == "still-asks-dhcp" and "process" not in found.seen_in:
            continue
        if found.address and any(str(a) == found.address for a in interface.leave_alone):
            continue
        yield msgspec.structs.replace(found, host=host.name)


def _sources(site: Site) -> Iterable[Finding]:
    for source in site.plan.sources:
        yield finding(
            "source-unreadable",
            f"sources of the kind {source.kind!r} cannot be read yet ({source.path})",
            seen_in=f"{site.plan.file}:{source.line}",
            remedy="say what it holds under `pools:`, `reservations:` and `set_aside:`, and remove it here",
        )


def _gateways(site: Site, interface: InterfacePlan) -> tuple[IPAddress, ...]:
    segment = site.plan.segments[interface.segment]
    fixed = {v for v, method in ((4, interface.ipv4), (6, interface.ipv6)) if method == "fixed"}
    return tuple(g.address for g in gateways_of(interface, segment) if g.address.version in fixed)


def _ask_wire(
    site: Site, jobs: list[Job]
) -> tuple[dict[tuple[str, str], dict[IPAddress, WireAnswer]], dict[tuple[str, str], str]]:
    """Probes all addresses and gateways, those of one vantage together."""
    why_not: dict[tuple[str, str], str] = {}
    vantages: dict[str, Vantage] = {}
    wanted: dict[str, list[tuple[tuple[str, str], IPAddress]]] = {}
    for host, interface in jobs:
        targets = [h.address for h in interface.hold] + list(_gateways(site, interface))
        if not targets:
            continue
        job = (host.name, interface.name)
        vantage = site.vantage(host, interface.name, site.plan.segments[interface.segment].subnets)
        if isinstance(vantage, str):
            why_not[job] = vantage
            continue
        vantages.setdefault(vantage.name, vantage)
        wanted.setdefault(vantage.name, []).extend((job, target) for target in targets)
        if any(t.version == 6 for t in targets):
            why_not[job] = "IPv6 neighbours are not asked yet"
    answers: dict[tuple[str, str], dict[IPAddress, WireAnswer]] = {}
    for name, questions in wanted.items():
        try:
            found = probe(vantages[name], [target for _, target in questions])
        except NoAccess as error:
            why = f"{error.what}; {error.remedy}" if error.remedy else error.what
            why_not.update((job, why) for job, _ in questions)
            continue
        for job, target in questions:
            if target in found:
                answers.setdefault(job, {})[target] = found[target]
    return answers, why_not


def probe(vantage: Vantage, targets: Iterable[IPAddress]) -> dict[IPAddress, WireAnswer]:
    """Asks the wire who holds ``targets`` (the IPv4 ones), all together. Raises :class:`NoAccess`."""
    probes = ArpProbes(vantage.mac, [t for t in targets if isinstance(t, IPv4Address)])
    before = vantage.drops()
    vantage.converse(probes)
    lost = vantage.drops() - before
    asked = probes.asked + (f", {lost} received frames lost" if lost else "")
    at = time.strftime("%H:%M:%S")
    return {
        target: WireAnswer(
            target,
            tuple(Holder(mac, how) for mac, how in sorted(holders.items())),
            asked,
            vantage.name,
            at,
        )
        for target, holders in probes.holders.items()
    }


def _evidence(
    host: HostPlan,
    interface: InterfacePlan,
    known: SegmentKnowledge,
    survey: HostSurvey | None,
    answers: dict[IPAddress, WireAnswer],
    own: frozenset[str],
    why: str | None,
    plan_file: str,
    twice: set[str | None],
) -> Iterable[Evidence]:
    for held in interface.hold:
        given = "given to another interface too" if str(held.address) in twice else "given to nobody else"
        consulted = [Consulted("addressing plan", given, plan_file), *known.consulted(held.address)]
        missing: list[NotConsulted] = []
        if known.pools is None:
            missing.append(NotConsulted("DHCP pools", "nothing is known of them; give --pool"))
        missing.append(NotConsulted("DHCP leases and reservations", "no source is named in the plan"))
        missing.append(NotConsulted("DNS records", "no source is named in the plan"))
        if survey is not None and survey.running:
            is_own = held.address in survey.own_addresses()
            said = "the host holds it now" if is_own else "the host does not hold it now"
            consulted.append(Consulted(f"kernel of {survey.host}", said, "now"))
        answer = answers.get(held.address)
        if answer is not None:
            consulted.append(answer.consulted(own))
        else:
            missing.append(NotConsulted("wire", why or "no vantage"))
        yield Evidence(str(held.address), host.name, tuple(consulted), tuple(missing))
