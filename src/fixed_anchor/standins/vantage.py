"""A place on a simulated wire. Time there costs nothing: a conversation is over at once."""

from __future__ import annotations

import heapq
import itertools
from ipaddress import IPv4Address, IPv6Address
from typing import TYPE_CHECKING

from fixed_anchor.core.addresses import IPAddress
from fixed_anchor.core.reaching import ANSWERS, SILENT
from fixed_anchor.core.survey import SurveyedInterface
from fixed_anchor.packets.conversation import Conversation
from fixed_anchor.packets.ipv6 import link_local_of
from fixed_anchor.standins.beyond import SSH, Way
from fixed_anchor.standins.hosts import hosts_on
from fixed_anchor.standins.simulated_wire import SimulatedWire
from fixed_anchor.vantages.nowhere import Nowhere
from fixed_anchor.vantages.protocol import Said, Vantage
from fixed_anchor.vantages.raw import is_off

if TYPE_CHECKING:
    from fixed_anchor.standins.machine import Standin


def on(found: SurveyedInterface, standin: Standin) -> Vantage:
    """The view from an interface of a simulated host."""
    for simulated in standin.host.host.interfaces:
        if simulated.name == found.name:
            beside = hosts_on(standin.station, simulated.segment)
            wire = SimulatedWire(standin.station, beside, simulated.segment, standin.name)
            if standin.host.kernel()[simulated.name].get("off"):
                off = is_off(simulated.name)
                return Nowhere(f"{off.what}; {off.remedy}")
            held = standin.host.addresses_of(simulated)
            if simulated.point_to_point:
                return SimulatedVantage(wire, standin.name, found.name, None, None, None)
            own = next((a for a in held if isinstance(a, IPv4Address)), None)
            return SimulatedVantage(wire, standin.name, found.name, simulated.mac, own, link_local_of(simulated.mac))
    return Nowhere(f"{standin.name} has no interface {found.name}")


class SimulatedVantage:
    """The view that one simulated host has of its segment."""

    def __init__(
        self,
        wire: SimulatedWire,
        host: str,
        interface: str,
        mac: str | None,
        own: IPv4Address | None,
        link_local: IPv6Address | None,
    ) -> None:
        """Without a ``mac`` the link has no neighbours."""
        self.wire = wire
        self.interface = interface
        self.mac = mac or ""
        self.has_neighbours = mac is not None
        self.own = own
        self.link_local = link_local
        self.table = None
        self.why_not: str | None = None
        self.name = f"simulated wire of {wire.segment.name}, from {interface} of {host}"

    @property
    def frames(self) -> SimulatedVantage | None:
        return self if self.has_neighbours else None

    def across_router(self, address: IPAddress) -> tuple[list[Said], list[Said]]:
        said = self.connect(address, SSH, None, 1.0)
        return ([("TCP across the router", f"port {SSH} {said}")] if said in ANSWERS else []), []

    def connect(self, address: IPAddress, port: int, source: IPAddress | None, timeout: float) -> str:
        if not self.wire.is_up:
            return SILENT
        return self._way(address).connect(source, address, port)

    def fetch(self, address: IPAddress, url: str, source: IPAddress | None, timeout: float) -> str:
        if not self.wire.is_up:
            return SILENT
        return self._way(address).fetch(source, address, url)

    def _way(self, to: IPAddress) -> Way:
        self.wire.look_again()
        viewer = self.wire.viewer
        gateway = viewer.gateway_of(self.interface, to.version) if viewer is not None else None
        return Way(self.wire.segment, self.wire.holders, gateway, self.wire.station.beyond)

    def converse(self, conversation: Conversation) -> None:
        self.wire.look_again()
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

    def ask_dns(self, server: IPAddress, question: bytes, timeout: float, over_tcp: bool = False) -> bytes | None:
        return self.wire.dns(server, question, over_tcp)

    def drops(self) -> int:
        return 0
