"""Kea's memfile lease files, CSV (Kea Administrator Reference Manual, "Memfile - Basic Storage for Leases").

The file is a journal: of an address the latest row counts. Beside it may lie what Kea's
own cleanup leaves or is working on; the server reads those first, and so does this.
"""

from __future__ import annotations

import re

from fixed_anchor.core.addresses import parse_address, parse_mac
from fixed_anchor.core.claims import Claims, LeaseClaim, Remark
from fixed_anchor.core.config import Place
from fixed_anchor.core.errors import InputError
from fixed_anchor.sources.protocol import Origin, Reader, text_of

_STATES = {"0": "active", "1": "declined", "2": "free", "3": "free", "4": "active"}
_FOREVER = str(2**32 - 1)
#: A MAC as Kea writes it: it need not be rewritten.
_PLAIN_MAC = re.compile(r"[0-9a-f]{2}(?::[0-9a-f]{2}){5}").fullmatch
_ESCAPE = re.compile(r"&#x([0-9A-Fa-f]{2})")


class KeaLeases:
    """The source ``kea-leases``."""

    options: tuple[str, ...] = ()

    def claims(self, data: bytes, origin: Origin, reader: Reader) -> Claims:
        latest: dict[str, LeaseClaim] = {}
        broken: list[Remark] = []
        for path in _siblings(origin.path, reader):
            _read(text_of(reader.read(path), path), path, latest, broken)
        _read(text_of(data, origin.path), origin.path, latest, broken)
        return Claims(origin.kind, origin.shown, leases=tuple(latest.values()), broken=tuple(broken))


def _siblings(path: str, reader: Reader) -> list[str]:
    """The files that the server loads before the journal itself: a finished cleanup alone, else the older journals."""
    if reader.exists(f"{path}.completed"):
        return [f"{path}.completed"]
    return [p for p in (f"{path}.2", f"{path}.1") if reader.exists(p)]


def _read(text: str, path: str, latest: dict[str, LeaseClaim], broken: list[Remark]) -> None:
    lines = text.split("\n")
    columns = {name: number for number, name in enumerate(lines[0].rstrip("\r").split(","))}
    if "address" not in columns or "expire" not in columns or "valid_lifetime" not in columns:
        raise InputError(
            "this is no lease file of Kea", file=path, line=1, expected="a heading with address, valid_lifetime, expire"
        )
    at_address, at_valid, at_expire = columns["address"], columns["valid_lifetime"], columns["expire"]
    at_mac, at_name = columns.get("hwaddr"), columns.get("hostname")
    at_state, at_type = columns.get("state"), columns.get("lease_type")
    # Columns that later versions added may be missing from older rows.
    whole = 1 + max(at_address, at_valid, at_expire, at_mac or 0, at_name or 0, at_state or 0, at_type or 0)
    states = _STATES
    padding = [""] * whole
    last = len(lines)
    for number, line in enumerate(lines[1:], 2):
        fields = line.rstrip("\r").split(",")
        if len(fields) < whole:
            if fields == [""]:
                continue
            fields += padding
        text_address, valid, expire = fields[at_address], fields[at_valid], fields[at_expire]
        if number == last or not valid.isdecimal() or not expire.isdecimal():
            what = "the file ends in the middle of a lease" if number == last else "this row is not whole"
            broken.append(Remark(what, Place(path, number)))
            continue
        if at_type is not None and fields[at_type] == "2":
            continue  # a delegated prefix, no address
        if valid == "0":
            # Released or deleted: the row takes back those before it.
            latest.pop(text_address, None)
            continue
        mac: str | None = fields[at_mac] if at_mac is not None else ""
        try:
            address = parse_address(text_address)
            if not mac or len(mac) != 17:
                mac = None
            elif not _PLAIN_MAC(mac):
                mac = parse_mac(mac)
        except ValueError as error:
            broken.append(Remark(str(error), Place(path, number)))
            continue
        name = fields[at_name] if at_name is not None else ""
        if name[-1:] == "." or "&#x" in name:
            name = _ESCAPE.sub(lambda found: chr(int(found[1], 16)), name).rstrip(".")
        state = states.get(fields[at_state], "active") if at_state is not None else "active"
        ends = None if valid == _FOREVER else int(expire)
        latest[text_address] = LeaseClaim(address, Place(path, number), mac, state, ends, name)
