"""Addresses, prefixes, ranges and MACs: reading and comparing them.

Addresses are :mod:`ipaddress` objects at the edges of every interface; sets of
ranges work on integers inside.
"""

from __future__ import annotations

import heapq
import re
from bisect import bisect_right
from collections.abc import Iterable, Iterator
from ipaddress import (
    IPv4Address,
    IPv4Interface,
    IPv4Network,
    IPv6Address,
    IPv6Interface,
    IPv6Network,
    ip_address,
)

import msgspec

IPAddress = IPv4Address | IPv6Address
IPInterface = IPv4Interface | IPv6Interface
IPNetwork = IPv4Network | IPv6Network

_MAC = re.compile(r"[0-9a-f]{2}([:-])[0-9a-f]{2}(?:\1[0-9a-f]{2}){4}", re.IGNORECASE)
#: The numbers that may stand between the dots, as they are written: no leading zeros.
_OCTETS = {str(number): number for number in range(256)}
_DOTTED = re.compile(r"[0-9]+(?:\.[0-9]+)+")
_LABEL = re.compile(r"(?!-)[a-z0-9_-]{1,63}(?<!-)", re.IGNORECASE)


def parse_address(text: str) -> IPAddress:
    """An IPv4 or IPv6 address (RFC 4632, RFC 4291; no zone).

    Raises :class:`ValueError` with a message for the operator: which octet is
    wrong, or what was expected instead.
    """
    text = text.strip()
    octets = text.split(".")
    if len(octets) == 4:
        try:
            # The usual case, five times as fast as the general one: plans and leases hold many.
            a, b, c, d = octets
            return IPv4Address(_OCTETS[a] << 24 | _OCTETS[b] << 16 | _OCTETS[c] << 8 | _OCTETS[d])
        except KeyError:
            pass
    try:
        address = ip_address(text)
    except ValueError:
        raise ValueError(_what_is_wrong_with(text)) from None
    if isinstance(address, IPv6Address) and address.scope_id is not None:
        raise ValueError(f"{text!r} carries a zone; write the address without it")
    return address


def _what_is_wrong_with(text: str) -> str:
    if "/" in text:
        return f"{text!r} carries a prefix where a plain address belongs"
    if _DOTTED.fullmatch(text):
        octets = text.split(".")
        if len(octets) != 4:
            return f"{text!r} has {len(octets)} octets instead of 4"
        for number, octet in enumerate(octets, 1):
            if len(octet) > 1 and octet.startswith("0"):
                return f"{text!r}: octet {number} has a leading zero ({octet}), which some programs read as octal"
            if int(octet[:6]) > 255:
                return f"{text!r}: octet {number} is {octet[:12]}, the highest is 255"
    return f"{text!r} is not an IP address"


#: Sets the keys of IPv6 addresses apart from those of IPv4.
SIX = 1 << 128


def address_key(address: IPAddress) -> int:
    """An integer for each address of both families: hashing one is far cheaper than hashing the object."""
    return int(address) if address.version == 4 else int(address) | SIX


def in_words(addresses: Iterable[IPAddress]) -> str:
    """Addresses in their order, those of IPv4 first."""
    return ", ".join(map(str, sorted(addresses, key=address_key)))


def lone_address(text: str) -> IPAddress | None:
    """The address in ``ADDRESS`` or ``ADDRESS/32`` (128), ``None`` for anything else: a whole network, say."""
    base, _, prefix = text.strip().partition("/")
    try:
        address = parse_address(base)
    except ValueError:
        return None
    return address if prefix in ("", str(address.max_prefixlen)) else None


def addresses_in(command: str) -> tuple[IPAddress, ...]:
    """The addresses that stand in a command line as words of their own, with a prefix or without."""
    found = []
    for word in re.split(r"[^0-9A-Za-z:./]+", command):
        try:
            found.append(parse_address(word.partition("/")[0]))
        except ValueError:
            continue
    return tuple(dict.fromkeys(found))


def parse_network(text: str) -> IPNetwork:
    """A subnet ``ADDRESS/PREFIX`` with no host bits set.

    Raises :class:`ValueError`; when host bits are set the message names the
    network that was probably meant.
    """
    text = text.strip()
    base, slash, prefix = text.partition("/")
    address = parse_address(base)
    if not slash:
        raise ValueError(f"{text!r} has no prefix; write {text}/{24 if address.version == 4 else 64} or the right one")
    length = parse_prefix(prefix, address.version)
    network: IPNetwork
    if isinstance(address, IPv4Address):
        network = IPv4Network((int(address), length), strict=False)
    else:
        network = IPv6Network((int(address), length), strict=False)
    if network.network_address != address:
        raise ValueError(f"{text!r} has host bits set; the subnet is {network}")
    return network


def parse_destination(text: str) -> IPNetwork:
    """The destination of a route: a subnet, or one address alone for the host route to it.

    Raises :class:`ValueError`.
    """
    return parse_network(text if "/" in text else f"{text}/{128 if ':' in text else 32}")


def is_address(text: str) -> bool:
    """Whether :func:`parse_address` takes ``text``."""
    try:
        parse_address(text)
    except ValueError:
        return False
    return True


def parse_prefix(text: str, version: int) -> int:
    """A prefix length in bits, from ``24`` or (IPv4 only) a dotted mask such as ``255.255.255.0``.

    Raises :class:`ValueError`; a dotted mask must be contiguous (RFC 4632, section 5.1).
    """
    text = text.strip()
    longest = 32 if version == 4 else 128
    if version == 4 and "." in text:
        mask = int(parse_address(text))
        length = mask.bit_count()
        if mask != ((1 << length) - 1) << (32 - length):
            raise ValueError(f"the mask {text} is not contiguous")
        return length
    if not (text.isascii() and text.isdigit()) or len(text) > 3 or int(text) > longest:
        raise ValueError(f"{text!r} is not a prefix length from 0 to {longest}")
    return int(text)


def parse_interface_address(text: str, default_prefix: int | None = None) -> IPInterface:
    """``ADDRESS/PREFIX``, or ``ADDRESS`` where ``default_prefix`` (bits) is given.

    Raises :class:`ValueError`.
    """
    base, slash, prefix = text.strip().partition("/")
    address = parse_address(base)
    if not slash:
        if default_prefix is None:
            raise ValueError(f"{text!r} has no prefix")
        return with_prefix(address, default_prefix)
    return with_prefix(address, parse_prefix(prefix, address.version))


def with_prefix(address: IPAddress, prefix: int) -> IPInterface:
    """``address`` with a prefix length of ``prefix`` bits."""
    if isinstance(address, IPv4Address):
        return IPv4Interface((address, prefix))
    return IPv6Interface((address, prefix))


def default_network(version: int) -> IPNetwork:
    """The destination of a default route: ``0.0.0.0/0`` or ``::/0``."""
    return IPv4Network("0.0.0.0/0") if version == 4 else IPv6Network("::/0")


def parse_mac(text: str) -> str:
    """A 48-bit MAC in lower case with colons (IEEE 802, as printed by Linux).

    Raises :class:`ValueError`.
    """
    text = text.strip()
    if not _MAC.fullmatch(text):
        raise ValueError(f"{text!r} is not a MAC address; write six pairs like 00:00:5e:00:53:11")
    return text.replace("-", ":").lower()


def parse_domain(text: str) -> str:
    """A host or domain name in lower case without the closing dot (RFC 1123, section 2.1).

    Underscores are let through: they stand in real search domains.
    Raises :class:`ValueError`.
    """
    name = text.strip().rstrip(".").lower()
    if not name or len(name) > 253 or not all(_LABEL.fullmatch(label) for label in name.split(".")):
        raise ValueError(f"{text!r} is not a domain name")
    return name


class AddressRange(msgspec.Struct, frozen=True, order=True):
    """A range of addresses of one family, both ends included."""

    version: int
    first: int
    last: int

    def __contains__(self, address: IPAddress) -> bool:
        return address.version == self.version and self.first <= int(address) <= self.last

    @property
    def size(self) -> int:
        """How many addresses there are in it."""
        return self.last - self.first + 1

    @property
    def ends(self) -> tuple[IPAddress, IPAddress]:
        """First and last address."""
        make: type[IPv4Address] | type[IPv6Address] = IPv4Address if self.version == 4 else IPv6Address
        return make(self.first), make(self.last)

    def __str__(self) -> str:
        first, last = self.ends
        return str(first) if self.first == self.last else f"{first} - {last}"


def parse_range(text: str) -> AddressRange:
    """``A - B``, ``A-B``, ``NETWORK/PREFIX`` or one address.

    Raises :class:`ValueError`.
    """
    for mark in ("..", "\u2013", "\u2014", " to "):
        if mark in text:
            raise ValueError(f"{text!r} is no range; write FIRST-LAST, such as 203.0.113.100-203.0.113.199")
    if "/" in text:
        network = parse_network(text)
        return AddressRange(network.version, int(network.network_address), int(network.broadcast_address))
    left, dash, right = text.partition("-")
    first = parse_address(left)
    if (
        dash
        and re.fullmatch(r"\s*([0-9]{1,3}|[0-9a-fA-F]{1,4})\s*", right)
        and (first.version == 6 or right.strip().isdigit())
    ):
        # Many write the last part of the second address alone.
        whole = re.sub(r"[^.:]*$", right.strip(), str(first), count=1)
        raise ValueError(f"{text!r} shortens the last address; write {first}-{whole}")
    last = parse_address(right) if dash else first
    if first.version != last.version:
        raise ValueError(f"{text!r} mixes IPv4 and IPv6")
    if int(last) < int(first):
        raise ValueError(f"{text!r} ends before it begins")
    return AddressRange(first.version, int(first), int(last))


class RangeSet:
    """Many ranges, asked which of them an address lies in: O(log n) each.

    Ranges may overlap; ``find`` returns the first given one among those that
    contain the address.
    """

    def __init__(self, ranges: Iterable[AddressRange]) -> None:
        self._given = list(ranges)
        self._starts: dict[int, list[int]] = {4: [], 6: []}
        self._owners: dict[int, list[int | None]] = {4: [], 6: []}
        for version in (4, 6):
            self._flatten(version)

    def _flatten(self, version: int) -> None:
        """Cuts the ranges at every end, so that each piece has one owner."""
        entries = [
            (range_.first, range_.last, number)
            for number, range_ in enumerate(self._given)
            if range_.version == version
        ]
        entries.sort()
        cuts = sorted({e[0] for e in entries} | {e[1] + 1 for e in entries})
        active: list[tuple[int, int]] = []
        position = 0
        for cut in cuts:
            while position < len(entries) and entries[position][0] == cut:
                _, last, number = entries[position]
                heapq.heappush(active, (number, last))
                position += 1
            while active and active[0][1] < cut:
                heapq.heappop(active)
            self._starts[version].append(cut)
            self._owners[version].append(active[0][0] if active else None)

    def find(self, address: IPAddress) -> AddressRange | None:
        """The range that contains ``address``, or ``None``."""
        return self.find_number(address.version, int(address))

    def find_number(self, version: int, number: int) -> AddressRange | None:
        """The same for an address given as an integer: quicker, where many are asked for."""
        index = bisect_right(self._starts[version], number) - 1
        if index < 0:
            return None
        owner = self._owners[version][index]
        return None if owner is None else self._given[owner]

    def __contains__(self, address: IPAddress) -> bool:
        return self.find(address) is not None

    def __iter__(self) -> Iterator[AddressRange]:
        return iter(self._given)

    def __len__(self) -> int:
        return len(self._given)
