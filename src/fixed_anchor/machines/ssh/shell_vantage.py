"""A reached host as a vantage without Python: its kernel's neighbour table, and what its shell can connect to.

Weaker than frames of our own: the kernel may be content with what it knew shortly before, and a second holder of an
address is never seen. The scripts here are fixed; addresses are their arguments.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable
from urllib.parse import urlsplit

from fixed_anchor.core.addresses import IPAddress, parse_address
from fixed_anchor.core.errors import NoAccess
from fixed_anchor.core.reaching import ACCEPTS, REFUSES, SILENT, UNREACHABLE
from fixed_anchor.core.survey import SurveyedInterface
from fixed_anchor.machines.readable import Ran
from fixed_anchor.vantages.protocol import Said
from fixed_anchor.vantages.unprivileged import Table, read_table, resolved_by_kernel, table_command

#: Runs a command on the host, with its time limit in seconds.
Run = Callable[[tuple[str, ...], float], Ran]

_NO_BASH = "there is neither Python nor bash"
#: bash alone has such files (bash(1), REDIRECTION); a datagram makes the kernel resolve its neighbour.
_PROVOKE = 'for address in "$@"; do { printf . >"/dev/udp/$address/9"; } 2>/dev/null; done; true'
_CONNECT = 'exec 7<>"/dev/tcp/$1/$2"'
_DNS = 'exec 7<>"/dev/$1/$2/53"; printf %b "$3" >&7; dd bs=65535 count=1 <&7 2>/dev/null | od -An -v -tx1'
_HEAD = (
    'exec 7<>"/dev/tcp/$1/$2"; printf "%s\\r\\n" "$3" "Host: $4" "Connection: close" "" >&7; '
    'IFS= read -r line <&7; echo "$line"'
)


_MAC = re.compile(r"\[?((?:[0-9a-fA-F]{2}:){5}[0-9a-fA-F]{2})\]?")
#: A router's answer, as ping(8) tells it: `From 203.0.113.1 icmp_seq=1 Time to live exceeded`.
_ROUTER = re.compile(
    r"^From ([0-9a-fA-F.:]+):? icmp_seq=\d+ (Time to live exceeded|Time exceeded|Destination .*)", re.MULTILINE
)


class ShellVantage:
    """An interface of a reached host on which no program of ours can run."""

    frames = None

    def __init__(self, host: str, run: Run, found: SurveyedInterface, why: str) -> None:
        """``why`` says what is missing there for more."""
        vlan = f", VLAN {found.link.vlan}" if found.link.vlan is not None else ""
        self.interface = found.name
        self.has_neighbours = found.link.mac is not None
        self.name = f"neighbour table of {host}, {found.name}{vlan}"
        self.why_not: str | None = None
        self.asked = f"resolved by the kernel of {host} ({why}, which is weaker than own probes)"
        self._run = run
        self._arping: tuple[str, ...] | None = None

    @property
    def table(self) -> ShellVantage | None:
        return self if self.has_neighbours else None

    def neighbours(self, targets: Iterable[IPAddress]) -> dict[IPAddress, dict[str, str]]:
        wanted = list(targets)
        found = resolved_by_kernel(wanted, self._provoke, self._table, 0.3)
        for target in wanted:
            # One of its own is in no table; arping may know all the same.
            others = self.others_with(target) if target not in found and target.version == 4 else None
            if others is not None:
                found[target] = others
        return found

    def _provoke(self, targets: list[IPAddress]) -> None:
        if self._bash(_PROVOKE, *map(self._scoped, targets)).status != 127:
            return
        for target in targets:
            if self._run(("ping", "-n", "-c", "1", "-W", "1", self._scoped(target)), 5).status == 127:
                raise NoAccess(f"the kernel there cannot be made to look: {_NO_BASH}, nor ping")

    def router_says(self, target: IPAddress) -> tuple[IPAddress, str] | None:
        argv = ("ping", "-n", "-c", "2", "-W", "1", "-t", "1", "-I", self.interface, str(target))
        found = _ROUTER.search(self._run(argv, 10).out)
        try:
            return (parse_address(found[1]), found[2].strip().lower()) if found is not None else None
        except ValueError:
            return None

    def others_with(self, address: IPAddress) -> dict[str, str] | None:
        if address.version == 6:
            # The kernel looks for duplicates itself (RFC 4862, section 5.4), and then says so of the address.
            shown = self._run(("ip", "-6", "address", "show", "dev", self.interface, "dadfailed"), 10)
            return {"another machine": "duplicate address detection"} if f" {address}/" in shown.out else {}
        arping = self._arping_there()
        if arping is None:
            return None
        ran = self._run((*arping, "-D", "-c", "3", "-w", "4", "-I", self.interface, str(address)), 15)
        if ran.good:
            return {}
        macs = _MAC.findall(ran.out)
        return {mac.lower(): "arping there" for mac in macs} or {"another machine": "arping there"}

    def _arping_there(self) -> tuple[str, ...] | None:
        """The program of that name whose options these are; others have others."""
        if self._arping is None:
            self._arping = ()
            for argv in (("arping",), ("busybox", "arping")):
                told = self._run((*argv, "--help"), 5)
                if "-D" in told.out + told.err and "-U" in told.out + told.err:
                    self._arping = argv
                    break
        return self._arping or None

    def _scoped(self, address: IPAddress) -> str:
        return f"{address}%{self.interface}" if address.version == 6 and address.is_link_local else str(address)

    def _table(self) -> Table:
        return read_table(self._run(table_command(self.interface), 10).out)

    def _bash(self, script: str, *words: str, seconds: float = 30.0) -> Ran:
        return self._run(("bash", "-c", script, "fixed-anchor", *words), seconds)

    def ask_dns(self, server: IPAddress, question: bytes, timeout: float, over_tcp: bool = False) -> bytes | None:
        message = len(question).to_bytes(2, "big") + question if over_tcp else question
        escaped = "".join(f"\\x{byte:02x}" for byte in message)
        ran = self._bash(_DNS, "tcp" if over_tcp else "udp", str(server), escaped, seconds=max(timeout, 1))
        try:
            answer = bytes.fromhex("".join(ran.out.split()))
        except ValueError:
            return None
        answer = answer[2:] if over_tcp else answer
        return answer if answer[:2] == question[:2] else None

    def connect(self, address: IPAddress, port: int, source: IPAddress | None, timeout: float) -> str:
        return _word(self._bash(_CONNECT, self._scoped(address), str(port), seconds=max(timeout, 1)))

    def fetch(self, address: IPAddress, url: str, source: IPAddress | None, timeout: float) -> str:
        parts = urlsplit(url)
        if parts.scheme == "https":
            word = self.connect(address, parts.port or 443, source, timeout)
            return f"{word}, but without Python there no TLS can be spoken" if word == ACCEPTS else word
        port = parts.port or 80
        path = (parts.path or "/") + (f"?{parts.query}" if parts.query else "")
        request = (f"HEAD {path} HTTP/1.1", f"{parts.hostname}:{port}")
        ran = self._bash(_HEAD, str(address), str(port), *request, seconds=max(timeout, 1))
        words = ran.out.split()
        if len(words) >= 2 and words[0].startswith("HTTP/") and words[1].isdecimal():
            return f"status {words[1]}"
        return "accepts, but does not speak HTTP" if ran.status == 0 else _word(ran)

    def across_router(self, address: IPAddress) -> tuple[list[Said], list[Said]]:
        said = self._run(("ping", "-n", "-c", "2", "-W", "2", str(address)), 10)
        if said.status == 127:
            return [], [("echo across the router", "there is no ping")]
        return [("echo across the router", "answered" if said.good else "no answer")], [
            ("TCP across the router", "there is no Python")
        ]


def _word(ran: Ran) -> str:
    """How a connection was taken, by what bash said of it."""
    if ran.good:
        return ACCEPTS
    if "refused" in ran.err:
        return REFUSES
    return UNREACHABLE if "unreachable" in ran.err or "No route" in ran.err else SILENT
