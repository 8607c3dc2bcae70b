"""The wire of all segments of a plan that are reached from here.

Each is looked at from the host itself or in its stead, and from a second host where one is reached.
"""

from __future__ import annotations

from collections.abc import Iterable
from functools import partial

import msgspec

from fixed_anchor.core.addresses import IPAddress
from fixed_anchor.core.errors import NoAccess
from fixed_anchor.core.plan import HostPlan, InterfacePlan, Plan, Segment
from fixed_anchor.core.resolving import ONLY_TCP, SILENT, questions, usefulness
from fixed_anchor.core.wanted import gateways_asked
from fixed_anchor.core.wire import JobName, WireSeen
from fixed_anchor.vantages.protocol import AsksDns, Vantage
from fixed_anchor.workflow.beside.on_segment import neighbour_of, vantage_for
from fixed_anchor.workflow.network import names
from fixed_anchor.workflow.network.look import Looked, look
from fixed_anchor.workflow.reached.at_once import at_once
from fixed_anchor.workflow.reached.site import Site

Job = tuple[HostPlan, InterfacePlan]


class _Question(msgspec.Struct, frozen=True):
    """An address to be asked for, for an interface; ``is_second`` where somebody else looks at it first."""

    job: JobName
    target: IPAddress
    is_second: bool = False


class _Lookout(msgspec.Struct):
    """What is to be asked from one vantage. Of ``segments`` and ``jobs`` it is the first one."""

    vantage: Vantage
    questions: list[_Question] = []
    segments: dict[str, Segment] = {}
    jobs: list[Job] = []
    #: What is looked at from there, as the first one or not; emptied where nothing was seen.
    looks_at: list[Segment] = []


def look_at_wire(site: Site, jobs: Iterable[Job]) -> WireSeen:
    """Probes the addresses and gateways of ``jobs``, those of one vantage together.

    DHCP servers and resolvers of their segments are asked as well.
    """
    seen = WireSeen()
    lookouts: dict[str, _Lookout] = {}
    for host, interface in jobs:
        addresses = list(interface.every_address)
        targets = [*addresses, *gateways_asked(site.plan, interface)]
        if not targets:
            continue
        job = (host.name, interface.name)
        segment = site.plan.segments[interface.segment]
        vantage = vantage_for(site, host, interface)
        why_not = vantage.why_not
        if why_not is None and not vantage.has_neighbours:
            seen.without_neighbours.add(job)
            why_not = f"{interface.name} is a link without neighbours"
        if why_not is not None:
            for target in targets:
                seen.not_asked(job, target, why_not)
            continue
        first = lookouts.setdefault(vantage.name, _Lookout(vantage))
        first.questions += [_Question(job, target) for target in targets]
        first.segments[segment.name] = segment
        first.looks_at.append(segment)
        first.jobs.append((host, interface))
        # What is connected anyway looks, too; for the host on which this runs nobody is connected.
        neighbour = neighbour_of(site, host, segment, may_connect=site.machine(host) is not site.here)
        if neighbour is not None and neighbour.vantage.name != vantage.name:
            second = lookouts.setdefault(neighbour.vantage.name, _Lookout(neighbour.vantage))
            second.questions += [_Question(job, address, is_second=True) for address in addresses]
            second.looks_at.append(segment)
    ours = frozenset(one.vantage.frames.mac for one in lookouts.values() if one.vantage.frames is not None)
    # Each takes some seconds, whatever is asked; what names are known by then is asked one after the other.
    for failed in at_once(lookouts.values(), partial(_look_from, seen, ours), site.at_once):
        if failed is not None:
            raise failed
    for one in lookouts.values():
        for segment in one.looks_at:
            # Whoever sends no frames sees less.
            weaker = "" if one.vantage.frames is not None else " (weaker: the neighbour table there)"
            seen.looks_from(segment, one.vantage.name + weaker)
        _ask_names(seen, site.plan, one.vantage, one.segments.values(), one.jobs)
    return seen


def _look_from(seen: WireSeen, ours: frozenset[str], lookout: _Lookout) -> None:
    gateways = {g.address for segment in lookout.segments.values() for g in segment.gateways}
    targets = [question.target for question in lookout.questions]
    in_use = [target for target in targets if target in gateways]
    try:
        looked = look(lookout.vantage, targets, ask_dhcp=bool(lookout.segments), in_use=in_use, ours=ours)
    except NoAccess as error:
        why = f"{error.what}; {error.remedy}" if error.remedy else error.what
        looked = Looked({}, dict.fromkeys(targets, why))
        lookout.looks_at.clear()
    for question in lookout.questions:
        if question.target in looked.answers:
            seen.answered(question.job, looked.answers[question.target], question.is_second)
        elif not question.is_second:
            # What a second host cannot see is no fault of the plan.
            seen.not_asked(question.job, question.target, looked.why_not.get(question.target, "not asked"))
    for segment in lookout.segments:
        seen.servers[segment] = looked.servers


def _ask_names(seen: WireSeen, plan: Plan, vantage: AsksDns, segments: Iterable[Segment], jobs: list[Job]) -> None:
    """Whether the resolvers answer, and what the first that does knows of the addresses and names of ``jobs``."""
    answering: list[IPAddress] = []
    for segment in segments:
        for resolver in segment.resolvers:
            if resolver in answering or resolver in seen.silent:
                continue
            said = names.answers(vantage, resolver, questions((), (), (), segment.search))
            if set(said.values()) <= {SILENT, ONLY_TCP}:
                seen.silent[resolver] = vantage.name
            elif usefulness(resolver, said, {}).good:
                answering.append(resolver)
    if not answering:
        return
    addresses = [a for _, i in jobs for a in i.every_address]
    wanted: list[str] = []
    for host, interface in jobs:
        search = interface.search if interface.search is not None else plan.segments[interface.segment].search
        name = (host.hostname or host.name).rstrip(".").lower()
        wanted += [name] if "." in name else [f"{name}.{domain}" for domain in search[:1]]
    found = names.records(vantage, answering[0], addresses, wanted)
    if found is not None:
        seen.names.append(found)
