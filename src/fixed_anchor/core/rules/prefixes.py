"""Whether the prefix of an address is that of its network: as planned, as it is today, and as the DHCP server says."""

from __future__ import annotations

from collections.abc import Iterator

from fixed_anchor.core.addresses import IPNetwork, with_prefix
from fixed_anchor.core.findings import BLOCKER, Finding, FindingKind, finding
from fixed_anchor.core.plan import InterfacePlan, PlannedAddress, Segment
from fixed_anchor.core.rules.case import InterfaceCase
from fixed_anchor.core.wanted import gateways_of

PREFIX_DIFFERS = FindingKind(
    "prefix-differs",
    "plan",
    BLOCKER,
    "the prefix is another than that of the network",
    "With a prefix that is too short or too long a host takes neighbours for strangers, or the other way round.",
    "Correct the prefix; where the segment is being widened or divided, say `was: SUBNET` of it.",
)


def prefix_findings(case: InterfaceCase) -> Iterator[Finding]:
    """A prefix that is not that of its subnet, of the interface as it is now, or of what a DHCP server says."""
    host, interface, found, servers = case.host, case.interface, case.found, case.servers
    if found is None and not servers and all(held.prefix is None for held in interface.own):
        # Of the usual host of a large plan there is nothing to compare with.
        return
    segment = case.segment

    def raised(held: PlannedAddress, message: str, seen_in: str | None = None) -> Finding:
        # The first line that is asked for parses the whole plan again: it is not asked for in vain.
        seen_in = seen_in or case.plan.where_held(host, interface, held.address)
        code, address = PREFIX_DIFFERS, held.address
        return finding(code, message, host=host.name, interface=interface.name, address=address, seen_in=seen_in)

    for held in interface.own:
        subnet = segment.subnet_of(held.address)
        own = held.prefix if held.prefix is not None else subnet.prefixlen if subnet is not None else None
        if own is None:
            continue
        if subnet is not None and own != subnet.prefixlen and not _stands_alone(segment, interface, held):
            yield raised(held, f"{held.address} has the prefix /{own} of its own, and its subnet is {subnet}")
            continue
        if own == held.address.max_prefixlen or (found is None and not servers):
            continue
        planned = with_prefix(held.address, own).network
        today = (a.address.network for a in (found.addresses if found is not None else ()) if a.origin != "link-local")
        for network in dict.fromkeys(n for n in today if _at_odds(planned, n, segment)):
            yield raised(held, f"{held.address} would be in {planned}, and {interface.name} is in {network} today")
        for server in servers:
            if server.offered is None or server.prefix is None:
                continue
            network = with_prefix(server.offered, server.prefix).network
            if _at_odds(planned, network, segment):
                yield raised(
                    held,
                    f"{held.address} would be in {planned}, and the DHCP server {server.server} says {network}",
                    seen_in=f"DHCP answer of {server.server}, {server.vantage}",
                )


def _stands_alone(segment: Segment, interface: InterfacePlan, held: PlannedAddress) -> bool:
    """Whether full length is right for an address: with a gateway on link, or beside one with the subnet's prefix."""
    if held.prefix != held.address.max_prefixlen:
        return False
    version = held.address.version
    if any(g.address.version == version for g in gateways_of(interface, segment)):
        return True
    return any(
        other is not held and other.prefix is None and segment.subnet_of(other.address) is not None
        for other in interface.own
        if other.address.version == version
    )


def _at_odds(planned: IPNetwork, other: IPNetwork, segment: Segment) -> bool:
    """Whether two networks overlap and differ, and the segment does not say that it was the ``other`` one."""
    if planned.version != other.version or planned == other or other in segment.was:
        return False
    # Full length says nothing of a network.
    return other.prefixlen != other.max_prefixlen and planned.overlaps(other)
