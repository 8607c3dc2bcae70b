"""What a check makes of facts and drafts: all findings of a plan, with the evidence for every address. Pure."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping
from functools import cache, partial

import msgspec

from fixed_anchor.core.facts import Facts
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
from fixed_anchor.core.rules.case import HostCase, InterfaceCase, SegmentCase, SiteCase
from fixed_anchor.core.rules.clones import clone_findings
from fixed_anchor.core.rules.declared import CODES, declared_findings
from fixed_anchor.core.rules.evidence import age_findings, rests_on_evidence
from fixed_anchor.core.rules.gateways import gateway_findings
from fixed_anchor.core.rules.host import host_findings, unreached_findings
from fixed_anchor.core.rules.old_address import old_address_findings, told_once
from fixed_anchor.core.rules.plan import plan_findings
from fixed_anchor.core.rules.prefixes import prefix_findings
from fixed_anchor.core.rules.readiness import readiness_findings
from fixed_anchor.core.rules.spoken_for import knowledge_findings, segment_findings, source_findings
from fixed_anchor.core.rules.survey import stock_findings
from fixed_anchor.core.rules.wire import not_looked_findings, resolver_findings, server_findings, wire_findings
from fixed_anchor.core.times import utc
from fixed_anchor.workflow.dhcp_server import with_reservation_lines

#: The codes of what is said of the files that a draft shows.
OF_DRAFTS = CODES

#: The rules by level, in the order in which findings of the same severity are told.
SITE: tuple[Callable[[SiteCase], Iterable[Finding]], ...] = (
    plan_findings,
    unreached_findings,
    source_findings,
    age_findings,
    not_looked_findings,
)
SEGMENT: tuple[Callable[[SegmentCase], Iterable[Finding]], ...] = (
    segment_findings,
    server_findings,
    resolver_findings,
)
INTERFACE: tuple[Callable[[InterfaceCase], Iterable[Finding]], ...] = (
    prefix_findings,
    knowledge_findings,
    gateway_findings,
    wire_findings,
    host_findings,
    stock_findings,
)
HOST: tuple[Callable[[HostCase], Iterable[Finding]], ...] = (readiness_findings, declared_findings)
#: These look at several hosts, or at what the drafts would declare of all.
SITE_AS_DRAFTED: tuple[Callable[[SiteCase], Iterable[Finding]], ...] = (clone_findings, old_address_findings)


def check(facts: Facts, foreseen: Mapping[str, Foreseen]) -> Judgement:
    """Judges the hosts of ``facts``; ``foreseen`` is what their drafts would declare, by host."""
    findings = list(_findings(facts, foreseen))
    if facts.carried is not None:
        without = msgspec.structs.replace(facts, known=facts.carried.without)
        findings += rests_on_evidence(facts.carried.path, _findings(without, foreseen), findings)
    findings = with_reservation_lines(facts, told_once(findings))
    segments = {host.name: frozenset(i.segment for i in host.interfaces) for host in facts.hosts}
    twice = frozenset(f.address for f in findings if f.code == "held-twice")
    vantages = facts.wire.vantages if facts.wire is not None else {}
    gathered = sorted_findings(without_lesser(findings))
    return Judgement(gathered, partial(_every_evidence, facts, twice), segments, vantages)


def _findings(facts: Facts, foreseen: Mapping[str, Foreseen]) -> Iterator[Finding]:
    """What every rule says."""
    site = SiteCase(facts, foreseen)
    for of_site in SITE:
        yield from of_site(site)
    for name in facts.segments:
        segment = SegmentCase(facts, facts.plan.segments[name])
        for of_segment in SEGMENT:
            yield from of_segment(segment)
    for case in cases(facts):
        for of_interface in INTERFACE:
            yield from of_interface(case)
    for host in facts.hosts:
        survey = facts.surveys.get(host.name)
        if survey is not None and host.name in foreseen:
            drafted = HostCase(facts, host, survey, foreseen[host.name])
            for of_host in HOST:
                yield from of_host(drafted)
    for as_drafted in SITE_AS_DRAFTED:
        yield from as_drafted(site)


def cases(facts: Facts) -> Iterator[InterfaceCase]:
    """Every interface of the hosts that are checked."""
    for host in facts.hosts:
        survey = facts.surveys.get(host.name)
        for interface in host.interfaces:
            found = survey.interface(interface.name) if survey is not None else None
            yield InterfaceCase(facts, host, interface, survey, found)


def _every_evidence(facts: Facts, twice: frozenset[str | None]) -> Iterator[Evidence]:
    for case in cases(facts):
        yield from _evidence(case, twice)


def _evidence(case: InterfaceCase, twice: frozenset[str | None]) -> Iterator[Evidence]:
    """What was asked of each address of an interface; ``twice`` are those that the plan gives to two."""
    host, interface, survey, known, own = case.host, case.interface, case.survey, case.known, case.own_macs
    job = (host.name, interface.name)
    answers, why_not = case.wire.of(job)
    second = case.wire.second(job)
    unseen = "switched off with --no-wire" if case.facts.wire is None else "no vantage"
    servers = tuple(Consulted("DHCP servers on the wire", str(server), server.at) for server in case.servers)
    unasked = known.not_consulted(interface.segment)
    for address in interface.every_address:
        shown = str(address)
        consulted = (_given(shown in twice, known.plan.file), *known.consulted(interface.segment, address))
        if survey is not None and survey.running:
            held = "the host holds it now" if address in survey.own_addresses() else "the host does not hold it now"
            consulted = (*consulted, Consulted(f"kernel of {survey.host}", held, utc(known.now)))
        looks = tuple(looks[address].consulted(own) for looks in (answers, second) if address in looks)
        unlooked = () if looks else (_not_asked(why_not.get(address, unseen)),)
        yield Evidence(shown, host.name, interface.name, (*consulted, *looks, *servers), (*unasked, *unlooked))


@cache
def _given(twice: bool, plan_file: str) -> Consulted:
    return Consulted(
        "addressing plan", "given to another interface too" if twice else "given to nobody else", plan_file
    )


@cache
def _not_asked(why: str) -> NotConsulted:
    return NotConsulted("wire", why)
