"""No vantage: the reason why nothing can be looked at, in the place of one."""

from __future__ import annotations

from fixed_anchor.core.addresses import IPAddress
from fixed_anchor.core.reaching import SILENT
from fixed_anchor.vantages.protocol import Said


class Nowhere:
    """Sees nothing, because ``why_not``."""

    name = "no vantage"
    frames = None
    table = None
    has_neighbours = True

    def __init__(self, why_not: str) -> None:
        self.why_not: str | None = why_not

    def ask_dns(self, server: IPAddress, question: bytes, timeout: float, over_tcp: bool = False) -> bytes | None:
        return None

    def connect(self, address: IPAddress, port: int, source: IPAddress | None, timeout: float) -> str:
        return SILENT

    def fetch(self, address: IPAddress, url: str, source: IPAddress | None, timeout: float) -> str:
        return SILENT

    def across_router(self, address: IPAddress) -> tuple[list[Said], list[Said]]:
        return [], []
