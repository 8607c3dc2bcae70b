"""Conversations without sockets: what to send when, what an answer means, when it is over.

A vantage carries a conversation out. It takes one :class:`Send` after the other from
:meth:`Conversation.sends` and sends it at its time, hands every received frame to
:meth:`Conversation.receive`, and stops at ``deadline`` or as soon as ``finished`` is true.
Times are seconds from the beginning.
"""

from __future__ import annotations

import heapq
from collections.abc import Iterator
from ipaddress import IPv4Address
from typing import Protocol

import msgspec

from fixed_anchor.core.addresses import IPAddress
from fixed_anchor.packets.ethernet import ETHERTYPE_ARP

#: Frames a second at which many addresses are probed together.
PACE = 5000.0


#: The first and the last IPv4 address that a conversation asks for with ARP; ``None``: it wants to see all of it.
ArpRange = tuple[IPv4Address, IPv4Address] | None


class Send(msgspec.Struct, frozen=True):
    """A frame to be sent ``at`` seconds from the beginning."""

    at: float
    frame: bytes


class Conversation(Protocol):
    """What a vantage needs to know. ``ethertypes`` are those of the frames it wants to see.

    Of ARP it wants to see what is about the addresses of ``arp_range``. ``deadline`` may move until the last frame
    was sent.
    """

    ethertypes: tuple[int, ...]
    arp_range: ArpRange

    def sends(self) -> Iterator[Send]:
        """What is to be sent, in the order of its times; each is asked for when it is due."""
        ...

    def receive(self, frame: bytes) -> None: ...

    @property
    def deadline(self) -> float: ...

    @property
    def finished(self) -> bool: ...


class HolderQuestion(Conversation, Protocol):
    """A conversation that finds out who holds addresses.

    ``holders`` maps each address to the MACs seen for it, each with how it was seen; ``probers`` to
    those that ask for it themselves, which is no answer. ``asked`` says in words what was done where nobody answers.
    ``ignored`` counts frames that were broken.
    """

    holders: dict[IPAddress, dict[str, str]]
    probers: dict[IPAddress, set[str]]
    asked: str
    ignored: int

    def asked_of(self, target: IPAddress) -> str:
        """The same of one address."""
        ...


class Together:
    """Several conversations at once: the time of the longest is enough for all."""

    def __init__(self, *parts: Conversation) -> None:
        self.parts = parts
        self.ethertypes = tuple(dict.fromkeys(kind for part in parts for kind in part.ethertypes))
        ranges = [part.arp_range for part in parts if ETHERTYPE_ARP in part.ethertypes]
        known = [one for one in ranges if one is not None]
        self.arp_range: ArpRange = None
        if known and len(known) == len(ranges):
            self.arp_range = min(first for first, _ in known), max(last for _, last in known)

    def sends(self) -> Iterator[Send]:
        return heapq.merge(*(part.sends() for part in self.parts), key=lambda send: send.at)

    def receive(self, frame: bytes) -> None:
        for part in self.parts:
            part.receive(frame)

    @property
    def deadline(self) -> float:
        return max((part.deadline for part in self.parts), default=0.0)

    @property
    def finished(self) -> bool:
        return all(part.finished for part in self.parts)
