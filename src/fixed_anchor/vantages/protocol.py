"""What a vantage offers. It knows nothing of protocols: it sends frames and gives back what came."""

from __future__ import annotations

from typing import Protocol

from fixed_anchor.core.addresses import IPAddress
from fixed_anchor.packets.conversation import Conversation


class Vantage(Protocol):
    """A place on a segment. ``name`` says which, for the evidence; ``mac`` is its own."""

    name: str
    mac: str

    def converse(self, conversation: Conversation) -> None:
        """Carries the conversation out to its deadline or until it is finished.

        Raises :class:`~fixed_anchor.core.errors.NoAccess` where packets cannot be sent.
        """
        ...

    def ask_dns(self, server: IPAddress, question: bytes, timeout: float) -> bytes | None:
        """Sends a DNS message to ``server``, port 53, and returns the answer; ``None`` after ``timeout`` s."""
        ...

    def drops(self) -> int:
        """How many received frames were lost so far because nobody read them in time."""
        ...
