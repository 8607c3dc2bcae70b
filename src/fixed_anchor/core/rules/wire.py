"""What the wire says of the addresses of a plan."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from functools import partial

import msgspec

from fixed_anchor.core.addresses import IPAddress
from fixed_anchor.core.findings import Consulted, Finding, finding
from fixed_anchor.core.knowledge import Knowledge
from fixed_anchor.core.plan import HostPlan, InterfacePlan, Segment


class Holder(msgspec.Struct, frozen=True):
    """A machine that answered for an address: its MAC and how it was seen (``ARP reply``, ...)."""

    mac: str
    seen_by: str


class WireAnswer(msgspec.Struct, frozen=True):
    """What was asked on the wire about one address, and who answered.

    ``asked`` names the conversation (``3 ARP probes, RFC 5227``), ``vantage`` the place
    it was held from, ``at`` the time of day. ``probers`` are the MACs of machines that asked for the address
    themselves to the end, as whoever is about to take it does; ``proxies`` of machines that answer for every address.
    """

    address: IPAddress
    holders: tuple[Holder, ...]
    asked: str
    vantage: str
    at: str
    probers: tuple[str, ...] = ()
    proxies: tuple[str, ...] = ()

    def foreign(self, own_macs: frozenset[str]) -> tuple[Holder, ...]:
        """The holders whose MACs are not among ``own``."""
        return tuple(h for h in self.holders if h.mac not in own_macs)

    def consulted(self, own_macs: frozenset[str]) -> Consulted:
        """The answer as a line of evidence; ``own`` are MACs of the host itself."""
        foreign = self.foreign(own_macs)
        said = f"{self.asked}: " + ("answered by " + " and ".join(h.mac for h in foreign) if foreign else "no answer")
        if self.proxies:
            said += f", but {' and '.join(self.proxies)}, which answers for every address"
        if self.probers and not foreign:
            said += f", but {' and '.join(self.probers)} asks for it as well"
        return Consulted(self.vantage, said, self.at)


def more_telling(first: WireAnswer, second: WireAnswer, own_macs: frozenset[str]) -> WireAnswer:
    """Of what was seen of one address from two places that in which somebody has it, or is about to take it."""
    for tells in (lambda a: a.foreign(own_macs), lambda a: set(a.probers) - own_macs, lambda a: a.proxies):
        for answer in (first, second):
            if tells(answer):
                return answer
    return first


class DhcpServerSeen(msgspec.Struct, frozen=True):
    """A DHCP server that answered: its address and MAC, and what it would tell a client.

    ``offered`` is ``None`` where it only answered an INFORM; ``lease_seconds`` likewise. ``broken_option`` is the
    code of an option that overruns its message, up to which it was read.
    """

    server: IPAddress
    mac: str
    offered: IPAddress | None
    prefix: int | None
    routers: tuple[IPAddress, ...]
    resolvers: tuple[IPAddress, ...]
    search: tuple[str, ...]
    lease_seconds: int | None
    vantage: str
    at: str
    broken_option: int | None = None

    def __str__(self) -> str:
        said = []
        if self.routers:
            said.append("router " + ", ".join(map(str, self.routers)))
        if self.resolvers:
            said.append("resolvers " + ", ".join(map(str, self.resolvers)))
        if self.lease_seconds is not None:
            said.append(f"for {self.lease_seconds} s")
        return f"{self.server} at {self.mac}" + (": " + ", ".join(said) if said else "")


def wire_findings(
    host: HostPlan,
    interface: InterfacePlan,
    gateways: tuple[IPAddress, ...],
    answers: Mapping[IPAddress, WireAnswer],
    own_macs: frozenset[str],
    why_not: Mapping[IPAddress, str],
) -> Iterator[Finding]:
    """The findings of the family ``wire`` for one interface.

    ``answers`` holds what was learnt for the interface's addresses and ``gateways``;
    ``why_not`` says of others why they were not asked for.
    """
    asked = list(interface.every_address)
    raised = partial(finding, host=host.name, interface=interface.name)
    missing = [a for a in (*asked, *gateways) if a not in answers]
    reasons = dict.fromkeys(why_not.get(a, "no vantage") for a in missing)
    for why in reasons:
        these = [a for a in missing if why_not.get(a, "no vantage") == why]
        yield raised(
            "not-probed",
            f"{', '.join(map(str, these))}: not probed: {why}",
            seen_in="no vantage",
            address=these[0] if len(these) == 1 else None,
        )
    for address in asked:
        answer = answers.get(address)
        for holder in answer.foreign(own_macs) if answer is not None else ():
            assert answer is not None
            yield raised(
                "answers-on-wire",
                f"{address} is held by {holder.mac} ({holder.seen_by})",
                address=address,
                seen_in=answer.vantage,
                remedy=f"take another address, or find the machine with MAC {holder.mac}",
            )
        if answer is not None and answer.proxies and not answer.foreign(own_macs):
            yield raised(
                "answered-by-proxy",
                f"{' and '.join(answer.proxies)} answers for {address}, and for every other address beside it",
                address=address,
                seen_in=answer.vantage,
            )
        probers = [mac for mac in answer.probers if mac not in own_macs] if answer is not None else []
        if answer is not None and probers and not answer.foreign(own_macs):
            yield raised(
                "probed-by-another",
                f"{' and '.join(probers)} asks for {address} at the same time, as one does that is about to take it",
                address=address,
                seen_in=answer.vantage,
            )
    for gateway in gateways:
        answer = answers.get(gateway)
        if answer is not None:
            yield from _of_gateway(gateway, answer, raised)


def _of_gateway(gateway: IPAddress, answer: WireAnswer, raised: partial[Finding]) -> Iterator[Finding]:
    macs = sorted({h.mac for h in answer.holders})
    if not macs:
        what = f"the gateway {gateway} does not answer"
        yield raised("gateway-silent", what, address=gateway, seen_in=answer.vantage)
    elif len(macs) > 1:
        what = f"{' and '.join(macs)} answer for the gateway {gateway}"
        yield raised("gateway-two-owners", what, address=gateway, seen_in=answer.vantage)


def server_findings(segment: Segment, known: Knowledge, seen: Iterable[DhcpServerSeen]) -> Iterator[Finding]:
    """DHCP servers that do not belong on the segment, and what those that do tell otherwise than the plan."""
    for server in seen:
        where = f"DHCP answer of {server.server}, {server.vantage}"
        if server.broken_option is not None:
            yield finding(
                "dhcp-answer-broken",
                f"the answer of the DHCP server {server.server} at {server.mac} was read up to its option "
                f"{server.broken_option}, which overruns the message",
                address=server.server,
                seen_in=where,
            )
        if not _belongs(segment, known, server):
            yield finding(
                "unknown-dhcp-server",
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
                    "source-disagrees",
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


def resolver_findings(segment: Segment, silent: Mapping[IPAddress, str]) -> Iterator[Finding]:
    """Resolvers of the segment that did not answer; ``silent`` maps them to the vantage they were asked from."""
    for resolver, vantage in silent.items():
        if resolver in segment.resolvers:
            what = f"the resolver {resolver} of {segment.name} does not answer"
            yield finding("resolver-silent", what, address=resolver, seen_in=vantage)


def switched_off(jobs: Iterable[tuple[HostPlan, InterfacePlan]]) -> Iterator[Finding]:
    """One finding for all addresses, where the operator said not to look at the wire."""
    every = list(jobs)
    count = sum(len(i.every_address) for _, i in every)
    if count:
        hosts = {h.name for h, _ in every}
        yield finding(
            "not-probed",
            f"{count} address{'es were' if count > 1 else ' was'} not probed: --no-wire",
            seen_in="no vantage",
            host=next(iter(hosts)) if len(hosts) == 1 else None,
        )
