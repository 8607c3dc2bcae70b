"""Looking at the wire from one vantage: who holds addresses, which DHCP servers answer."""

from __future__ import annotations

import logging
import random
import time
from collections.abc import Callable, Iterable, Mapping
from ipaddress import IPv4Address, IPv6Address

import msgspec

from fixed_anchor.core.addresses import IPAddress
from fixed_anchor.core.config import InterfaceConfig
from fixed_anchor.core.survey import HostSurvey
from fixed_anchor.core.times import utc
from fixed_anchor.core.wire import DhcpServerSeen, Holder, WireAnswer
from fixed_anchor.packets.arp_probes import AGAIN, CAREFULLY, CONTROL, ArpProbes, Pattern
from fixed_anchor.packets.conversation import Conversation, HolderQuestion, Together
from fixed_anchor.packets.dhcp_questions import Answer, DhcpQuestions
from fixed_anchor.packets.ipv6 import link_local_of
from fixed_anchor.packets.neighbour_probes import NeighbourProbes
from fixed_anchor.vantages.protocol import Frames, NeighbourTable, Vantage
from fixed_anchor.workflow.network.proxies import without_proxies

_log = logging.getLogger(__name__)


class Looked(msgspec.Struct, frozen=True):
    """What was seen from one vantage. ``why_not`` says of addresses why they were not asked for."""

    answers: dict[IPAddress, WireAnswer]
    why_not: dict[IPAddress, str]
    servers: tuple[DhcpServerSeen, ...] = ()


def look(
    vantage: Vantage,
    targets: Iterable[IPAddress],
    ask_dhcp: bool = False,
    quickly: bool = False,
    pattern: Pattern = CAREFULLY,
    in_use: Iterable[IPAddress] = (),
    ours: frozenset[str] = frozenset(),
) -> Looked:
    """Asks who holds ``targets``, all together, and with ``ask_dhcp`` which DHCP servers answer.

    ``quickly`` ends as soon as somebody answered for every target. ``pattern`` is that of the
    ARP probes. Those that others probe for, too, are asked for again; not so those ``in_use`` anyway, such as
    gateways, for which others' probes say nothing. ``ours`` are the MACs of other vantages of ours that look at the
    same time. Raises :class:`NoAccess`.
    """
    wanted = list(dict.fromkeys(targets))
    dhcp = " and for DHCP servers" if ask_dhcp else ""
    _log.info("%s: asking for %d addresses%s", vantage.name, len(wanted), dhcp)
    if vantage.frames is not None:
        frames, name = vantage.frames, vantage.name
        looked = _with_frames(frames, name, wanted, ask_dhcp, quickly, pattern, ours)
        if quickly:
            return looked
        # An address of a gateway has an owner anyway: only a second one is suspect.
        used = frozenset(in_use)
        suspects = [t for t, a in looked.answers.items() if len(a.holders) > (1 if t in used else 0)]
        answers = without_proxies(
            looked.answers, suspects, lambda beside: _with_frames(frames, name, beside, False, False, CONTROL).answers
        )
        looked = msgspec.structs.replace(looked, answers=answers)
        return _once_more(frames, name, looked, used, ours) if pattern is CAREFULLY else looked
    if vantage.table is not None:
        return _through_kernel(vantage.table, vantage.name, wanted)
    return Looked({}, dict.fromkeys(wanted, vantage.why_not or "not asked"))


def _with_frames(
    frames: Frames,
    name: str,
    targets: list[IPAddress],
    ask_dhcp: bool,
    quickly: bool,
    pattern: Pattern,
    ours: frozenset[str] = frozenset(),
) -> Looked:
    asking: list[HolderQuestion] = []
    four = [t for t in targets if isinstance(t, IPv4Address)]
    six = [t for t in targets if isinstance(t, IPv6Address)]
    if four:
        asking.append(ArpProbes(frames.mac, four, pattern, until_answered=quickly, sender=frames.own))
    if six:
        wait = random.uniform(*pattern.wait) if pattern is AGAIN else 0.0
        # A link that was just switched on, or that its daemon keeps bare, asks from the address that its MAC makes.
        source = frames.link_local or link_local_of(frames.mac)
        asking.append(NeighbourProbes(frames.mac, source, six, until_answered=quickly, wait=wait))
    servers = DhcpQuestions(frames.mac, frames.own) if ask_dhcp else None
    parts: list[Conversation] = [*asking, *([servers] if servers is not None else [])]
    before = frames.drops()
    if parts:
        frames.converse(Together(*parts))
    lost = frames.drops() - before
    at = utc()
    answers: dict[IPAddress, WireAnswer] = {}
    for question in asking:
        beside = f", {lost} received frames lost" if lost else ""
        if question.ignored:
            beside += f", {question.ignored} broken frames passed over"
        for target, holders in question.holders.items():
            asked = question.asked_of(target) + beside
            found = tuple(Holder(mac, how) for mac, how in sorted(holders.items()))
            answers[target] = WireAnswer(target, found, asked, name, at, tuple(sorted(question.probers[target] - ours)))
    seen = tuple(_seen(a, name, at) for a in servers.answers) if servers is not None else ()
    return Looked(answers, {}, _once(seen))


#: How often it is asked again for an address that others ask for at the same time.
_ROUNDS = 4
#: Who asks for so many rounds, which take longer than RFC 5227 lets it ask before it announces, only looks, as we do.
_ONLY_LOOKS = 2


def _once_more(frames: Frames, name: str, looked: Looked, in_use: frozenset[IPAddress], ours: frozenset[str]) -> Looked:
    """Asks again, at random times, for what only others' probes were seen for: several may look at the same time."""
    answers = {
        target: msgspec.structs.replace(answer, probers=()) if target in in_use else answer
        for target, answer in looked.answers.items()
    }
    begun = {(target, mac): 0 for target, answer in answers.items() for mac in answer.probers}
    for number in range(1, _ROUNDS + 1):
        open_ones = [t for t, a in answers.items() if a.probers and not a.holders]
        if not open_ones:
            break
        again = _with_frames(frames, name, open_ones, False, False, AGAIN, ours)
        for target, answer in again.answers.items():
            since = {mac: begun.setdefault((target, mac), number) for mac in answer.probers}
            about_to = tuple(mac for mac in answer.probers if number - since[mac] < _ONLY_LOOKS)
            asked = f"{answers[target].asked}, {answer.asked}"
            answers[target] = msgspec.structs.replace(answer, asked=asked, probers=about_to)
    return msgspec.structs.replace(looked, answers=answers)


def _seen(answer: Answer, vantage: str, at: str) -> DhcpServerSeen:
    from fixed_anchor.packets import dhcp

    message = answer.message
    return DhcpServerSeen(
        server=answer.server,
        mac=answer.mac,
        broken_option=message.broken_option,
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


def _through_kernel(table: NeighbourTable, name: str, targets: list[IPAddress]) -> Looked:
    at = utc()
    found = table.neighbours(targets)
    answers = {
        target: WireAnswer(
            target,
            tuple(Holder(mac, how) for mac, how in sorted(holders.items())),
            table.asked,
            name,
            at,
        )
        for target, holders in found.items()
    }
    why_not = f"{name} did not look for it, as for an address of its own"
    return Looked(answers, {target: why_not for target in targets if target not in found})


#: Seconds that the one who has an address is given to go, and between two looks.
TO_GO, _PAUSE = 30.0, 2.0


def still_held(holders: Callable[[], Mapping[IPAddress, str]], seconds: float) -> Mapping[IPAddress, str]:
    """What ``holders`` tells once it tells of nobody, or after so many ``seconds``."""
    until = time.monotonic() + seconds
    while (held := holders()) and time.monotonic() < until:
        time.sleep(_PAUSE)
    return held


def others_holding(
    vantage_of: Callable[[str], Vantage],
    survey: HostSurvey,
    configs: Iterable[InterfaceConfig],
    more: Mapping[str, Iterable[IPAddress]] = {},
) -> dict[IPAddress, str]:
    """The addresses of ``configs`` that another machine holds, each with its MAC, as a host hears it.

    ``vantage_of`` tells from where the host looks, by interface; ``survey`` is what it holds itself. ``more`` are
    further addresses to ask for, by interface. Those that the host holds itself are not asked for, nor are those of
    interfaces from which nobody can look. Raises :class:`NoAccess`.
    """
    held, own = survey.own_addresses(), survey.own_macs()
    found = {}
    for config in configs:
        every = [*(a.ip for a in config.addresses), *more.get(config.interface, ())]
        wanted = [address for address in every if address not in held]
        vantage = vantage_of(config.interface)
        if not wanted or (vantage.frames is None and vantage.table is None):
            continue
        for address, answer in look(vantage, wanted).answers.items():
            foreign = answer.foreign(own)
            if foreign:
                found[address] = foreign[0].mac
    return found
