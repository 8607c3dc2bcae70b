"""What the wire said of a plan's addresses: who answered for them, which DHCP servers and resolvers there are."""

from __future__ import annotations

import msgspec

from fixed_anchor.core.addresses import IPAddress
from fixed_anchor.core.claims import Claims
from fixed_anchor.core.findings import Consulted
from fixed_anchor.core.plan import Segment

#: A host of the plan, and an interface of it.
JobName = tuple[str, str]


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
        words = f"{self.asked}: " + ("answered by " + " and ".join(h.mac for h in foreign) if foreign else "no answer")
        if self.proxies:
            words += f", but {' and '.join(self.proxies)}, which answers for every address"
        if self.probers and not foreign:
            words += f", but {' and '.join(self.probers)} asks for it as well"
        return Consulted(self.vantage, words, self.at)


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
        words = []
        if self.routers:
            words.append("router " + ", ".join(map(str, self.routers)))
        if self.resolvers:
            words.append("resolvers " + ", ".join(map(str, self.resolvers)))
        if self.lease_seconds is not None:
            words.append(f"for {self.lease_seconds} s")
        return f"{self.server} at {self.mac}" + (": " + ", ".join(words) if words else "")


class WireSeen:
    """What was seen. ``why`` says why something was not, where nothing more is known of it."""

    def __init__(self) -> None:
        self._answers: dict[JobName, dict[IPAddress, WireAnswer]] = {}
        self._second: dict[JobName, dict[IPAddress, WireAnswer]] = {}
        self._why_not: dict[JobName, dict[IPAddress, str]] = {}
        #: Interfaces whose link has no neighbours: a tunnel, a point-to-point link.
        self.without_neighbours: set[JobName] = set()
        #: The places from which each segment was looked at.
        self.vantages: dict[str, list[str]] = {}
        #: DHCP servers that answered, by segment.
        self.servers: dict[str, tuple[DhcpServerSeen, ...]] = {}
        #: Resolvers that did not answer, and the vantage they were asked from.
        self.silent: dict[IPAddress, str] = {}
        #: What the resolvers know of the addresses and names at hand.
        self.names: list[Claims] = []

    def of(self, job: JobName) -> tuple[dict[IPAddress, WireAnswer], dict[IPAddress, str]]:
        """The answers for the addresses of one interface, and why there are none for others."""
        return self._answers.get(job, {}), self._why_not.get(job, {})

    def second(self, job: JobName) -> dict[IPAddress, WireAnswer]:
        """What a second host saw of the addresses of one interface."""
        return self._second.get(job, {})

    def most_telling(self, job: JobName, own_macs: frozenset[str]) -> dict[IPAddress, WireAnswer]:
        """For each address what was seen from that place which saw somebody with it; ``own_macs`` are the host's."""
        answers, second = self._answers.get(job, {}), self.second(job)
        both = {a: more_telling(answer, second.get(a, answer), own_macs) for a, answer in answers.items()}
        return {**second, **both}

    def answered(self, job: JobName, answer: WireAnswer, is_second: bool = False) -> None:
        """Keeps an answer for an interface."""
        (self._second if is_second else self._answers).setdefault(job, {})[answer.address] = answer

    def looks_from(self, segment: Segment, place: str) -> None:
        """Keeps a place from which a segment is looked at."""
        places = self.vantages.setdefault(segment.name, [])
        if place not in places:
            places.append(place)

    def not_asked(self, job: JobName, address: IPAddress, why: str) -> None:
        """Keeps why nobody asked for an address of an interface."""
        self._why_not.setdefault(job, {})[address] = why
