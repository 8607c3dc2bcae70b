"""The site's own address list, CSV or a spreadsheet: columns known by their headings, or named in the plan."""

from __future__ import annotations

import io
import re

from fixed_anchor.core.addresses import AddressRange, parse_mac, parse_range
from fixed_anchor.core.claims import Claims, ListedClaim, Remark
from fixed_anchor.core.config import Place
from fixed_anchor.core.errors import InputError
from fixed_anchor.sources.protocol import MAX_SIZE, Origin, Reader

#: Headings by what they stand for, the way people write them (letters and digits alone).
_HEADINGS = {
    "address": frozenset(
        [
            "ip",
            "ipaddress",
            "ipaddr",
            "address",
            "ipv4",
            "ipv4address",
            "ipv6",
            "ipv6address",
            "ipaddresse",
            "adresse",
            "adresseip",
            "ipadresse",
            "direccionip",
            "ipaddresses",
            "addresses",
            "networkaddress",
            "hostaddress",
        ]
    ),
    "name": frozenset(
        [
            "host",
            "hostname",
            "name",
            "fqdn",
            "dnsname",
            "device",
            "devicename",
            "machine",
            "server",
            "computer",
            "computername",
            "system",
            "node",
            "hostnames",
            "rechner",
            "nom",
            "equipo",
            "dns",
        ]
    ),
    "mac": frozenset(
        ["mac", "macaddress", "macaddr", "hardwareaddress", "hwaddr", "ethernet", "ethernetaddress", "physicaladdress"]
    ),
    "state": frozenset(["status", "state", "use", "usage", "allocation", "availability"]),
}
#: What a row says of itself where its address is nobody's.
_FREE = frozenset(["free", "available", "unused", "unassigned", "spare", "frei", "libre"])
_ZEROS = re.compile(r"(?<![0-9])0+(?=[0-9])")
_MAX_ROWS = 1_000_000
#: How a workbook of the old kind begins, and a cell that has a formula and no value.
_OLD_WORKBOOK, _FORMULA = b"\xd0\xcf\x11\xe0", "="

#: A row: its number in the file (from 1) and its cells.
Row = tuple[int, list[str]]


class AddressList:
    """The source ``address-list``. Options: ``address``, ``name``, ``mac``, ``state`` name columns by
    their heading or number (from 1), ``sheet`` a sheet.
    """

    options: tuple[str, ...] = ("address", "name", "mac", "state", "sheet")

    def claims(self, data: bytes, origin: Origin, reader: Reader) -> Claims:
        if data.startswith(_OLD_WORKBOOK):
            raise InputError(
                "this is a workbook of the old kind (.xls), which is not read",
                file=origin.path,
                expected=".xlsx or CSV: save it as one of them",
            )
        unread: list[str] = []
        spreadsheet = data[:4] == b"PK\x03\x04"
        rows = _spreadsheet_rows(data, origin, unread) if spreadsheet else _csv_rows(data, origin.path)
        heading, columns = _columns(rows, origin)
        listed: list[ListedClaim] = []
        untidy = [Remark(f"not read: the sheets {', '.join(unread)}", Place(origin.path, 1))] if unread else []
        broken: list[Remark] = []
        for number, cells in rows:
            if number <= heading:
                continue
            said = {what: cells[at] if at < len(cells) else "" for what, at in columns.items()}
            text = said["address"]
            if not text.strip() or said.get("state", "").strip().lower() in _FREE:
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
                range_ = _range(cleaned)
            except ValueError as error:
                broken.append(Remark(str(error), place))
                continue
            mac = None
            if said.get("mac", "").strip() and not said["mac"].startswith(_FORMULA):
                try:
                    mac = parse_mac(said["mac"])
                except ValueError as error:
                    untidy.append(Remark(str(error), place))
            name = "" if said.get("name", "").startswith(_FORMULA) else said.get("name", "")
            listed.append(ListedClaim(range_, place, name.strip().rstrip(".").lower(), mac))
        return Claims(origin.kind, origin.shown, listed=tuple(listed), untidy=tuple(untidy), broken=tuple(broken))


def _range(text: str) -> AddressRange:
    """One address, ``A - B``, a subnet, or ``A/PREFIX`` where the prefix is only that of the interface."""
    if "/" in text and "-" not in text:
        try:
            return parse_range(text)
        except ValueError:
            return parse_range(text.partition("/")[0])
    return parse_range(text.replace("\u2013", "-"))


def _csv_rows(data: bytes, path: str) -> list[Row]:
    import csv

    text = _decoded(data, path)
    separator = _separator(text)
    reader = csv.reader(io.StringIO(text, newline=""), delimiter=separator)
    rows: list[Row] = []
    begun = 1
    try:
        for cells in reader:
            # A quoted cell may hold line breaks: the row is where it begins.
            if len(rows) >= _MAX_ROWS:
                raise InputError(f"more than {_MAX_ROWS} rows", file=path)
            rows.append((begun, cells))
            begun = reader.line_num + 1
    except csv.Error as error:
        raise InputError(f"not CSV: {error}", file=path, line=begun) from None
    return rows


def _decoded(data: bytes, path: str) -> str:
    """UTF-8 or UTF-16 with its mark, UTF-8 without, else Windows' western code page."""
    for mark, encoding in ((b"\xef\xbb\xbf", "utf-8-sig"), (b"\xff\xfe", "utf-16"), (b"\xfe\xff", "utf-16")):
        if data.startswith(mark):
            try:
                return data.decode(encoding)
            except UnicodeDecodeError as error:
                raise InputError(f"byte {error.start + 1} is not {encoding}", file=path) from None
    try:
        return data.decode("utf-8")
    except UnicodeDecodeError:
        return data.decode("cp1252", "replace")


def _separator(text: str) -> str:
    """The mark that splits most of the first lines into the same number of cells."""
    lines = [line for line in text.splitlines()[:50] if line.strip()]
    best, best_score = ",", 0.0
    for mark in (",", ";", "\t", "|"):
        counts = [line.count(mark) for line in lines]
        usual = max(set(counts), key=counts.count) if counts else 0
        score = usual * counts.count(usual) / len(counts) if counts else 0.0
        if score > best_score:
            best, best_score = mark, score
    return best


def _spreadsheet_rows(data: bytes, origin: Origin, unread: list[str]) -> list[Row]:
    """The rows of the sheet that is the list; the names of others that hold something go to ``unread``."""
    import zipfile

    import openpyxl

    path = origin.path
    try:
        with zipfile.ZipFile(io.BytesIO(data)) as archive:
            if sum(entry.file_size for entry in archive.infolist()) > 4 * MAX_SIZE:
                raise InputError("unpacked, this spreadsheet would be too large", file=path)
        book = openpyxl.load_workbook(io.BytesIO(data), read_only=True, data_only=True)
        # What a formula amounts to is in the file only where the program that wrote it has worked it out.
        formulas = openpyxl.load_workbook(io.BytesIO(data), read_only=True)
        names = book.sheetnames
        wanted = origin.options.get("sheet")
        if wanted is not None and wanted not in names:
            raise InputError(f"there is no sheet {wanted!r}", file=path, expected="one of " + ", ".join(names))
        sheets: dict[str, list[Row]] = {}
        for name in [wanted] if wanted is not None else names:
            values = book[name].iter_rows(values_only=True, max_row=_MAX_ROWS)
            written = formulas[name].iter_rows(values_only=True, max_row=_MAX_ROWS)
            rows = (
                [_cell(v if v is not None else w) for v, w in zip(value, text, strict=False)]
                for value, text in zip(values, written, strict=False)
            )
            sheets[name] = list(enumerate(rows, 1))
    except InputError:
        raise
    except Exception as error:  # openpyxl raises whatever its own parts do
        raise InputError(f"this spreadsheet cannot be read: {type(error).__name__}", file=path) from None
    fitting = [n for n, rows in sheets.items() if wanted is not None or _heading(rows) is not None]
    if len(fitting) > 1:
        raise InputError(
            "several sheets could be the list: " + ", ".join(fitting),
            file=path,
            remedy=f"name one in the plan: `- {{address-list: {origin.shown}, sheet: {fitting[0]}}}`",
        )
    chosen = fitting[0] if fitting else next(iter(sheets), "")
    unread += [name for name, rows in sheets.items() if name != chosen and any(any(cells) for _, cells in rows)]
    unread += [name for name in names if name not in sheets]
    return sheets.get(chosen, [])


def _cell(value: object) -> str:
    if value is None:
        return ""
    return str(int(value)) if isinstance(value, float) and value.is_integer() else str(value)


def _plain(text: str) -> str:
    return re.sub(r"[^a-z0-9]", "", text.lower())


def _heading(rows: list[Row]) -> int | None:
    """The position of the heading in ``rows``: the first row with a cell that names addresses."""
    for position, (_, cells) in enumerate(rows[:30]):
        if any(_plain(cell) in _HEADINGS["address"] for cell in cells):
            return position
    return None


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
