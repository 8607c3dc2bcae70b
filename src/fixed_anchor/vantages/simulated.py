"""A place on a simulated wire. Time there costs nothing: a conversation is over at once."""

from __future__ import annotations

import heapq
import itertools
from ipaddress import IPv4Address, IPv6Address

from fixed_anchor.core.addresses import IPAddress
from fixed_anchor.packets.conversation import Conversation
from fixed_anchor.standins.wire import SimulatedWire


class SimulatedVantage:
    """The view that one simulated host has of its segment."""

    def __init__(
        self,
        wire: SimulatedWire,
        host: str,
        interface: str,
        mac: str,
        own: IPv4Address | None,
        link_local: IPv6Address,
    ) -> None:
        self.wire = wire
        self.mac = mac
        self.own = own
        self.link_local: IPv6Address | None = link_local
        self.name = f"simulated wire of {wire.segment.name}, from {interface} of {host}"

    def converse(self, conversation: Conversation) -> None:
        # What is on its way to us, by the time at which it arrives.
        coming: list[tuple[float, int, bytes]] = []
        order = itertools.count()
        for frame in self.wire.unasked():
            conversation.receive(frame)
        for send in conversation.sends():
            while coming and coming[0][0] <= send.at:
                conversation.receive(heapq.heappop(coming)[2])
            if conversation.finished:
                return
            for late, frame in self.wire.answers(send.frame):
                heapq.heappush(coming, (send.at + late, next(order), frame))
        while coming and coming[0][0] <= conversation.deadline and not conversation.finished:
            conversation.receive(heapq.heappop(coming)[2])

    def ask_dns(self, server: IPAddress, question: bytes, timeout: float) -> bytes | None:
        return self.wire.dns(server, question)

    def drops(self) -> int:
        return 0
