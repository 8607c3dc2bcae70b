"""What is looked at and drafted before a change begins, once, and what is judged by it."""

from __future__ import annotations

from collections.abc import Iterator

import msgspec

from fixed_anchor.change.change import Draft
from fixed_anchor.core.addresses import AddressRange, IPAddress
from fixed_anchor.core.baseline import Baseline
from fixed_anchor.core.errors import InputError
from fixed_anchor.core.findings import Finding, Judgement
from fixed_anchor.core.plan import HostPlan
from fixed_anchor.core.rules.gateways import forwarding_findings, owner_findings
from fixed_anchor.core.survey import HostSurvey
from fixed_anchor.workflow.beside.neighbours import neighbours_before
from fixed_anchor.workflow.check import check
from fixed_anchor.workflow.evidence import SavedEvidence
from fixed_anchor.workflow.gather import gather
from fixed_anchor.workflow.network.sole_owner import why_not_provable
from fixed_anchor.workflow.reached.site import Site
from fixed_anchor.workflow.targets import HostTarget


class Judged(msgspec.Struct, frozen=True):
    """The change of one host as it is to begin: what is there, its draft, what was before, and what speaks against it.

    The draft that was judged is the one that is begun.
    """

    draft: Draft
    before: Baseline
    judgement: Judgement


def survey_of(site: Site, host: HostPlan) -> HostSurvey:
    """What is there, taken once. Raises :class:`InputError` for a host that is not reached from here."""
    survey = site.survey(host)
    if survey is None:
        raise InputError(f"{host.name} is not reached from here", file=site.plan.file, line=host.line)
    return survey


def addresses_to_hold(grace: bool | None, target: HostTarget, survey: HostSurvey) -> frozenset[IPAddress]:
    """Today's addresses that shall stay until a change is decided: that of the session, or with ``grace`` all."""
    if grace is False:
        return frozenset()
    if grace:
        return frozenset(a.ip for i in survey.interfaces for a in i.link.in_kernel)
    session = target.session.address()
    return frozenset() if session is None else frozenset((session,))


def look_from_beside(site: Site, target: HostTarget, host: str, survey: HostSurvey) -> None:
    """Lets the neighbours of a host look at it before its change, and afterwards as a part of its verification."""
    target.neighbours = neighbours_before(site, site.plan.hosts[host], target.machine, survey)


def judge(
    site: Site,
    target: HostTarget,
    host: HostPlan,
    draft: Draft,
    pools: tuple[AddressRange, ...],
    carried: SavedEvidence | None,
    unattended: bool,
) -> Judged:
    """Looks at the wire, at what answers today, and from beside; and judges ``draft`` by all of that."""
    survey = survey_of(site, host)
    facts = gather(site, (host.name,), pools, carried=carried)
    judgement = check(facts, {host.name: target.foresee(site.plan, host, survey, draft)})
    before = target.baseline(draft, survey)
    look_from_beside(site, target, host.name, survey)
    judgement = judgement.with_more(_not_provable(host.name, target, survey, draft))
    if unattended:
        # Nobody will be there to look.
        judgement = judgement.with_more(forwarding_findings(host.name, before, draft.wanted))
    return Judged(draft, before, judgement)


def _not_provable(host: str, target: HostTarget, survey: HostSurvey, draft: Draft) -> Iterator[Finding]:
    """The interfaces of which nobody could see afterwards that they alone have their addresses."""
    for config in draft.wanted:
        why = why_not_provable(target.vantage(survey, config.interface), config)
        if why is not None:
            yield from owner_findings(host, config.interface, why)


def is_kept_anew(host: HostPlan, target: HostTarget, survey: HostSurvey) -> bool:
    """Whether a change that nobody confirms is confirmed from here, over a new connection.

    From a seat that proves more than all that is seen over the old one. Not where the session comes in by an interface
    that stays as it is: the new address may be on a segment which no seat reaches.
    """
    if target.rights.has_tool or not any(i.hold or i.expect for i in host.interfaces):
        return False
    session = target.session.address()
    by = next((i.name for i in survey.interfaces for a in i.addresses if a.address.ip == session), None)
    return by is None or any(i.name == by and (i.ipv4, i.ipv6) != ("untouched", "untouched") for i in host.interfaces)
