"""What is behind a gateway: what users need reached, and what proves that the gateway routes at all."""

from __future__ import annotations

import ipaddress
import re
from collections.abc import Iterable
from urllib.parse import urlsplit

import msgspec

from fixed_anchor.core.addresses import IPAddress, IPNetwork, parse_address

#: How a connection is taken. The first two prove that somebody is there.
ACCEPTS, REFUSES, SILENT, UNREACHABLE = "accepts", "refuses", "no answer", "unreachable"
ANSWERS = frozenset({ACCEPTS, REFUSES})

#: Asked about where nothing better is known: no packet to them goes further than one hop.
_SOMEWHERE = tuple(parse_address(a) for a in ("198.51.100.1", "203.0.113.1", "198.18.0.1", "2001:db8:7e::1"))
_HOST = re.compile(r"[a-z0-9_]([a-z0-9_-]*[a-z0-9_])?(\.[a-z0-9_]([a-z0-9_-]*[a-z0-9_])?)*\.?", re.IGNORECASE)


class Reachable(msgspec.Struct, frozen=True):
    """Something that users need: ``text`` as the plan has it.

    ``host`` is a name or an address. ``port`` is ``None`` where only the host is named, and ``url`` is empty but for
    a URL.
    """

    text: str
    host: str
    port: int | None = None
    url: str = ""

    @property
    def address(self) -> IPAddress | None:
        """The address, where one and no name is given."""
        try:
            return parse_address(self.host)
        except ValueError:
            return None


def parse_reachable(text: str) -> Reachable:
    """``NAME``, ``ADDRESS``, ``HOST:PORT``, ``[IPV6]:PORT``, or an ``http://`` or ``https://`` URL.

    Raises ValueError.
    """
    wrong = ValueError(f"{text!r} is not a name, an address, HOST:PORT, or a URL of http or https")
    if "://" in text:
        try:
            parts = urlsplit(text)
            port = parts.port
        except ValueError:
            raise wrong from None
        if parts.scheme not in ("http", "https") or not parts.hostname or parts.username is not None:
            raise wrong
        return Reachable(text, _host(parts.hostname, wrong), port or (443 if parts.scheme == "https" else 80), text)
    try:
        return Reachable(text, str(parse_address(text)))
    except ValueError:
        host, colon, number = text.rpartition(":")
    if not colon:
        return Reachable(text, _host(text, wrong))
    if not number.isascii() or not number.isdigit() or not 0 < int(number) < 65536:
        raise wrong
    bracketed = host.startswith("[") and host.endswith("]")
    if ":" in host and not bracketed:
        raise wrong
    return Reachable(text, _host(host[1:-1] if bracketed else host, wrong), int(number))


def _host(text: str, wrong: ValueError) -> str:
    try:
        return str(parse_address(text))
    except ValueError:
        if not _HOST.fullmatch(text) or len(text) > 253 or text.replace(".", "").isdigit():
            raise wrong from None
        return text.lower()


def beyond(version: int, known: Iterable[IPAddress], on_link: Iterable[IPNetwork]) -> IPAddress:
    """An address of IP ``version`` behind the routers of a host: a ``known`` one, else any that is not ``on_link``."""
    near = tuple(on_link)
    for address in (*known, *_SOMEWHERE):
        if address.version == version and is_beyond(address, near):
            return address
    return ipaddress.ip_address("198.18.255.1") if version == 4 else ipaddress.ip_address("2001:db8:ffff::1")


def _is_routed(address: IPAddress) -> bool:
    return not (address.is_link_local or address.is_loopback or address.is_multicast or address.is_unspecified)


def is_beyond(address: IPAddress, on_link: Iterable[IPNetwork]) -> bool:
    """Whether an address is reached over a router only."""
    return _is_routed(address) and not any(n.version == address.version and address in n for n in on_link)


def same_class(before: str, now: str) -> bool:
    """Whether two answers to a request are of one class (RFC 9110, section 15): ``status 200`` and ``status 204``."""
    statuses = [word.removeprefix("status ") for word in (before, now)]
    return all(s.isdigit() for s in statuses) and statuses[0][0] == statuses[1][0]
