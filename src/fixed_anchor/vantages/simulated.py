"""A place on a simulated wire. Time there costs nothing: a conversation is over at once."""

from __future__ import annotations

from fixed_anchor.core.addresses import IPAddress
from fixed_anchor.packets.conversation import Conversation
from fixed_anchor.standins.wire import SimulatedWire


class SimulatedVantage:
    """The view that one simulated host has of its segment."""

    def __init__(self, wire: SimulatedWire, host: str, interface: str, mac: str) -> None:
        self.wire = wire
        self.mac = mac
        self.name = f"simulated wire of {wire.segment.name}, from {interface} of {host}"

    def converse(self, conversation: Conversation) -> None:
        for send in conversation.schedule:
            for frame in self.wire.answers(send.frame):
                conversation.receive(frame)
            if conversation.finished:
                return

    def ask_dns(self, server: IPAddress, question: bytes, timeout: float) -> bytes | None:
        return self.wire.dns(server, question)

    def drops(self) -> int:
        return 0
