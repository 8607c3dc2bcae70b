"""Kea's memfile lease files, CSV (Kea Administrator Reference Manual, "Memfile - Basic Storage for Leases").

The file is a journal: of an address the latest row counts. Beside it may lie what Kea's
own cleanup leaves or is working on; the server reads those first, and so does this.
"""

from __future__ import annotations

import re
import struct
from collections.abc import Iterable, Iterator
from socket import inet_aton

from fixed_anchor.core.addresses import address_key, parse_address, parse_mac
from fixed_anchor.core.claims import Claims, LeaseClaim, Remark
from fixed_anchor.core.config import Place
from fixed_anchor.core.errors import InputError
from fixed_anchor.sources.protocol import Origin, Reader, text_of

_STATES = {"0": "active", "1": "declined", "2": "free", "3": "free", "4": "active"}
_FOREVER = str(2**32 - 1)
_ESCAPE = re.compile(r"&#x([0-9A-Fa-f]{2})")
_NEEDED = ("address", "valid_lifetime", "expire")
_WANTED = (*_NEEDED, "hwaddr", "hostname", "state", "lease_type")

#: The number of a line, and the line itself.
Line = tuple[int, str]


class KeaLeases:
    """The source ``kea-leases``."""

    options: tuple[str, ...] = ()

    def claims(self, data: bytes, origin: Origin, reader: Reader) -> Claims:
        table: LeaseTable | None = None
        broken: list[Remark] = []
        for path in _siblings(origin.path, reader):
            table = _journal(text_of(reader.read(path), path), path, table, broken)
        table = _journal(text_of(data, origin.path), origin.path, table, broken)
        return Claims(origin.kind, origin.shown, leases=table, broken=tuple(broken))


def _siblings(path: str, reader: Reader) -> list[str]:
    """The files that the server loads before the journal itself: a finished cleanup alone, else the older journals."""
    if reader.exists(f"{path}.completed"):
        return [f"{path}.completed"]
    return [p for p in (f"{path}.2", f"{path}.1") if reader.exists(p)]


class LeaseTable:
    """The rows of a journal by address, over those of an ``older`` one.

    A row is made a lease when it is asked for: there may be a hundred thousand, and a plan
    asks for few. ``keys`` and ``lines`` go together, one for each row.
    """

    def __init__(
        self, path: str, columns: list[str], keys: Iterable[int], lines: list[Line], older: LeaseTable | None
    ) -> None:
        self._path = path
        self._at = [columns.index(name) if name in columns else None for name in _WANTED]
        self._lines = lines
        # Of several rows for one address the last counts.
        self._rows = dict(zip(keys, range(len(lines)), strict=True))
        self._older = older

    def _fields(self, number: int) -> list[str]:
        """What is wanted of a row; columns that later versions added may be missing from it."""
        fields = self._lines[number][1].rstrip("\r").split(",")
        return [fields[at] if at is not None and at < len(fields) else "" for at in self._at]

    def at(self, key: int) -> LeaseClaim | None:
        """The lease of the address with that number, ``None`` where there is none."""
        number = self._rows.get(key)
        if number is None:
            return self._older.at(key) if self._older is not None else None
        address, valid, expire, mac, name, state, _ = self._fields(number)
        if valid == "0":
            # Released or deleted: the row takes back those before it.
            return None
        if "&#x" in name:
            name = _ESCAPE.sub(lambda found: chr(int(found[1], 16)), name)
        return LeaseClaim(
            parse_address(address),
            Place(self._path, self._lines[number][0]),
            parse_mac(mac) if len(mac) == 17 else None,
            _STATES.get(state or "0", "active"),
            None if valid == _FOREVER else int(expire),
            name.rstrip("."),
        )

    def keys(self) -> Iterable[int]:
        """The addresses that have a lease, as the numbers of :func:`address_key`."""
        return self._rows if self._older is None else {*self._rows, *self._older.keys()}

    def __iter__(self) -> Iterator[LeaseClaim]:
        return (lease for key in self.keys() if (lease := self.at(key)) is not None)

    def __len__(self) -> int:
        return sum(1 for _ in self)

    def held(self, now: int) -> Iterable[int]:
        """The numbers of the addresses whose lease counts at ``now`` (seconds since 1970)."""
        kept = {key for key in self._older.held(now) if key not in self._rows} if self._older is not None else set()
        at_valid, at_expire, at_state = self._at[1], self._at[2], self._at[5]
        for key, number in self._rows.items():
            fields = self._lines[number][1].split(",")
            valid, expire = fields[at_valid or 0], fields[at_expire or 0]
            state = fields[at_state].rstrip("\r") if at_state is not None and at_state < len(fields) else ""
            ends = valid == _FOREVER or (valid != "0" and int(expire) > now)
            if ends and _STATES.get(state or "0") != "free":
                kept.add(key)
        return kept


def _journal(text: str, path: str, older: LeaseTable | None, broken: list[Remark]) -> LeaseTable:
    """One journal; rows that are not whole go to ``broken``."""
    heading, _, body = text.partition("\n")
    columns = heading.rstrip("\r").split(",")
    if not all(name in columns for name in _NEEDED):
        raise InputError(
            "this is no lease file of Kea", file=path, line=1, expected="a heading with address, valid_lifetime, expire"
        )
    found: list[tuple[str, str]] = _whole_rows(columns).findall(body)
    if len(found) == body.count("\n") and body.endswith("\n"):
        # Every line is a whole row of a plain IPv4 lease: all at once, by far the quickest way.
        try:
            packed = b"".join([inet_aton(address) for _, address in found])
            keys = struct.unpack(f">{len(found)}I", packed)
            return LeaseTable(path, columns, keys, list(enumerate([line for line, _ in found], 2)), older)
        except OSError:
            pass
    return LeaseTable(path, columns, *_one_by_one(body, path, columns, broken), older)


def _whole_rows(columns: list[str]) -> re.Pattern[str]:
    """What a whole row looks like; its groups are the row and the address in it."""
    octet = "(?:0|[1-9][0-9]{0,2})"
    forms = {
        "address": rf"({octet}(?:\.{octet}){{3}})",
        "valid_lifetime": "[0-9]+",
        "expire": "[0-9]+",
        "hwaddr": "(?:[0-9A-Fa-f]{2}(?::[0-9A-Fa-f]{2})*)?",
    }
    parts = [forms.get(name, r"[^,\n]*") for name in columns]
    return re.compile(f"^({','.join(parts)}(?:,[^\\n]*)?)$", re.MULTILINE)


def _one_by_one(body: str, path: str, columns: list[str], broken: list[Remark]) -> tuple[list[int], list[Line]]:
    """The careful way: each line by itself, and what is wrong with it named."""
    at = [columns.index(name) if name in columns else None for name in _WANTED]
    lines = body.split("\n")
    keys: list[int] = []
    kept: list[Line] = []
    for number, line in enumerate(lines, 2):
        fields = line.rstrip("\r").split(",")
        if fields == [""]:
            continue
        row = [fields[p] if p is not None and p < len(fields) else "" for p in at]
        cut = number == len(lines) + 1
        try:
            if cut or not row[1].isdecimal() or not row[2].isdecimal():
                raise ValueError("the file ends in the middle of a lease" if cut else "this row is not whole")
            key = address_key(parse_address(row[0]))
            if len(row[3]) == 17:
                parse_mac(row[3])
        except ValueError as error:
            broken.append(Remark(str(error), Place(path, number)))
            continue
        if row[6] != "2":  # a delegated prefix, no address
            keys.append(key)
            kept.append((number, line))
    return keys, kept
