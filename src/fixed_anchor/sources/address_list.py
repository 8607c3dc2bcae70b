"""The site's own address list, CSV or a spreadsheet: columns known by their headings, or named in the plan."""

from __future__ import annotations

import re

from fixed_anchor.core.addresses import AddressRange, parse_mac, parse_range
from fixed_anchor.core.claims import Claims, ListedClaim, Remark
from fixed_anchor.core.config import Place
from fixed_anchor.core.errors import InputError
from fixed_anchor.sources.protocol import Origin, Reader
from fixed_anchor.sources.table_rows import MAX_ROWS, Row, csv_rows, spreadsheet_rows

#: Headings by what they stand for, the way people write them (letters of ASCII and digits alone).
_HEADINGS = {
    "address": frozenset([
        "ip", "ipaddress", "ipaddr", "address", "ipv4", "ipv4address", "ipv6", "ipv6address", "ipaddresse",
        "adresse", "adresseip", "ipadresse", "direccionip", "ipaddresses", "addresses", "networkaddress",
        "hostaddress"
    ]),
    "name": frozenset([
        "host", "hostname", "name", "fqdn", "dnsname", "device", "devicename", "machine", "server", "computer",
        "computername", "system", "node", "hostnames", "rechner", "rechnername", "gert", "geraet", "gertename",
        "nom", "equipo", "dns"
    ]),
    "mac": frozenset([
        "mac", "macaddress", "macaddr", "macadresse", "hardwareaddress", "hwaddr", "ethernet",
        "ethernetaddress", "physicaladdress"
    ]),
    "state": frozenset([
        "status", "state", "use", "usage", "allocation", "availability"
    ]),
}  # fmt: skip
#: What a row says of itself where its address is nobody's.
_FREE = frozenset(["free", "available", "unused", "unassigned", "spare", "frei", "libre"])
_ZEROS = re.compile(r"(?<![0-9])0+(?=[0-9])")
#: Between several addresses of one cell; the last numbers of a range alone, ``203.0.113.40-49``.
_BETWEEN = re.compile(r"[,;\n]|\s(?:and|und|&|\+)\s")
_SHORT_RANGE = re.compile(r"((?:[0-9]+\.){3})([0-9]+)\s*-\s*([0-9]+)")
#: How a workbook of the old kind begins, and a cell that has a formula and no value.
_OLD_WORKBOOK, _FORMULA = b"\xd0\xcf\x11\xe0", "="


class AddressList:
    """The source ``address-list``. Options: ``address``, ``name``, ``mac``, ``state`` name columns by
    their heading or number (from 1), ``sheet`` a sheet.
    """

    options: tuple[str, ...] = ("address", "name", "mac", "state", "sheet")

    def __init__(self, most: int = MAX_ROWS) -> None:
        self._most = most

    def claims(self, data: bytes, origin: Origin, reader: Reader) -> Claims:
        if data.startswith(_OLD_WORKBOOK):
            raise InputError(
                "this is a workbook of the old kind (.xls), which is not read",
                file=origin.path,
                expected=".xlsx or CSV: save it as one of them",
            )
        unread: list[str] = []
        spreadsheet = data[:4] == b"PK\x03\x04"
        rows = (
            spreadsheet_rows(data, origin, unread, _is_list, self._most)
            if spreadsheet
            else csv_rows(data, origin.path, self._most)
        )
        heading, columns = _columns(rows, origin)
        listed: list[ListedClaim] = []
        untidy = [Remark(f"not read: the sheets {', '.join(unread)}", Place(origin.path, 1))] if unread else []
        broken: list[Remark] = []
        for number, cells in rows:
            if number <= heading:
                continue
            fields = {what: cells[at] if at < len(cells) else "" for what, at in columns.items()}
            text = fields["address"]
            if not text.strip() or fields.get("state", "").strip().lower() in _FREE:
                continue
            place = Place(origin.path, number)
            if text.startswith(_FORMULA):
                what = "a formula whose value is not in the file: open the list in its program, and save it once"
                broken.append(Remark(what, place))
                continue
            cleaned = text.strip().strip("\u00a0")
            if cleaned != text:
                untidy.append(Remark(f"stray spaces around {cleaned}", place))
            if "." in cleaned and _ZEROS.search(cleaned):
                plain = _ZEROS.sub("", cleaned)
                what = f"leading zeros in {cleaned}: taken as {plain}, though some programs read them as octal"
                untidy.append(Remark(what, place))
                cleaned = plain
            try:
                ranges = _ranges(cleaned)
            except ValueError as error:
                broken.append(Remark(str(error), place))
                continue
            mac = None
            if fields.get("mac", "").strip() and not fields["mac"].startswith(_FORMULA):
                try:
                    mac = _mac(fields["mac"])
                except ValueError as error:
                    untidy.append(Remark(str(error), place))
            name = "" if fields.get("name", "").startswith(_FORMULA) else fields.get("name", "")
            listed += [ListedClaim(r, place, name.strip().rstrip(".").lower(), mac) for r in ranges]
        return Claims(origin.kind, origin.shown, listed=tuple(listed), untidy=tuple(untidy), broken=tuple(broken))


def _ranges(text: str) -> list[AddressRange]:
    """All that one cell names. Raises :class:`ValueError`."""
    parts = [part.strip() for part in _BETWEEN.split(text) if part.strip()]
    if len(parts) == 1 and all(word[:1].isdigit() for word in text.split()):
        parts = text.split()
    return [_range(part) for part in parts or [text]]


def _mac(text: str) -> str:
    """A MAC with any marks between its digits, or none, as switches print it. Raises :class:`ValueError`."""
    digits = re.sub(r"[:.\s-]", "", text)
    return parse_mac(":".join(digits[at : at + 2] for at in range(0, 12, 2)) if len(digits) == 12 else text)


def _range(text: str) -> AddressRange:
    """One address, ``A - B``, a subnet, or ``A/PREFIX`` where the prefix is only that of the interface."""
    if "/" in text and "-" not in text:
        try:
            return parse_range(text)
        except ValueError:
            return parse_range(text.partition("/")[0])
    text = re.sub(r"\s(?:to|bis)\s", "-", text.replace("\u2013", "-"))
    short = _SHORT_RANGE.fullmatch(text)
    return parse_range(f"{short[1]}{short[2]}-{short[1]}{short[3]}" if short else text)


def _plain(text: str) -> str:
    return re.sub(r"[^a-z0-9]", "", text.lower())


def _heading(rows: list[Row]) -> int | None:
    """The position of the heading in ``rows``: the first row with a cell that names addresses."""
    for position, (_, cells) in enumerate(rows[:30]):
        if any(_plain(cell) in _HEADINGS["address"] for cell in cells):
            return position
    return None


def _is_list(rows: list[Row]) -> bool:
    return _heading(rows) is not None


def _columns(rows: list[Row], origin: Origin) -> tuple[int, dict[str, int]]:
    """The number of the heading's row (0 for none), and the position of each column."""
    options = {what: origin.options[what] for what in _HEADINGS if what in origin.options}
    position = _heading(rows)
    if position is None and options:
        position = next((n for n, (_, c) in enumerate(rows[:30]) if any(o in c for o in options.values())), None)
    if position is None:
        if "address" in options and all(o.isdecimal() and int(o) for o in options.values()):
            return 0, {what: int(text) - 1 for what, text in options.items()}
        raise InputError(
            "no column is headed as one of addresses",
            file=origin.path,
            line=1,
            expected="a heading such as `IP address`",
            remedy=f"name it in the plan: `- {{address-list: {origin.shown}, address: HEADING}}`",
        )
    number, cells = rows[position]
    found: dict[str, int] = {}
    for what, headings in _HEADINGS.items():
        if what in options:
            found[what] = _stated(options[what], what, number, cells, origin)
            continue
        candidates = [at for at, cell in enumerate(cells) if _plain(cell) in headings]
        if len(candidates) > 1:
            names = ", ".join(f"{cells[at].strip()!r} (column {at + 1})" for at in candidates)
            raise InputError(
                f"several columns could be the one of {what}: {names}",
                file=origin.path,
                line=number,
                remedy=f"name one in the plan: `- {{address-list: {origin.shown}, {what}: {candidates[0] + 1}}}`",
            )
        if candidates:
            found[what] = candidates[0]
    return number, found


def _stated(option: str, what: str, number: int, cells: list[str], origin: Origin) -> int:
    same = [at for at, cell in enumerate(cells) if cell.strip().lower() == option.strip().lower()]
    if len(same) == 1:
        return same[0]
    if option.isdecimal() and 0 < int(option) <= len(cells):
        return int(option) - 1
    raise InputError(
        f"no column is headed {option!r}, which the plan names for {what}",
        file=origin.path,
        line=number,
        expected="one of " + ", ".join(c.strip() for c in cells if c.strip()),
    )
