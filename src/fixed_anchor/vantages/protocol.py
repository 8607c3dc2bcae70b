"""What a vantage offers: a place on a segment to look from. It knows nothing of protocols.

A vantage sends whole frames, or it has only the kernel's neighbour table to ask, or it is none
at all and says why. Whoever looks asks which, and needs no class.
"""

from __future__ import annotations

from collections.abc import Iterable
from ipaddress import IPv4Address, IPv6Address
from typing import Protocol

from fixed_anchor.core.addresses import IPAddress
from fixed_anchor.packets.conversation import Conversation

#: What was asked, and what it said or why it could not be asked.
Said = tuple[str, str]


class AsksDns(Protocol):
    """A place from which name servers can be asked."""

    name: str

    def ask_dns(self, server: IPAddress, question: bytes, timeout: float, over_tcp: bool = False) -> bytes | None:
        """Sends a DNS message to ``server``, port 53, over UDP, and over TCP where the answer is cut short.

        ``over_tcp`` asks over TCP from the beginning. Returns the answer, ``None`` where none came within
        ``timeout`` seconds.
        """
        ...


class Frames(Protocol):
    """The way to send whole frames. ``mac`` is its own, ``own`` its IPv4 address, ``link_local`` its IPv6 one."""

    mac: str
    own: IPv4Address | None
    link_local: IPv6Address | None

    def converse(self, conversation: Conversation) -> None:
        """Carries the conversation out to its deadline or until it is finished.

        Raises :class:`~fixed_anchor.core.errors.NoAccess` where packets cannot be sent.
        """
        ...

    def drops(self) -> int:
        """How many received frames were lost so far because nobody read them in time."""
        ...


class NeighbourTable(Protocol):
    """A weaker way: the kernel is asked whom it found. ``asked`` says so, for the evidence."""

    asked: str

    def neighbours(self, targets: Iterable[IPAddress]) -> dict[IPAddress, dict[str, str]]:
        """For each target the MACs that the kernel resolved it to, each with how it was seen.

        Those that it did not look for are left out, such as its own.
        Raises :class:`~fixed_anchor.core.errors.NoAccess`, also for more targets than the
        kernel's table holds.
        """
        ...

    def router_says(self, target: IPAddress) -> tuple[IPAddress, str] | None:
        """What a router on the way answers to an echo request for ``target`` that may go one hop only.

        The router's address and its words; ``None`` where none answers, or where that cannot be asked.
        """
        ...

    def others_with(self, address: IPAddress) -> dict[str, str] | None:
        """The MACs of others that have an address of the machine itself, each with how it was seen.

        ``None`` where nobody there can tell: the kernel resolves no address of its own.
        """
        ...


class Vantage(AsksDns, Protocol):
    """Somewhere to look from. ``name`` says where, for the evidence, with interface and VLAN.

    It has ``frames``, or else a ``table``, or else ``why_not`` says why nothing can be seen from there.
    """

    @property
    def frames(self) -> Frames | None:
        """The way to send whole frames, or ``None``."""
        ...

    @property
    def table(self) -> NeighbourTable | None:
        """The kernel's table, where there is nothing better, or ``None``."""
        ...

    why_not: str | None
    #: Whether there are neighbours to ask for: a link without MACs (a tunnel, a point-to-point link) has none.
    has_neighbours: bool

    def connect(self, address: IPAddress, port: int, source: IPAddress | None, timeout: float) -> str:
        """How ``address`` takes a TCP connection from ``source`` through this interface.

        One of the words of :mod:`fixed_anchor.core.reaching`. No data is sent.
        """
        ...

    def fetch(self, address: IPAddress, url: str, source: IPAddress | None, timeout: float) -> str:
        """What the web server at ``address`` says to a HEAD request for ``url``: ``status 200``, or such a word."""
        ...

    def across_router(self, address: IPAddress) -> tuple[list[Said], list[Said]]:
        """What answered for an address of another segment, and what could not be asked."""
        ...
