"""Where else a host uses an address: sockets bound to it, and files that name it."""

from __future__ import annotations

import re
from collections.abc import Iterable
from functools import lru_cache

import msgspec

from fixed_anchor.core.addresses import IPAddress, parse_address
from fixed_anchor.core.config import Place

#: A word that may be an IPv6 address, with nothing around it that would make it a longer one.
_IPV6_WORD = re.compile(r"(?<![0-9A-Za-z:.])[0-9A-Fa-f:]*::?[0-9A-Fa-f:]*(?:\d+\.\d+\.\d+\.\d+)?(?![0-9A-Za-z:])")


class Listener(msgspec.Struct, frozen=True):
    """A socket that waits for others. ``address`` is ``None`` where it is bound to all; ``program`` may be empty."""

    protocol: str
    address: IPAddress | None
    port: int
    program: str = ""


class Mention(msgspec.Struct, frozen=True):
    """A line of a file that names an address."""

    address: IPAddress
    place: Place
    text: str


class ListenAddress(msgspec.Struct, frozen=True):
    """One ``ListenAddress`` of sshd_config(5): the ``addresses`` that it stands for, and where it stands."""

    addresses: tuple[IPAddress, ...]
    place: Place


class Elsewhere(msgspec.Struct, frozen=True):
    """What a search of one host found. ``left_out`` says in words what was not looked at, and why.

    ``listen_addresses`` are those of sshd, in order; none where it listens on all. ``ssh_ports`` are the ports at
    which it may be waited for in its stead.
    """

    listeners: tuple[Listener, ...] = ()
    mentions: tuple[Mention, ...] = ()
    listen_addresses: tuple[ListenAddress, ...] = ()
    left_out: tuple[str, ...] = ()
    ssh_ports: frozenset[int] = frozenset({22})


@lru_cache(maxsize=8)
def _patterns(addresses: frozenset[IPAddress]) -> tuple[re.Pattern[str] | None, re.Pattern[bytes]]:
    """How IPv4 addresses are found in a line, and a quick look at a whole file: most name none.

    All hosts of a site are searched for the same addresses, and a pattern of a thousand of them takes its time.
    """
    four = sorted(re.escape(str(a)) for a in addresses if a.version == 4)
    in_line = re.compile(r"(?<![0-9A-Za-z.])(" + "|".join(four) + r")(?![0-9A-Za-z]|\.[0-9])") if four else None
    # An IPv6 address begins with its first group.
    firsts = sorted({str(a).partition(":")[0] for a in addresses if a.version == 6})
    return in_line, re.compile("|".join([*four, *(rf"{first}:" for first in firsts)]).encode(), re.IGNORECASE)


class Spelling:
    """Finds addresses in text, however they are written (RFC 4291, section 2.2), and none of which they are a part."""

    def __init__(self, addresses: Iterable[IPAddress]) -> None:
        self.addresses = tuple(dict.fromkeys(addresses))
        self._six = {a for a in self.addresses if a.version == 6}
        self._four, self._quick = _patterns(frozenset(self.addresses))

    def may_be_in(self, data: bytes) -> bool:
        """Whether a closer look at ``data`` is worth it."""
        return bool(self.addresses) and self._quick.search(data) is not None

    def in_line(self, line: str) -> tuple[IPAddress, ...]:
        """Those of the addresses that ``line`` names."""
        found = [parse_address(match) for match in self._four.findall(line)] if self._four is not None else []
        if self._six and ":" in line:
            for word in _IPV6_WORD.findall(line):
                try:
                    address = parse_address(word.rstrip(":") if not word.endswith("::") else word)
                except ValueError:
                    continue
                if address in self._six:
                    found.append(address)
        return tuple(dict.fromkeys(found))
