"""DHCP options (RFC 2132) as the registry keeps them in a row: of an adapter's alternate configuration, and of a lease.

Each is five 32-bit little-endian numbers, which are its code, a zero, the length of its value, a zero and one more, and
the value padded to a multiple of four bytes; of a lease the last number is a time, of an alternate configuration the
largest there is, as the dialog writes it; others write 0. Of an alternate configuration the codes are 50 (the address),
1 (its mask), 3 (a router) and 6 (resolvers).
"""

from __future__ import annotations

import struct
from ipaddress import IPv4Address

from fixed_anchor.core.addresses import IPAddress, parse_interface_address
from fixed_anchor.core.config import Fallback

_MASK, _ROUTER, _RESOLVERS, _ADDRESS = 1, 3, 6, 50
_HEAD = struct.Struct("<IIIII")
_FOR_EVER = 0x7FFFFFFF


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
    return _HEAD.pack(code, 0, len(value), 0, _FOR_EVER) + value


def decode(data: bytes) -> Fallback:
    """The alternate configuration that such a value says. Raises :class:`ValueError` where it is none."""
    options = {code: _addresses(value) for code, value in options_in(data).items()}
    if not options.get(_ADDRESS):
        return Fallback()
    mask = options[_MASK][0] if options.get(_MASK) else IPv4Address("255.255.255.255")
    routers = options.get(_ROUTER, [])
    return Fallback(
        parse_interface_address(f"{options[_ADDRESS][0]}/{mask}"),
        routers[0] if routers else None,
        tuple(options.get(_RESOLVERS, ())),
    )


def options_in(data: bytes) -> dict[int, bytes]:
    """All options by their codes. Raises :class:`ValueError` where one is cut short."""
    found: dict[int, bytes] = {}
    at = 0
    while at + _HEAD.size <= len(data):
        code, _, length, _, _ = _HEAD.unpack_from(data, at)
        at += _HEAD.size
        value = data[at : at + length]
        if len(value) != length:
            raise ValueError("DHCP options in the registry are cut short")
        at += (length + 3) // 4 * 4
        found[code] = value
    return found


def _addresses(value: bytes) -> list[IPv4Address]:
    return [IPv4Address(value[n : n + 4]) for n in range(0, len(value) - 3, 4)]
