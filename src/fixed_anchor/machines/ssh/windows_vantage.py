"""A reached Windows machine as a vantage: whom it finds itself, and what it can connect to.

As weak as every kernel's neighbour table: it may be content with what it knew shortly before, and a second holder of an
address is seen for its own addresses alone. What runs there is ``looking.ps1``, whatever is asked.
"""

from __future__ import annotations

import base64
from collections.abc import Callable, Iterable
from importlib import resources
from typing import Any
from urllib.parse import urlsplit

from fixed_anchor.core.addresses import IPAddress, parse_address
from fixed_anchor.core.errors import NoAccess
from fixed_anchor.core.reaching import ACCEPTS
from fixed_anchor.core.survey import SurveyedInterface
from fixed_anchor.machines.windows.windows_facts import plain_mac
from fixed_anchor.vantages.across_router import PORTS
from fixed_anchor.vantages.protocol import Said
from fixed_anchor.vantages.unprivileged import Table, resolved_by_kernel

#: Asks something of the machine; the answer is what the program there says.
Ask = Callable[[dict[str, Any]], Any]

#: What a kernel of Linux calls the states of a neighbour, by what Windows calls them.
_STATES = {"Unreachable": "FAILED"}
#: What a router on the way says, by Ping's words.
_ROUTER = {
    "TtlExpired": "time to live exceeded",
    "TimeExceeded": "time exceeded",
    "DestinationHostUnreachable": "destination host unreachable",
    "DestinationNetworkUnreachable": "destination net unreachable",
    "DestinationProhibited": "destination host prohibited",
}


def looking_source() -> str:
    """The text of ``looking.ps1``."""
    return resources.files(__package__).joinpath("looking.ps1").read_text("ascii")


class WindowsVantage:
    """An interface of a reached Windows machine."""

    frames = None

    def __init__(self, host: str, ask: Ask, found: SurveyedInterface) -> None:
        self.interface = found.name
        self.has_neighbours = found.link.mac is not None
        self.name = f"neighbour table of {host}, {found.name}"
        self.why_not: str | None = None
        self.asked = f"resolved by Windows on {host} (which is weaker than own probes)"
        self._ask_there = ask
        self._index = found.index

    def _ask(self, what: str, seconds: float = 2.0, **more: Any) -> Any:
        return self._ask_there({"what": what, "seconds": seconds, "index": self._index, **more})

    @property
    def table(self) -> WindowsVantage | None:
        return self if self.has_neighbours else None

    def neighbours(self, targets: Iterable[IPAddress]) -> dict[IPAddress, dict[str, str]]:
        wanted = list(targets)
        found = resolved_by_kernel(wanted, self._provoke, self._table, 0.3)
        for target in wanted:
            # One of its own is in no table; the machine has looked for duplicates itself.
            others = self._detected(target) if target not in found else None
            if others is not None:
                found[target] = others
        return found

    def _provoke(self, targets: list[IPAddress]) -> None:
        self._ask("provoke", addresses=[self._scoped(target) for target in targets])

    def _scoped(self, address: IPAddress) -> str:
        return f"{address}%{self._index}" if address.version == 6 and address.is_link_local else str(address)

    def _table(self) -> Table:
        table: Table = {}
        try:
            for entry in self._ask("neighbours"):
                address = parse_address(entry["address"].partition("%")[0])
                state = _STATES.get(entry["state"], entry["state"].upper())
                mac = plain_mac(entry["mac"])
                # One that nobody answered for has a MAC of zeros.
                known = mac is not None and mac != "00:00:00:00:00:00"
                table[address] = {"state": [state], **({"lladdr": mac} if known else {})}
        except (ValueError, KeyError, TypeError, AttributeError):
            raise NoAccess("the neighbour table there cannot be read") from None
        return table

    def router_says(self, target: IPAddress) -> tuple[IPAddress, str] | None:
        reply = self._ask("hop", address=str(target), hops=1)
        words = _ROUTER.get(reply.get("status", "")) if isinstance(reply, dict) else None
        try:
            return (parse_address(reply["from"].partition("%")[0]), words) if words is not None else None
        except (ValueError, KeyError):
            return None

    def others_with(self, address: IPAddress) -> dict[str, str] | None:
        # It looks for duplicates of each address that it takes.
        return self._detected(address) or {}

    def _detected(self, address: IPAddress) -> dict[str, str] | None:
        """Who else has an address of the machine; ``None`` where it has none such."""
        states = self._ask("states", address=str(address))
        if not states:
            return None
        return {"another machine": "duplicate address detection"} if "Duplicate" in states else {}

    def ask_dns(self, server: IPAddress, question: bytes, timeout: float, over_tcp: bool = False) -> bytes | None:
        message = len(question).to_bytes(2, "big") + question if over_tcp else question
        encoded = base64.b64encode(message).decode()
        reply = self._ask("dns", max(timeout, 1.0), address=str(server), question=encoded, over_tcp=over_tcp)
        answer = base64.b64decode(reply) if isinstance(reply, str) else b""
        return answer if answer[:2] == question[:2] else None

    def connect(self, address: IPAddress, port: int, source: IPAddress | None, timeout: float) -> str:
        own = str(source) if source is not None else ""
        return str(self._ask("connect", max(timeout, 1.0), address=self._scoped(address), port=port, source=own))

    def fetch(self, address: IPAddress, url: str, source: IPAddress | None, timeout: float) -> str:
        parts = urlsplit(url)
        if parts.scheme == "https":
            word = self.connect(address, parts.port or 443, source, timeout)
            return f"{word}, and no TLS is spoken from there" if word == ACCEPTS else word
        path = (parts.path or "/") + (f"?{parts.query}" if parts.query else "")
        request = f"HEAD {path} HTTP/1.1\r\nHost: {parts.hostname}:{parts.port or 80}\r\nConnection: close\r\n\r\n"
        own = str(source) if source is not None else ""
        more = {"address": str(address), "port": parts.port or 80, "request": request, "source": own}
        reply = str(self._ask("head", max(timeout, 1.0), **more))
        kind, _, line = reply.partition(" ")
        if kind != "said":
            return reply
        words = line.split()
        is_http = len(words) >= 2 and words[0].startswith("HTTP/") and words[1].isdecimal()
        return f"status {words[1]}" if is_http else "accepts, but does not speak HTTP"

    def across_router(self, address: IPAddress) -> tuple[list[Said], list[Said]]:
        echo = self._ask("hop", address=str(address), hops=128)
        answered = isinstance(echo, dict) and echo.get("status") == "Success"
        reply = {port: self.connect(address, port, None, 1.0) for port in PORTS[:3]}
        words = ", ".join(f"port {port} {word}" for port, word in reply.items() if word in ("accepts", "refuses"))
        none = f"no answer on ports {', '.join(map(str, reply))}"
        return [
            ("echo across the router", "answered" if answered else "no answer"),
            ("TCP across the router", words or none),
        ], []
