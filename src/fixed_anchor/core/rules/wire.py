"""What the wire says of the addresses of a plan."""

from __future__ import annotations

from collections.abc import Iterator
from functools import partial

from fixed_anchor.core.addresses import IPAddress
from fixed_anchor.core.findings import BLOCKER, NOTE, WARNING, Finding, FindingKind, finding
from fixed_anchor.core.knowledge import Knowledge
from fixed_anchor.core.plan import Segment
from fixed_anchor.core.rules.case import InterfaceCase, SegmentCase, SiteCase
from fixed_anchor.core.rules.spoken_for import SOURCE_DISAGREES
from fixed_anchor.core.wanted import gateways_asked
from fixed_anchor.core.wire import DhcpServerSeen, WireAnswer

ANSWERS_ON_WIRE = FindingKind(
    "answers-on-wire",
    "wire",
    BLOCKER,
    "another machine answers for the address",
    "It is in use now. Two holders lose their connections by turns.",
    "Take another address, or find the machine by its MAC.",
)
GATEWAY_SILENT = FindingKind(
    "gateway-silent",
    "wire",
    BLOCKER,
    "the gateway does not answer",
    "A default route through it would lead nowhere.",
    "Compare the gateway with the one in force today, and look whether it is up.",
)
GATEWAY_TWO_OWNERS = FindingKind(
    "gateway-two-owners",
    "wire",
    BLOCKER,
    "two machines answer for the gateway",
    "One of them is a mistake or an attack; traffic goes to either.",
    "Find both by their MACs before anything is changed.",
)
ANSWERED_BY_PROXY = FindingKind(
    "answered-by-proxy",
    "wire",
    WARNING,
    "a machine that answers for every address answers for this one",
    "It stands in for others (proxy ARP). Whether somebody behind it has the address cannot be seen.",
    "Look at the list of addresses that it stands in for; or take another address.",
)
UNKNOWN_DHCP_SERVER = FindingKind(
    "unknown-dhcp-server",
    "wire",
    WARNING,
    "a DHCP server answers that the plan does not know",
    "Its pool may contain the address, and hosts that stay on DHCP may get wrong settings.",
    "Find it by its address and MAC.",
)
RESOLVER_SILENT = FindingKind(
    "resolver-silent",
    "wire",
    WARNING,
    "a resolver does not answer",
    "Every look-up waits for it first.",
    "Correct the plan's resolvers, or look whether it is up.",
)
PROBED_BY_ANOTHER = FindingKind(
    "probed-by-another",
    "wire",
    NOTE,
    "another machine asks for the address at the same time",
    "It may be about to take it, or only be looked for from there: nobody has answered for it so far.",
    "Find the machine with that MAC; or check again when it is quiet.",
    undetermined=True,
)
DHCP_ANSWER_BROKEN = FindingKind(
    "dhcp-answer-broken",
    "wire",
    WARNING,
    "the answer of a DHCP server is broken",
    "An option says that it is longer than the message; clients drop such an answer, or read it differently.",
    "Look at the options that the server is configured to send.",
)
NOT_PROBED = FindingKind(
    "not-probed",
    "wire",
    NOTE,
    "the wire was not looked at",
    "Whether a machine answers for the address is not known.",
    "Run the check as root on a host of the segment.",
    undetermined=True,
)


def wire_findings(case: InterfaceCase) -> Iterator[Finding]:
    """The findings of the family ``wire`` for one interface, whose own addresses and gateways were asked for."""
    host, interface, job, own_macs = case.host, case.interface, (case.host.name, case.interface.name), case.own_macs
    if case.facts.wire is None or job in case.wire.without_neighbours:
        return
    gateways = gateways_asked(case.plan, interface)
    answers, (_, why_not) = case.wire.most_telling(job, own_macs), case.wire.of(job)
    asked = list(interface.every_address)
    raised = partial(finding, host=host.name, interface=interface.name)
    missing = [a for a in (*asked, *gateways) if a not in answers]
    reasons = dict.fromkeys(why_not.get(a, "no vantage") for a in missing)
    for why in reasons:
        these = [a for a in missing if why_not.get(a, "no vantage") == why]
        yield raised(
            NOT_PROBED,
            f"{', '.join(map(str, these))}: not probed: {why}",
            seen_in="no vantage",
            address=these[0] if len(these) == 1 else None,
        )
    for address in asked:
        answer = answers.get(address)
        foreign = answer.foreign(own_macs) if answer is not None else ()
        # Who lets go of it before its turn is the order's, and no finding.
        for holder in [h for h in foreign if h.mac not in case.facts.handed.get(address, ())]:
            assert answer is not None
            yield raised(
                ANSWERS_ON_WIRE,
                f"{address} is held by {holder.mac} ({holder.seen_by})",
                address=address,
                seen_in=answer.vantage,
                remedy=f"take another address, or find the machine with MAC {holder.mac}",
            )
        if answer is not None and answer.proxies and not answer.foreign(own_macs):
            yield raised(
                ANSWERED_BY_PROXY,
                f"{' and '.join(answer.proxies)} answers for {address}, and for every other address beside it",
                address=address,
                seen_in=answer.vantage,
            )
        probers = [mac for mac in answer.probers if mac not in own_macs] if answer is not None else []
        if answer is not None and probers and not answer.foreign(own_macs):
            yield raised(
                PROBED_BY_ANOTHER,
                f"{' and '.join(probers)} asks for {address} at the same time, as one does that is about to take it",
                address=address,
                seen_in=answer.vantage,
            )
    for gateway in gateways:
        answer = answers.get(gateway)
        if answer is not None and (answer.holders or gateway not in case.facts.arriving):
            yield from _of_gateway(gateway, answer, raised)


def _of_gateway(gateway: IPAddress, answer: WireAnswer, raised: partial[Finding]) -> Iterator[Finding]:
    macs = sorted({h.mac for h in answer.holders})
    if not macs:
        what = f"the gateway {gateway} does not answer"
        yield raised(GATEWAY_SILENT, what, address=gateway, seen_in=answer.vantage)
    elif len(macs) > 1:
        what = f"{' and '.join(macs)} answer for the gateway {gateway}"
        yield raised(GATEWAY_TWO_OWNERS, what, address=gateway, seen_in=answer.vantage)


def server_findings(case: SegmentCase) -> Iterator[Finding]:
    """DHCP servers that do not belong on the segment, and what those that do tell otherwise than the plan."""
    segment, known = case.segment, case.facts.known
    for server in case.wire.servers.get(segment.name, ()):
        where = f"DHCP answer of {server.server}, {server.vantage}"
        if server.broken_option is not None:
            yield finding(
                DHCP_ANSWER_BROKEN,
                f"the answer of the DHCP server {server.server} at {server.mac} was read up to its option "
                f"{server.broken_option}, which overruns the message",
                address=server.server,
                seen_in=where,
            )
        if not _belongs(segment, known, server):
            yield finding(
                UNKNOWN_DHCP_SERVER,
                f"on {segment.name} a DHCP server answers that the plan does not know: {server}"
                + (f", offers {server.offered}" if server.offered is not None else ""),
                address=server.server,
                seen_in=where,
                remedy=f"find the machine with MAC {server.mac}, or name it under `dhcp_servers:` of {segment.name}",
            )
            continue
        gateways = {g.address for g in segment.gateways if g.address.version == 4}
        resolvers = {r for r in segment.resolvers if r.version == 4}
        prefixes = {s.prefixlen for s in segment.subnets if s.version == 4}
        for what, told, planned in (
            ("router", set(server.routers), gateways),
            ("resolvers", set(server.resolvers), resolvers),
            ("prefix", {server.prefix} - {None}, prefixes),
        ):
            if told and not told <= planned:
                yield finding(
                    SOURCE_DISAGREES,
                    f"the DHCP server {server.server} tells the {what} {', '.join(sorted(map(str, told)))}, the plan "
                    f"says {', '.join(sorted(map(str, planned))) or 'none'} for {segment.name}",
                    seen_in=where,
                )


def _belongs(segment: Segment, known: Knowledge, seen: DhcpServerSeen) -> bool:
    """Whether a server is one of those the plan expects: by its address, else by what it offers."""
    if segment.dhcp_servers is not None:
        return seen.server in segment.dhcp_servers
    if not known.pools_known(segment.name):
        return True  # nothing is known that it could be held against
    gateways = {g.address for g in segment.gateways}
    if seen.routers and gateways and not gateways & set(seen.routers):
        return False
    if seen.offered is None:
        return bool(known.pools(segment.name))
    reserved = bool(known.reservations(seen.offered))
    return reserved or any(seen.offered in pool for pool, _ in known.pools(segment.name))


def resolver_findings(case: SegmentCase) -> Iterator[Finding]:
    """Resolvers of the segment that did not answer."""
    segment = case.segment
    for resolver, vantage in case.wire.silent.items():
        if resolver in segment.resolvers and resolver not in case.facts.arriving:
            what = f"the resolver {resolver} of {segment.name} does not answer"
            yield finding(RESOLVER_SILENT, what, address=resolver, seen_in=vantage)


def not_looked_findings(case: SiteCase) -> Iterator[Finding]:
    """One finding for all addresses, where the operator said not to look at the wire."""
    hosts = [host for host in case.facts.hosts if host.interfaces]
    count = sum(len(i.every_address) for host in hosts for i in host.interfaces)
    if count and case.facts.wire is None:
        yield finding(
            NOT_PROBED,
            f"{count} address{'es were' if count > 1 else ' was'} not probed: --no-wire",
            seen_in="no vantage",
            host=hosts[0].name if len(hosts) == 1 else None,
        )
