"""The wire of all segments of a plan that are reached from here, each looked at from one vantage."""

from __future__ import annotations

from collections.abc import Iterable, Mapping

from fixed_anchor.core.addresses import IPAddress
from fixed_anchor.core.claims import Claims
from fixed_anchor.core.errors import NoAccess
from fixed_anchor.core.plan import HostPlan, InterfacePlan, Plan, Segment
from fixed_anchor.core.resolving import ONLY_TCP, SILENT, questions, usefulness
from fixed_anchor.core.rules.wire import DhcpServerSeen, WireAnswer
from fixed_anchor.core.wanted import gateways_of
from fixed_anchor.vantages.protocol import AsksDns, Vantage
from fixed_anchor.workflow import names
from fixed_anchor.workflow.at_once import at_once
from fixed_anchor.workflow.look import look
from fixed_anchor.workflow.site import Site

Job = tuple[HostPlan, InterfacePlan]
JobName = tuple[str, str]


class SiteWire:
    """What was seen. ``why`` says why something was not, where nothing more is known of it."""

    def __init__(self, why: str = "no vantage") -> None:
        self.why = why
        self._answers: dict[JobName, dict[IPAddress, WireAnswer]] = {}
        self._why_not: dict[JobName, dict[IPAddress, str]] = {}
        #: Interfaces whose link has no neighbours: a tunnel, a point-to-point link.
        self.without_neighbours: set[JobName] = set()
        #: DHCP servers that answered, by segment.
        self.servers: dict[str, tuple[DhcpServerSeen, ...]] = {}
        #: Resolvers that did not answer, and the vantage they were asked from.
        self.silent: dict[IPAddress, str] = {}
        #: What the resolvers know of the addresses and names at hand.
        self.names: list[Claims] = []

    def of(self, job: JobName) -> tuple[dict[IPAddress, WireAnswer], dict[IPAddress, str]]:
        """The answers for the addresses of one interface, and why there are none for others."""
        return self._answers.get(job, {}), self._why_not.get(job, {})

    def answered(self, job: JobName, answer: WireAnswer) -> None:
        """Keeps an answer for an interface."""
        self._answers.setdefault(job, {})[answer.address] = answer

    def not_asked(self, job: JobName, address: IPAddress, why: str) -> None:
        """Keeps why nobody asked for an address of an interface."""
        self._why_not.setdefault(job, {})[address] = why


def gateways_asked(plan: Plan, interface: InterfacePlan) -> tuple[IPAddress, ...]:
    """The gateways that the interface will use: those of its fixed families."""
    gateways = gateways_of(interface, plan.segments[interface.segment])
    four, six = interface.ipv4 == "fixed", interface.ipv6 == "fixed"
    return tuple([g.address for g in gateways if (four if g.address.version == 4 else six)])


def look_at_wire(site: Site, jobs: Iterable[Job]) -> SiteWire:
    """Probes the addresses and gateways of ``jobs``, those of one vantage together.

    DHCP servers and resolvers of their segments are asked as well.
    """
    seen = SiteWire()
    vantages: dict[str, Vantage] = {}
    questions: dict[str, list[tuple[JobName, IPAddress]]] = {}
    segments: dict[str, dict[str, Segment]] = {}
    by_vantage: dict[str, list[Job]] = {}
    for host, interface in jobs:
        targets = [h.address for h in interface.hold] + list(interface.expect)
        targets += gateways_asked(site.plan, interface)
        if not targets:
            continue
        job = (host.name, interface.name)
        segment = site.plan.segments[interface.segment]
        vantage = site.vantage(host, interface.name, segment.subnets)
        if vantage.why_not is not None:
            for target in targets:
                seen.not_asked(job, target, vantage.why_not)
            continue
        if not vantage.has_neighbours:
            seen.without_neighbours.add(job)
            for target in targets:
                seen.not_asked(job, target, f"{interface.name} is a link without neighbours")
            continue
        vantages.setdefault(vantage.name, vantage)
        segments.setdefault(vantage.name, {})[segment.name] = segment
        by_vantage.setdefault(vantage.name, []).append((host, interface))
        questions.setdefault(vantage.name, []).extend((job, target) for target in targets)

    def look_from(name: str) -> None:
        _look_from(seen, vantages[name], questions[name], segments[name])

    # Each takes some seconds, whatever is asked; what names are known by then is asked one after the other.
    for failed in at_once(vantages, look_from, site.at_once):
        if failed is not None:
            raise failed
    for name, vantage in vantages.items():
        _ask_names(seen, site.plan, vantage, segments[name].values(), by_vantage[name])
    return seen


def _look_from(
    seen: SiteWire, vantage: Vantage, questions: list[tuple[JobName, IPAddress]], segments: Mapping[str, Segment]
) -> None:
    gateways = {g.address for segment in segments.values() for g in segment.gateways}
    try:
        in_use = [target for _, target in questions if target in gateways]
        looked = look(vantage, [target for _, target in questions], ask_dhcp=True, in_use=in_use)
    except NoAccess as error:
        why = f"{error.what}; {error.remedy}" if error.remedy else error.what
        for job, target in questions:
            seen.not_asked(job, target, why)
        return
    for job, target in questions:
        if target in looked.answers:
            seen.answered(job, looked.answers[target])
        else:
            seen.not_asked(job, target, looked.why_not.get(target, "not asked"))
    for segment in segments:
        seen.servers[segment] = looked.servers


def _ask_names(seen: SiteWire, plan: Plan, vantage: AsksDns, segments: Iterable[Segment], jobs: list[Job]) -> None:
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
    addresses = [h.address for _, i in jobs for h in i.hold] + [a for _, i in jobs for a in i.expect]
    wanted: list[str] = []
    for host, interface in jobs:
        search = interface.search if interface.search is not None else plan.segments[interface.segment].search
        name = (host.hostname or host.name).rstrip(".").lower()
        wanted += [name] if "." in name else [f"{name}.{domain}" for domain in search[:1]]
    found = names.records(vantage, answering[0], addresses, wanted)
    if found is not None:
        seen.names.append(found)
