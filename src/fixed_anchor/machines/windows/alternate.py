"""The alternate configuration of an adapter, as the registry keeps it: DHCP options (RFC 2132) in a row.

Each is five 32-bit little-endian numbers, which are its code, a zero, the length of its value and two zeros, and the
value padded to a multiple of four bytes; the codes are 50 (the address), 1 (its mask), 3 (a router) and 6 (resolvers).
"""

from __future__ import annotations

import struct
from collections.abc import Iterator
from ipaddress import IPv4Address

from fixed_anchor.core.addresses import IPAddress, parse_interface_address
from fixed_anchor.core.config import Fallback

_MASK, _ROUTER, _RESOLVERS, _ADDRESS = 1, 3, 6, 50
_HEAD = struct.Struct("<IIIII")


def encode(fallback: Fallback) -> bytes:
    """The value ``Options`` for a fallback with an address."""
    assert fallback.address is not None
    network = fallback.address.network
    parts = [(_ADDRESS, [fallback.address.ip]), (_MASK, [network.netmask])]
    parts += [(_ROUTER, [fallback.gateway])] if fallback.gateway is not None else []
    parts += [(_RESOLVERS, list(fallback.resolvers))] if fallback.resolvers else []
    return b"".join(_option(code, [a for a in addresses if a is not None]) for code, addresses in parts)


def _option(code: int, addresses: list[IPAddress]) -> bytes:
    value = b"".join(address.packed for address in addresses)
    return _HEAD.pack(code, 0, len(value), 0, 0) + value


def decode(data: bytes) -> Fallback:
    """What such a value says. Raises :class:`ValueError` where it is none."""
    said = dict(_options(data))
    if not said.get(_ADDRESS):
        return Fallback()
    mask = said[_MASK][0] if said.get(_MASK) else IPv4Address("255.255.255.255")
    routers = said.get(_ROUTER, [])
    return Fallback(
        parse_interface_address(f"{said[_ADDRESS][0]}/{mask}"),
        routers[0] if routers else None,
        tuple(said.get(_RESOLVERS, ())),
    )


def _options(data: bytes) -> Iterator[tuple[int, list[IPv4Address]]]:
    at = 0
    while at + _HEAD.size <= len(data):
        code, _, length, _, _ = _HEAD.unpack_from(data, at)
        at += _HEAD.size
        value = data[at : at + length]
        if len(value) != length:
            raise ValueError("its alternate configuration is cut short")
        at += (length + 3) // 4 * 4
        if code in (_ADDRESS, _MASK, _ROUTER, _RESOLVERS):
            yield code, [IPv4Address(value[n : n + 4]) for n in range(0, length - 3, 4)]
