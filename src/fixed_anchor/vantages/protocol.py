"""What a vantage offers. It knows nothing of protocols: it sends frames and gives back what came."""

from __future__ import annotations

from collections.abc import Iterable
from ipaddress import IPv4Address, IPv6Address
from typing import Protocol

from fixed_anchor.core.addresses import IPAddress
from fixed_anchor.packets.conversation import Conversation


class AsksDns(Protocol):
    """A place from which name servers can be asked."""

    def ask_dns(self, server: IPAddress, question: bytes, timeout: float) -> bytes | None:
        """Sends a DNS message to ``server``, port 53, over UDP, and over TCP where the answer is cut short.

        Returns the answer, ``None`` where none came within ``timeout`` seconds.
        """
        ...


class Vantage(AsksDns, Protocol):
    """A place on a segment that sends whole frames.

    ``name`` says which, for the evidence, with interface and VLAN; ``mac`` is its own, ``own``
    its IPv4 address and ``link_local`` its IPv6 one, where it has them.
    """

    name: str
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


class NeighbourTable(AsksDns, Protocol):
    """A weaker place: it cannot send frames, and asks the kernel whom it found."""

    name: str
    asked: str

    def neighbours(self, targets: Iterable[IPAddress]) -> dict[IPAddress, dict[str, str]]:
        """For each target the MACs that the kernel resolved it to, each with how it was seen.

        Raises :class:`~fixed_anchor.core.errors.NoAccess`, also for more targets than the
        kernel's table holds.
        """
        ...


#: Somewhere to look from: with frames of our own, or through the kernel's neighbour table.
Place = Vantage | NeighbourTable
