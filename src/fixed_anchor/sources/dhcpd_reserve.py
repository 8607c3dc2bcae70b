"""A reservation written into dhcpd.conf(5): a host, and the ranges around its address narrowed."""

from __future__ import annotations

from fixed_anchor.core.addresses import AddressRange, IPAddress, parse_address
from fixed_anchor.core.errors import InputError
from fixed_anchor.sources.dhcpd import network_of, range_of
from fixed_anchor.sources.protocol import Reservation
from fixed_anchor.text.isc import Statement, parse


def reserve(text: str, path: str, wanted: Reservation) -> str:
    """``text`` with a ``host`` block in the subnet of its address, which every range there then leaves out.

    Raises :class:`InputError`.
    """
    statements, error = parse(text, path)
    if error is not None:
        raise error
    address = parse_address(wanted.address)
    for statement in _subnets(statements):
        assert statement.block is not None
        if address in network_of(statement):
            # From the end of the file to its beginning, so that the offsets stay right.
            made = _with_host(text, statement, wanted)
            for found in sorted(_ranges(statement.block), key=lambda s: -s.words[0].start):
                made = _narrowed(made, found, address)
            return made
    raise InputError(f"no subnet in this file is for {address}", file=path)


def line(wanted: Reservation) -> str:
    """The reservation alone, a ``host`` block."""
    fixed = "fixed-address" if ":" not in wanted.address else "fixed-address6"
    return f"host {wanted.name} {{ hardware ethernet {wanted.mac}; {fixed} {wanted.address}; }}"


def _with_host(text: str, subnet: Statement, wanted: Reservation) -> str:
    close = subnet.end - 1
    begin = text.rfind("\n", 0, close) + 1
    if text[begin:close].strip():
        return f"{text[:close]} {line(wanted)} {text[close:]}"
    return f"{text[:begin]}{text[begin:close]}  {line(wanted)}\n{text[begin:]}"


def _ranges(statements: list[Statement]) -> list[Statement]:
    found = [s for s in statements if s.key in ("range", "range6")]
    return found + [r for s in statements if s.block is not None for r in _ranges(s.block)]


def _narrowed(text: str, statement: Statement, address: IPAddress) -> str:
    """``text`` with a range split around ``address``, where it contains it."""
    words = [w for w in statement.words[1:] if w.text not in ("dynamic-bootp", "temporary")]
    try:
        pool = range_of([w.text for w in words])
    except ValueError as error:
        raise statement.error(f"{statement.key}: {error}") from None
    if address not in pool:
        return text
    at = int(address)
    parts = [
        AddressRange(pool.version, first, last)
        for first, last in ((pool.first, at - 1), (at + 1, pool.last))
        if first <= last
    ]
    head = text[statement.words[0].start : words[0].start]
    made = " ".join(f"{head}{part.ends[0]} {part.ends[1]};" for part in parts)
    return f"{text[: statement.words[0].start]}{made}{text[statement.end :]}"


def _subnets(statements: list[Statement]) -> list[Statement]:
    found: list[Statement] = []
    for statement in statements:
        if statement.block is None:
            continue
        if statement.key in ("subnet", "subnet6"):
            found.append(statement)
        else:
            found += _subnets(statement.block)
    return found
