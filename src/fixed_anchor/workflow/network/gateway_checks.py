"""Whether a gateway is there, is one machine, and routes: something beyond it must answer through it."""

from __future__ import annotations

import time
from collections.abc import Iterable
from itertools import chain

import msgspec

from fixed_anchor.core.addresses import IPAddress
from fixed_anchor.core.reaching import ANSWERS, beyond, is_beyond
from fixed_anchor.core.verification import VerifyCheck
from fixed_anchor.packets.echoes import Echoes
from fixed_anchor.packets.hop_limit import HopLimitProbe
from fixed_anchor.workflow.network.asking import Asking, peer
from fixed_anchor.workflow.network.look import Looked

#: Seconds that a connection has to come about, and how many of those that the host talked to are tried.
CONNECT_TIMEOUT = 2.0
_PEERS = 3
#: The port of resolvers, tried where nobody else beyond the gateway is known.
_DOMAIN = 53


class Answered(msgspec.Struct, frozen=True):
    """Somebody beyond the routers who answered: ``what`` in words. ``address`` is its own."""

    address: IPAddress
    what: str


def answers_code(gateway: IPAddress) -> str:
    """The code of the check that it is there. "ARP" is what administrators say; of IPv6 neighbour discovery asks."""
    return "gateway-answers-arp" if gateway.version == 4 else "gateway-answers-nd"


def gateway_checks(
    asking: Asking, gateway: IPAddress, looked: Looked, answered: Iterable[Answered]
) -> list[VerifyCheck]:
    """All checks of one gateway; ``looked`` has who answers for it, ``answered`` who beyond it has been heard."""
    macs: list[str] = []
    checks: list[VerifyCheck] = []
    if asking.vantage.has_neighbours:
        there, macs = _is_there(asking, gateway, looked)
        checks.append(there)
        if len(macs) > 1:
            checks.append(
                asking.check(
                    "gateway-is-one",
                    str(gateway),
                    f"one machine is {gateway}",
                    f"{' and '.join(macs)} answer for {gateway}",
                    "two machines answer for the gateway, and which one gets a packet is chance",
                )
            )
        checks.append(_echo(asking, gateway, macs))
    checks.append(_forwards(asking, gateway, macs, answered))
    return checks


def _is_there(asking: Asking, gateway: IPAddress, looked: Looked) -> tuple[VerifyCheck, list[str]]:
    code = answers_code(gateway)
    answer = looked.answers.get(gateway)
    if answer is None:
        why = looked.why_not.get(gateway, asking.vantage.why_not or "not asked")
        return asking.not_made(code, str(gateway), str(gateway), why), []
    macs = [h.mac for h in answer.holders]
    observed = f"{gateway} is at {', '.join(macs)}" if macs else "no answer"
    why_not = None if macs else f"nobody answered {answer.asked}"
    return asking.check(code, str(gateway), str(gateway), observed, why_not), macs


def _echo(asking: Asking, gateway: IPAddress, macs: list[str]) -> VerifyCheck:
    # Not required: a gateway that drops pings forwards as well as any other.
    code, shown = "gateway-answers-echo", str(gateway)
    source = asking.sources.get(gateway.version)
    frames = asking.vantage.frames
    if gateway.is_link_local and frames is not None and frames.link_local is not None:
        source = frames.link_local
    if not macs:
        return asking.not_made(code, shown, shown, "the gateway's MAC is not known", required=False)
    if source is None:
        return asking.not_made(code, shown, shown, f"the interface has no IPv{gateway.version} address", required=False)
    if frames is None:
        return asking.not_made(
            code, shown, shown, f"{asking.vantage.name} sends no frames: that needs root", required=False
        )
    begun = time.monotonic()
    echoes = Echoes(frames.mac, source, macs[0], gateway)
    frames.converse(echoes)
    why = None if echoes.answered else "it does not answer pings; some gateways never do"
    answer = "answers" if echoes.answered else "no answer"
    return asking.check(code, shown, shown, answer, why, begun, required=False)


def _forwards(asking: Asking, gateway: IPAddress, macs: list[str], answered: Iterable[Answered]) -> VerifyCheck:
    """Somebody beyond it, else what a router alone says. Which of the two it was stands in what was observed."""
    begun = time.monotonic()
    expected = f"something beyond {gateway} answers"
    tried: list[str] = []
    # Connections go by the gateway that the kernel prefers; of another one they say nothing.
    is_first = next((g for g in asking.gateways if g.version == gateway.version), None) == gateway
    if is_first:
        # One answer is enough: nobody is asked needlessly.
        for one in chain(answered, _heard(asking, gateway, tried)):
            if one.address.version == gateway.version and is_beyond(one.address, asking.on_link):
                return asking.check("gateway-forwards", str(gateway), expected, f"{one.what}, beyond {gateway}", None)
    resolvers = [*asking.resolvers, *(peer(p)[0] for p in asking.judge.peers)]
    target = beyond(gateway.version, resolvers, asking.on_link)
    frames, table, source = asking.vantage.frames, asking.vantage.table, asking.sources.get(gateway.version)
    if source is None and frames is not None and gateway.version == 4:
        source = frames.own
    answer: str | None = None
    if frames is not None and macs and source is not None:
        probe = HopLimitProbe(frames.mac, source, macs[0], gateway, target)
        frames.converse(probe)
        answer = probe.said
        tried.append(f"no answer of a router to a packet for {target} with a hop limit of 1")
    elif frames is None and table is not None and is_first:
        router = table.router_says(target)
        answer = router[1] if router is not None and router[0] == gateway else None
    if answer is not None:
        observed = f"{gateway} routes: {answer} for {target}; whether its uplink works was not seen"
        return asking.check("gateway-forwards", str(gateway), expected, observed, None, begun)
    if frames is None and not tried and asking.vantage.has_neighbours:
        why = f"{asking.vantage.name} sends no frames: that needs root, and nobody beyond it is known"
        return asking.not_made("gateway-forwards", str(gateway), expected, why)
    why_not = "; ".join(tried) or "its MAC is not known, and nobody beyond it is"
    return asking.check("gateway-forwards", str(gateway), expected, "nothing beyond it answered", why_not, begun)


def _heard(asking: Asking, gateway: IPAddress, tried: list[str]) -> Iterable[Answered]:
    """Those that the host talked to, and resolvers beyond the gateway: a reset is an answer, too."""
    known = [peer(text) for text in asking.judge.peers]
    known += [(resolver, _DOMAIN) for resolver in asking.resolvers]
    far = [p for p in known if p[0].version == gateway.version and is_beyond(p[0], asking.on_link)]
    source = asking.sources.get(gateway.version)
    for address, port in list(dict.fromkeys(far))[:_PEERS]:
        answer = asking.vantage.connect(address, port, source, CONNECT_TIMEOUT)
        if answer in ANSWERS:
            yield Answered(address, f"{address} port {port} {answer}")
        tried.append(f"{address} port {port}: {answer}")
