"""What the wire says of the addresses of a plan."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from functools import partial

import msgspec

from fixed_anchor.core.addresses import IPAddress
from fixed_anchor.core.findings import Consulted, Finding, finding
from fixed_anchor.core.plan import HostPlan, InterfacePlan


class Holder(msgspec.Struct, frozen=True):
    """A machine that answered for an address: its MAC and how it was seen (``ARP reply``, ...)."""

    mac: str
    seen_by: str


class WireAnswer(msgspec.Struct, frozen=True):
    """What was asked on the wire about one address, and who answered.

    ``asked`` names the conversation (``3 ARP probes, RFC 5227``), ``vantage`` the place
    it was held from, ``at`` the time of day.
    """

    address: IPAddress
    holders: tuple[Holder, ...]
    asked: str
    vantage: str
    at: str

    def foreign(self, own_macs: frozenset[str]) -> tuple[Holder, ...]:
        return tuple(h for h in self.holders if h.mac not in own_macs)

    def consulted(self, own_macs: frozenset[str]) -> Consulted:
        foreign = self.foreign(own_macs)
        said = f"{self.asked}: " + ("answered by " + " and ".join(h.mac for h in foreign) if foreign else "no answer")
        return Consulted(self.vantage, said, self.at)


def wire_findings(
    host: HostPlan,
    interface: InterfacePlan,
    gateways: tuple[IPAddress, ...],
    answers: Mapping[IPAddress, WireAnswer],
    own_macs: frozenset[str],
    why_not: str | None,
) -> Iterator[Finding]:
    """The findings of the family ``wire`` for one interface.

    ``answers`` holds what was learnt for held addresses and ``gateways``;
    ``why_not`` says why the wire was not looked at where an answer is missing.
    """
    raised = partial(finding, host=host.name, interface=interface.name)
    missing = [h.address for h in interface.hold if h.address not in answers]
    missing += [g for g in gateways if g not in answers]
    if missing:
        yield raised(
            "not-probed",
            f"the wire was not asked for {', '.join(map(str, missing))}: {why_not or 'no vantage'}",
            seen_in="no vantage",
            address=missing[0] if len(missing) == 1 else None,
        )
    for held in interface.hold:
        answer = answers.get(held.address)
        if answer is None:
            continue
        for holder in answer.foreign(own_macs):
            yield raised(
                "answers-on-wire",
                f"{held.address} is held by {holder.mac} ({holder.seen_by})",
                address=held.address,
                seen_in=answer.vantage,
                remedy=f"take another address, or find the machine with MAC {holder.mac}",
            )
    for gateway in gateways:
        answer = answers.get(gateway)
        if answer is None:
            continue
        macs = sorted({h.mac for h in answer.holders})
        if not macs:
            yield raised(
                "gateway-silent",
                f"the gateway {gateway} does not answer",
                address=gateway,
                seen_in=answer.vantage,
            )
        elif len(macs) > 1:
            yield raised(
                "gateway-two-owners",
                f"{' and '.join(macs)} answer for the gateway {gateway}",
                address=gateway,
                seen_in=answer.vantage,
            )
