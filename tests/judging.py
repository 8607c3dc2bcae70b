"""Facts, cases and judgements for tests: made of the parts that a test is about."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

from fixed_anchor.core.addresses import IPAddress, parse_interface_address
from fixed_anchor.core.config import LinkFacts
from fixed_anchor.core.facts import Facts
from fixed_anchor.core.findings import Judgement
from fixed_anchor.core.foreseen import Foreseen
from fixed_anchor.core.knowledge import Knowledge
from fixed_anchor.core.plan import Plan
from fixed_anchor.core.rules.case import HostCase, InterfaceCase, SegmentCase, SiteCase
from fixed_anchor.core.survey import FoundAddress, HostSurvey, SurveyedInterface
from fixed_anchor.core.wire import DhcpServerSeen, WireAnswer, WireSeen
from fixed_anchor.workflow import check as checking
from fixed_anchor.workflow.drafts import drafts_of, foreseen_of
from fixed_anchor.workflow.gather import gather
from fixed_anchor.workflow.reached.site import Site


def check(site: Site, wire: bool = True) -> Judgement:
    """A plan judged as the command does it."""
    facts = gather(site, wire=wire)
    return checking.check(facts, foreseen_of(site, drafts_of(site, facts.hosts)))


def facts_of(known: Knowledge, host: str = "tide-db", **more: Any) -> Facts:
    """What was gathered of one host of the plan."""
    return Facts((known.plan.hosts[host],), known, **more)


def site_case(known: Plan | Knowledge) -> SiteCase:
    """The whole plan."""
    known = Knowledge(known) if isinstance(known, Plan) else known
    return SiteCase(Facts(tuple(known.plan.hosts.values()), known))


def segment_case(known: Knowledge, servers: Iterable[DhcpServerSeen] = (), name: str = "quay") -> SegmentCase:
    """A segment, with the DHCP servers that answered there."""
    wire = WireSeen()
    wire.servers[name] = tuple(servers)
    return SegmentCase(Facts((), known, wire=wire), known.plan.segments[name])


def interface_case(
    known: Plan | Knowledge,
    found: SurveyedInterface | None = None,
    survey: HostSurvey | None = None,
    answers: Iterable[WireAnswer] = (),
    servers: Iterable[DhcpServerSeen] = (),
    **more: Any,
) -> InterfaceCase:
    """The first interface of the host ``tide-db``, as ``found``, with what the wire answered."""
    known = Knowledge(known) if isinstance(known, Plan) else known
    host = known.plan.hosts["tide-db"]
    interface = host.interfaces[0]
    wire = WireSeen()
    wire.servers[interface.segment] = tuple(servers)
    for answer in answers:
        wire.answered((host.name, interface.name), answer)
    found = survey.interface(interface.name) if survey is not None else found
    return InterfaceCase(facts_of(known, wire=wire, **more), host, interface, survey, found)


def holding(*addresses: IPAddress, origin: str = "dhcp") -> SurveyedInterface:
    """An interface that holds these addresses today."""
    held = (
        FoundAddress(parse_interface_address(f"{a}/{24 if a.version == 4 else 64}"), origin, 600) for a in addresses
    )
    return SurveyedInterface(LinkFacts("enp1s0"), "up", addresses=tuple(held))


def host_case(known: Plan | Knowledge, survey: HostSurvey, **more: Any) -> HostCase:
    """The host ``tide-db`` as it is, with nothing drafted."""
    known = Knowledge(known) if isinstance(known, Plan) else known
    foreseen = Foreseen({}, {}, (), frozenset())
    return HostCase(facts_of(known, **more), known.plan.hosts["tide-db"], survey, foreseen)
