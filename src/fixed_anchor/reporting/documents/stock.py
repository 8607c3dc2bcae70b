"""The documents of taking stock: ``survey``, and ``propose``, which reads what a survey wrote."""

from __future__ import annotations

from typing import Literal

from msgspec import Struct

from fixed_anchor.core.programs import is_untried
from fixed_anchor.core.rules.survey import survey_findings
from fixed_anchor.core.survey import Announced, HostSurvey, SurveyedInterface
from fixed_anchor.reporting.documents.parts import Document, FoundFinding, Place, Problem, found_finding


class AddressInForce(Struct, frozen=True):
    """An address of the kernel, with its prefix; ``seconds_left`` is null for ever."""

    address: str
    origin: Literal["dhcp", "fixed", "link-local", "slaac"]
    seconds_left: int | None


class LeaseInForce(Struct, frozen=True):
    """A DHCP lease."""

    address: str
    server: str | None
    seconds_left: int | None
    resolvers: list[str]
    search: list[str]


class AnnouncedRoute(Struct, frozen=True):
    """A route that routers announce."""

    destination: str
    next_hop: str


class AnnouncedConfig(Struct, frozen=True):
    """What routers and DHCPv6 give beside addresses and default routes; ``mtu`` in bytes."""

    resolvers: list[str]
    search: list[str]
    mtu: int | None
    routes: list[AnnouncedRoute]
    prefixes: list[str]


class DeclaredConfig(Struct, frozen=True):
    """What the interface files declare: the methods of both IP versions, and what is fixed."""

    ipv4: str
    ipv6: str
    hears_routers: bool
    addresses: list[str]
    gateways: list[str]


class StackThatCould(Struct, frozen=True):
    """A network stack that would take an interface which no file declares, and why."""

    stack: str
    daemon: str
    because: str


class NetworkThere(Struct, frozen=True):
    """The network of an interface of Windows, and its category, by which the firewall goes."""

    profile: str
    category: str


class InterfaceStock(Struct, frozen=True):
    """An interface: what the kernel holds, and what its files declare; null where nothing does.

    Then ``takers`` are the stacks that would take it: one, or several of which the plan must name one. Of a Windows
    machine ``network`` is what it is connected to, ``metric`` that of the interface itself, ``fallback`` its alternate
    configuration and ``on_fallback`` whether that is in force.
    """

    host: str
    interface: str
    mac: str | None
    kind: str
    state: str
    addresses: list[AddressInForce]
    gateways: list[str]
    resolvers: list[str]
    search: list[str]
    lease: LeaseInForce | None
    announced: AnnouncedConfig | None
    declared: DeclaredConfig | None
    declared_in: list[Place]
    takers: list[StackThatCould] = []
    network: NetworkThere | None = None
    metric: int | None = None
    fallback: str | None = None
    on_fallback: bool = False
    netbios_servers: list[str] = []


class AsideThere(Struct, frozen=True):
    """What a Windows machine has beside its addresses: a role, a policy, its cloud, as the survey says it."""

    kind: str
    text: str
    seen_in: str


class InstalledProgram(Struct, frozen=True):
    """A program that carries the addressing out, and its version; ``features`` are those that it lists itself."""

    program: str
    version: str
    features: list[str] | None
    tried: bool


class HostStock(Struct, frozen=True, kw_only=True):
    """A host, or the error that came instead; ``reach`` is how it was reached, as a plan says it."""

    host: str
    reach: str | None = None
    error: Problem | None = None
    stack: str | None = None
    stack_evidence: list[str] = []
    programs: list[InstalledProgram] = []
    asides: list[AsideThere] = []
    interfaces: list[InterfaceStock] = []
    findings: list[FoundFinding] = []


class SurveyDocument(Document, kw_only=True):
    """What ``survey --json`` prints, and ``survey -o`` writes."""

    hosts: list[HostStock] = []


class Proposed(Struct, frozen=True):
    """A proposed interface: the addresses to hold, and for a picked one why it was picked."""

    host: str
    interface: str
    hold: list[str]
    reasons: list[str]


class PlacedHost(Struct, frozen=True):
    """What became of a host of a whole site: it is new in the plan, was there before, or could not be placed."""

    host: str
    outcome: Literal["new", "in the plan", "not placed"]
    interface: str | None
    before: list[str]
    hold: list[str]
    why: str | None


class ProposeDocument(Document, kw_only=True):
    """What ``propose --json`` prints; ``file`` is the plan that was written, null where it is only printed."""

    file: str | None = None
    plan: str | None = None
    hosts: list[Proposed] = []
    placed: list[PlacedHost] = []
    disagreements: list[str] = []


def host_stock(survey: HostSurvey, reach: str | None = None) -> HostStock:
    """A survey as a part of its document."""
    return HostStock(
        host=survey.host,
        reach=reach,
        stack=survey.stack,
        stack_evidence=list(survey.stack_evidence),
        programs=[
            InstalledProgram(p.name, p.version, None if p.features is None else list(p.features), not is_untried(p))
            for p in survey.programs
        ],
        asides=[
            AsideThere(a.kind, a.text, str(a.place))
            for a in survey.others
            if survey.system and not a.interface and a.text
        ],
        interfaces=[_interface(survey.host, i) for i in survey.interfaces],
        findings=[found_finding(f) for f in survey_findings(survey)],
    )


def _interface(host: str, found: SurveyedInterface) -> InterfaceStock:
    lease, declared = found.lease, found.declared
    return InterfaceStock(
        host=host,
        interface=found.name,
        mac=found.link.permanent_mac or found.link.mac,
        kind=found.link.kind,
        state=found.state,
        addresses=[AddressInForce(str(a.address), a.origin, a.seconds_left) for a in found.addresses],  # type: ignore[arg-type]
        gateways=[str(r.next_hop) for r in found.routes if r.is_default and r.next_hop],
        resolvers=[str(r) for r in found.resolvers],
        search=list(found.search),
        lease=None
        if lease is None
        else LeaseInForce(
            str(lease.address),
            None if lease.server is None else str(lease.server),
            lease.seconds_left,
            [str(r) for r in lease.resolvers],
            list(lease.search),
        ),
        announced=None if found.announced is None else _announced(found.announced),
        declared=None
        if declared is None
        else DeclaredConfig(
            declared.ipv4,
            declared.ipv6,
            declared.hears_routers,
            [str(a) for a in declared.addresses],
            [str(r.next_hop) for r in declared.default_routes() if r.next_hop],
        ),
        declared_in=[Place(p.file, p.line or None) for p in found.declared_in],
        takers=[StackThatCould(t.stack, t.daemon, t.because) for t in found.takers],
        network=NetworkThere(found.network, found.category) if found.category else None,
        metric=found.own_metric,
        fallback=None
        if declared is None or declared.fallback is None or declared.fallback.address is None
        else str(declared.fallback.address),
        on_fallback=found.on_fallback,
        netbios_servers=[str(s) for s in (declared.netbios_servers or ())] if declared is not None else [],
    )


def _announced(given: Announced) -> AnnouncedConfig:
    return AnnouncedConfig(
        [str(r) for r in given.resolvers],
        list(given.search),
        given.mtu,
        [AnnouncedRoute(str(r.destination), str(r.next_hop)) for r in given.routes],
        [str(p) for p in given.prefixes],
    )
