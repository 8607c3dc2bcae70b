"""ISC dhcpd's lease file, dhcpd.leases(5): a journal, of an address the last entry counts."""

from __future__ import annotations

import calendar

from fixed_anchor.core.addresses import parse_address, parse_mac
from fixed_anchor.core.claims import Claims, LeaseClaim, LeaseList, Remark, ReservationClaim
from fixed_anchor.core.config import Place
from fixed_anchor.sources.protocol import Origin, Reader
from fixed_anchor.text.isc import Statement, parse

#: Binding states. ``abandoned``: the server found the address in use itself.
_STATES = {
    "active": "active",
    "bootp": "active",
    "reserved": "active",
    "abandoned": "declined",
    "free": "free",
    "expired": "free",
    "released": "free",
    "reset": "free",
    "backup": "free",
}


class DhcpdLeases:
    """The source ``dhcpd-leases``."""

    options: tuple[str, ...] = ()

    def claims(self, data: bytes, origin: Origin, reader: Reader) -> Claims:
        path = origin.path
        # Client names are bytes of the clients' own choosing.
        statements, error = parse(data.decode("utf-8", "surrogateescape"), path)
        latest: dict[str, LeaseClaim] = {}
        hosts: dict[str, ReservationClaim | None] = {}
        broken: list[Remark] = []
        for statement in statements:
            try:
                if statement.key == "lease" and statement.block is not None:
                    _lease(statement, statement.words[1].text, None, latest)
                elif statement.key == "host" and statement.block is not None:
                    hosts |= _host(statement)
                elif statement.key in ("ia-na", "ia-ta") and statement.block is not None:
                    client = statement.words[1].text if len(statement.words) > 1 else ""
                    for inner in statement.block:
                        if inner.key == "iaaddr" and inner.block is not None:
                            _lease(inner, inner.words[1].text, client, latest)
            except (ValueError, IndexError) as problem:
                broken.append(Remark(f"a lease that cannot be read: {problem}", Place(path, statement.line)))
        if error is not None:
            broken.append(Remark(error.what, Place(path, error.line or 1)))
        kept = tuple(host for host in hosts.values() if host is not None)
        leases = LeaseList(latest.values())
        return Claims(origin.kind, origin.shown, leases=leases, reservations=kept, broken=tuple(broken))


def _host(statement: Statement) -> dict[str, ReservationClaim | None]:
    """A ``host`` that was declared while the server ran, dhcpd.leases(5), by its name; ``None`` once it is deleted."""
    name = statement.words[1].text
    fixed, hardware = statement.first("fixed-address"), statement.first("hardware")
    if statement.first("deleted") is not None or fixed is None:
        return {name: None}
    mac = parse_mac(hardware.texts()[1]) if hardware is not None and hardware.texts()[0] == "ethernet" else None
    place = Place(statement.file, statement.line)
    # As with those of its configuration, an address of a range is leased to others in spite of it.
    return {name: ReservationClaim(parse_address(fixed.texts()[0]), place, mac, name, False)}


def _lease(statement: Statement, text: str, client: str | None, latest: dict[str, LeaseClaim]) -> None:
    address = parse_address(text)
    hardware, ends = statement.first("hardware"), statement.first("ends")
    binding = statement.first("binding")
    words = binding.texts() if binding is not None else ["state", "active"]
    mac = None
    if hardware is not None and hardware.texts()[0] == "ethernet":
        mac = parse_mac(hardware.texts()[1])
    name = statement.first("client-hostname")
    # Written as it was received; of the entry that is left, the words are printed only.
    shown = name.texts()[0] if name is not None else ""
    latest[text] = LeaseClaim(
        address,
        Place(statement.file, statement.line),
        mac,
        _STATES.get(words[-1], "active"),
        _time(ends) if ends is not None else None,
        shown,
    )


def _time(statement: Statement) -> int | None:
    """``ends never;``, ``ends WEEKDAY YYYY/MM/DD HH:MM:SS;`` in UTC, or ``ends epoch SECONDS;``."""
    words = statement.texts()
    if words == ["never"]:
        return None
    if words[0] == "epoch":
        return int(words[1])
    year, month, day = (int(part) for part in words[1].split("/"))
    hour, minute, second = (int(part) for part in words[2].split(":"))
    if not (1 <= month <= 12 and 1 <= day <= 31):
        raise ValueError(f"{words[1]} is no date")
    return calendar.timegm((year, month, day, hour, minute, second))
