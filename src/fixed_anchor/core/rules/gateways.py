"""Whether the planned gateway is the one that the host, the DHCP server and the sources know; and whether it routes."""

from __future__ import annotations

from collections.abc import Iterable, Iterator

from fixed_anchor.core.addresses import IPAddress
from fixed_anchor.core.baseline import Baseline
from fixed_anchor.core.config import InterfaceConfig
from fixed_anchor.core.findings import BLOCKER, NOTE, Finding, FindingKind, finding
from fixed_anchor.core.knowledge import GatewaysSaid
from fixed_anchor.core.plan import Segment
from fixed_anchor.core.rules.case import InterfaceCase
from fixed_anchor.core.survey import HostSurvey, SurveyedInterface
from fixed_anchor.core.verification import PASS
from fixed_anchor.core.wanted import gateways_of
from fixed_anchor.core.wire import DhcpServerSeen

GATEWAY_DIFFERS = FindingKind(
    "gateway-differs",
    "wire",
    BLOCKER,
    "the gateway is none that is known on the segment",
    "The default route of today, the DHCP server and the sources name another; a machine that is no "
    "router takes every packet and forwards none.",
    "Correct the gateway; where it is a new one, let the DHCP server say it, too, or override this.",
)
OWNER_NOT_PROVABLE = FindingKind(
    "owner-not-provable",
    "wire",
    NOTE,
    "nobody could see after the change whether another machine has the address too",
    "A second holder of an address is seen by frames of our own, or by arping; a kernel does not look "
    "for one of its own addresses.",
    "Install python3 or iputils-arping there; where that cannot be, override this.",
    undetermined=True,
)
FORWARDING_NOT_PROVEN = FindingKind(
    "forwarding-not-proven",
    "wire",
    NOTE,
    "nothing beyond the gateway answers today",
    "Then nothing can show after the change that the new address is of use beyond its segment, and "
    "nobody is there to look.",
    "Name something under `reachable:` of the segment; where nothing is beyond the gateway, override this.",
    undetermined=True,
)


def gateway_findings(case: InterfaceCase) -> Iterator[Finding]:
    """A gateway that nobody knows who should: not the host today, not the DHCP server, not the sources.

    Where several are planned, the one that is preferred counts. One that another host of the plan has in force in the
    same segment makes a warning of it.
    """
    host, interface, segment = case.host, case.interface, case.segment
    every = [*_says(case.found, case.servers), *case.known.routers_told(segment)]
    for version, method in ((4, interface.ipv4), (6, interface.ipv6)):
        if method != "fixed":
            continue
        planned = [g for g in gateways_of(interface, segment) if g.address.version == version]
        if not planned:
            continue
        gateway = min(planned, key=lambda g: g.metric or 0).address
        # The usual case: who tells it tells it for the whole segment.
        if any(gateway in hops for _, hops in every) and segment.subnet_of(gateway) is not None:
            continue
        said = [(who, near) for who, hops in every if (near := _near(hops, version, segment))]
        if not said or any(gateway in hops for _, hops in said):
            continue
        users = [s.host for s in case.facts.around if s.host != host.name and _uses(s, gateway, segment)]
        words = "; ".join(f"{who}: {', '.join(map(str, hops))}" for who, hops in said)
        more = f"; in force on {', '.join(users)}" if users else ""
        yield finding(
            GATEWAY_DIFFERS,
            f"the gateway {gateway} of {segment.name} is none that is known there: {words}{more}",
            host=host.name,
            interface=interface.name,
            address=gateway,
            seen_in=case.plan.where_gateway(host, interface, gateway),
            severity="warning" if users else None,
        )


def _says(found: SurveyedInterface | None, servers: Iterable[DhcpServerSeen]) -> Iterator[GatewaysSaid]:
    if found is not None:
        hops = [r.next_hop for r in found.routes if r.is_default and r.next_hop is not None]
        yield f"default route of {found.name} today", tuple(hops)
    for server in servers:
        yield f"DHCP server {server.server}", server.routers


def _near(hops: Iterable[IPAddress], version: int, segment: Segment) -> tuple[IPAddress, ...]:
    """Those of one version that are of the segment: what is known of other networks says nothing of its gateway."""
    return tuple(dict.fromkeys(h for h in hops if h.version == version and segment.subnet_of(h) is not None))


def _uses(survey: HostSurvey, gateway: IPAddress, segment: Segment) -> bool:
    return any(
        any(r.is_default and r.next_hop == gateway for r in interface.routes)
        and any(segment.subnet_of(a.address.ip) is not None for a in interface.addresses)
        for interface in survey.interfaces
    )


def owner_findings(host: str, interface: str, why: str) -> Iterator[Finding]:
    """An interface of which nobody could see after the change whether another machine has its address too."""
    yield finding(
        OWNER_NOT_PROVABLE,
        f"nobody could see afterwards whether another machine has the address of {interface} too: {why}",
        host=host,
        interface=interface,
        seen_in=f"what {host} has to ask with",
    )


def forwarding_findings(host: str, baseline: Baseline, wanted: Iterable[InterfaceConfig]) -> Iterator[Finding]:
    """Gateways of today that the change keeps, and behind which nothing answered: afterwards nothing would, either."""
    for config in wanted:
        then = baseline.interface(config.interface)
        for route in config.default_routes():
            gateway = str(route.next_hop)
            if then is None or gateway not in then.family(route.destination.version).gateways:
                continue
            check = baseline.check("gateway-forwards", config.interface, gateway)
            if check is not None and check.outcome != PASS:
                yield finding(
                    FORWARDING_NOT_PROVEN,
                    f"nothing beyond the gateway {gateway} answers today ({check.why})",
                    host=host,
                    interface=config.interface,
                    address=gateway,
                    seen_in=check.seen_from,
                )
