"""Looking at the wire from one place: who holds addresses, which DHCP servers answer."""

from __future__ import annotations

import time
from collections.abc import Iterable
from ipaddress import IPv4Address, IPv6Address

import msgspec

from fixed_anchor.core.addresses import IPAddress
from fixed_anchor.core.rules.wire import DhcpServerSeen, Holder, WireAnswer
from fixed_anchor.packets.arp_probes import CAREFULLY, ArpProbes, Pattern
from fixed_anchor.packets.conversation import Conversation, HolderQuestion, Together
from fixed_anchor.packets.dhcp_questions import Answer, DhcpQuestions
from fixed_anchor.packets.neighbour_probes import NeighbourProbes
from fixed_anchor.vantages.protocol import NeighbourTable, Place, Vantage


class Looked(msgspec.Struct, frozen=True):
    """What was seen from one place. ``why_not`` says of addresses why they were not asked for,
    ``no_dhcp`` why DHCP servers were not.
    """

    answers: dict[IPAddress, WireAnswer]
    why_not: dict[IPAddress, str]
    servers: tuple[DhcpServerSeen, ...] = ()
    no_dhcp: str | None = None


def sends_frames(place: Place) -> bool:
    """Whether ``place`` is a full vantage, and not the kernel's neighbour table."""
    return hasattr(place, "converse")


def look(
    place: Place,
    targets: Iterable[IPAddress],
    ask_dhcp: bool = False,
    quickly: bool = False,
    pattern: Pattern = CAREFULLY,
) -> Looked:
    """Asks who holds ``targets``, all together, and with ``ask_dhcp`` which DHCP servers answer.

    ``quickly`` ends as soon as somebody answered for every target. ``pattern`` is that of the
    ARP probes. Raises :class:`NoAccess`.
    """
    wanted = list(dict.fromkeys(targets))
    if not sends_frames(place):
        return _through_kernel(place, wanted)  # type: ignore[arg-type]
    return _with_frames(place, wanted, ask_dhcp, quickly, pattern)  # type: ignore[arg-type]


def _with_frames(vantage: Vantage, targets: list[IPAddress], ask_dhcp: bool, quickly: bool, pattern: Pattern) -> Looked:
    asking: list[HolderQuestion] = []
    why_not: dict[IPAddress, str] = {}
    four = [t for t in targets if isinstance(t, IPv4Address)]
    six = [t for t in targets if isinstance(t, IPv6Address)]
    if four:
        asking.append(ArpProbes(vantage.mac, four, pattern, until_answered=quickly))
    if six and vantage.link_local is not None:
        asking.append(NeighbourProbes(vantage.mac, vantage.link_local, six, until_answered=quickly))
    elif six:
        why_not.update(dict.fromkeys(six, f"{vantage.name} has no link-local IPv6 address to ask from"))
    servers = DhcpQuestions(vantage.mac, vantage.own) if ask_dhcp else None
    parts: list[Conversation] = [*asking, *([servers] if servers is not None else [])]
    before = vantage.drops()
    if parts:
        vantage.converse(Together(*parts))
    lost = vantage.drops() - before
    at = time.strftime("%H:%M:%S")
    answers: dict[IPAddress, WireAnswer] = {}
    for question in asking:
        asked = question.asked + (f", {lost} received frames lost" if lost else "")
        if question.ignored:
            asked += f", {question.ignored} broken frames passed over"
        for target, holders in question.holders.items():
            found = tuple(Holder(mac, how) for mac, how in sorted(holders.items()))
            answers[target] = WireAnswer(target, found, asked, vantage.name, at)
    seen = tuple(_seen(a, vantage.name, at) for a in servers.answers) if servers is not None else ()
    return Looked(answers, why_not, _once(seen))


def _seen(answer: Answer, vantage: str, at: str) -> DhcpServerSeen:
    from fixed_anchor.packets import dhcp

    message = answer.message
    return DhcpServerSeen(
        server=answer.server,
        mac=answer.mac,
        offered=message.your if int(message.your) else None,
        prefix=message.prefix,
        routers=message.addresses(dhcp.ROUTERS),
        resolvers=message.addresses(dhcp.RESOLVERS),
        search=message.search,
        lease_seconds=message.lease_seconds,
        vantage=vantage,
        at=at,
    )


def _once(seen: tuple[DhcpServerSeen, ...]) -> tuple[DhcpServerSeen, ...]:
    """Each server once: its offer, where it made one, says more than its answer to an INFORM."""
    best: dict[tuple[IPAddress, str], DhcpServerSeen] = {}
    for server in seen:
        key = (server.server, server.mac)
        if key not in best or best[key].offered is None:
            best[key] = server
    return tuple(best.values())


def _through_kernel(table: NeighbourTable, targets: list[IPAddress]) -> Looked:
    at = time.strftime("%H:%M:%S")
    found = table.neighbours(targets)
    answers = {
        target: WireAnswer(
            target,
            tuple(Holder(mac, how) for mac, how in sorted(holders.items())),
            table.asked,
            table.name,
            at,
        )
        for target, holders in found.items()
    }
    return Looked(answers, {}, no_dhcp="DHCP servers can be asked by root only")
