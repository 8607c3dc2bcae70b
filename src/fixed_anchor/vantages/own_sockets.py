"""What this machine's own sockets can ask, whatever link an interface has; and an interface without neighbours."""

from __future__ import annotations

from fixed_anchor.core.addresses import IPAddress
from fixed_anchor.vantages import across_router, dns_transport, tcp
from fixed_anchor.vantages.protocol import Said


class OwnSockets:
    """The part of a vantage of this machine that needs no frames. ``interface`` is the kernel's name of it."""

    interface: str

    def across_router(self, address: IPAddress) -> tuple[list[Said], list[Said]]:
        return across_router.look(address)

    def ask_dns(self, server: IPAddress, question: bytes, timeout: float, over_tcp: bool = False) -> bytes | None:
        return dns_transport.ask(server, question, timeout, over_tcp)

    def connect(self, address: IPAddress, port: int, source: IPAddress | None, timeout: float) -> str:
        return tcp.connect(address, port, self.interface, source, timeout)

    def fetch(self, address: IPAddress, url: str, source: IPAddress | None, timeout: float) -> str:
        return tcp.fetch(address, url, self.interface, source, timeout)


class WithoutNeighbours(OwnSockets):
    """An interface without a MAC: a tunnel or a point-to-point link, on which nobody can be asked for."""

    frames = None
    table = None
    has_neighbours = False

    def __init__(self, interface: str) -> None:
        self.interface = interface
        self.name = f"sockets through {interface}"
        self.why_not: str | None = None
