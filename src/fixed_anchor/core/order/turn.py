"""What an order is made of, and what comes out: turns, in waves, each with the reasons for its place."""

from __future__ import annotations

from collections.abc import Mapping
from typing import NamedTuple

import msgspec

from fixed_anchor.core.addresses import IPAddress
from fixed_anchor.core.plan import HostPlan, Plan
from fixed_anchor.core.wanted import gateways_of

#: A host is changed in one go; or in two, of which the first leaves something for the second.
WHOLE, FIRST, SECOND = "whole", "first", "second"


class Standing(msgspec.Struct, frozen=True):
    """A host as it is now, seen from its plan.

    ``held`` are the addresses that its kernel holds, ``going`` those of them that it would not hold any more. ``kind``
    says which stack and release it has, on which segments: what one host of a kind shows counts for the others.
    ``lookers`` are the hosts that can look at it from beside, ``None`` where nobody need.
    """

    host: HostPlan
    held: frozenset[IPAddress] = frozenset()
    going: frozenset[IPAddress] = frozenset()
    kind: str = ""
    lookers: frozenset[str] | None = None

    @property
    def planned(self) -> frozenset[IPAddress]:
        """The addresses that it is to hold."""
        return frozenset(held.address for i in self.host.interfaces for held in i.own)

    @property
    def coming(self) -> frozenset[IPAddress]:
        """Those that it does not hold yet."""
        return self.planned - self.held


class Key(NamedTuple):
    """Which turn of which host."""

    host: str
    part: str

    def __str__(self) -> str:
        return self.host if self.part == WHOLE else f"{self.host} ({self.part} change)"


class Turn(msgspec.Struct, frozen=True):
    """One change of a host, in its place.

    ``after`` are the turns whose end it waits for, ``why`` the reasons for its place in words. ``beside`` are addresses
    of today that it leaves on the host, for its second change to drop. ``parked`` has the parking address for each
    planned one that somebody else still holds. ``alone`` says that no other turn is in its wave.
    """

    key: Key
    after: frozenset[Key] = frozenset()
    why: tuple[str, ...] = ()
    beside: frozenset[IPAddress] = frozenset()
    parked: Mapping[IPAddress, IPAddress] = {}
    alone: bool = False

    @property
    def host(self) -> str:
        """The host that is changed."""
        return self.key.host

    @property
    def is_last(self) -> bool:
        """Whether its host is as planned afterwards."""
        return self.key.part != FIRST


class LeftOut(msgspec.Struct, frozen=True):
    """A host that is not changed, or not to its end, and why."""

    host: str
    why: str
    #: Whether its first change is made.
    is_begun: bool = False


class Order(msgspec.Struct, frozen=True):
    """The turns in their waves; those left out; and those that are as planned already."""

    waves: tuple[tuple[Turn, ...], ...] = ()
    left_out: tuple[LeftOut, ...] = ()
    settled: tuple[str, ...] = ()

    @property
    def turns(self) -> tuple[Turn, ...]:
        """All turns, wave by wave."""
        return tuple(turn for wave in self.waves for turn in wave)


def used_by(plan: Plan, host: HostPlan) -> dict[IPAddress, str]:
    """The gateways, resolvers and DHCP servers that a host is to use, each with what it is to it."""
    used: dict[IPAddress, str] = {}
    for interface in host.touched:
        segment = plan.segments[interface.segment]
        fixed = "fixed" in (interface.ipv4, interface.ipv6)
        if fixed:
            used |= {gateway.address: "gateway" for gateway in gateways_of(interface, segment)}
            resolvers = segment.resolvers if interface.resolvers is None else interface.resolvers
            used |= {resolver: "resolver" for resolver in resolvers}
        if "dhcp" in (interface.ipv4, interface.ipv6):
            used |= {server: "DHCP server" for server in segment.dhcp_servers or ()}
    return used
