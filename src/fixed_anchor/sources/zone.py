"""DNS master files (RFC 1035, section 5), forward and reverse, through dnspython's reader."""

from __future__ import annotations

import os
import re
from typing import TYPE_CHECKING

from fixed_anchor.core.addresses import IPAddress, parse_address
from fixed_anchor.core.claims import Claims, RecordClaim, Remark
from fixed_anchor.core.errors import InputError
from fixed_anchor.sources.protocol import Origin, Reader, text_of

if TYPE_CHECKING:
    from fixed_anchor.sources.zone_file import Record

#: An origin above the first record: only blank lines, comments and other directives stand before it.
_ORIGIN = re.compile(r"(?:[ \t]*(?:;[^\n]*)?\n|\$(?!ORIGIN)[^\n]*\n)*\$ORIGIN\s+(\S+)", re.IGNORECASE)
_DOMAIN = re.compile(r"(?:[a-z0-9_-]+\.)+[a-z0-9_-]+", re.IGNORECASE)


class Zone:
    """The source ``zone``; its option ``origin`` names the zone where neither the file nor its name does."""

    options: tuple[str, ...] = ("origin",)

    def claims(self, data: bytes, origin: Origin, reader: Reader) -> Claims:
        import dns.exception
        import dns.name

        from fixed_anchor.sources.zone_file import name_text, records_of

        text = text_of(data, origin.path)
        try:
            zone = dns.name.from_text(_zone_name(text, origin))
        except dns.exception.DNSException as error:
            raise InputError(f"this is no DNS zone: {error}", file=origin.path) from None
        name = name_text(zone)
        records: list[RecordClaim] = []
        untidy: list[Remark] = []
        for record in records_of(text, origin.path, zone, reader):
            if name and record.owner != name and not record.owner.endswith(f".{name}"):
                what = f"{record.owner} lies outside the zone {name}: a DNS server passes it over"
                untidy.append(Remark(what, record.place))
                continue
            claim = _claim(record)
            if claim is None:
                continue
            records.append(claim)
            if _lacks_dot(claim, name):
                what = f"{claim.name} has the zone's own name at its end: a closing dot seems to be missing"
                untidy.append(Remark(what, record.place))
        return Claims(origin.kind, origin.shown, records=tuple(records), untidy=tuple(untidy))


def _lacks_dot(claim: RecordClaim, zone: str) -> bool:
    """Whether a name that was meant to be whole got the zone's name as well."""
    if claim.kind == "PTR":
        return claim.name.endswith((".in-addr.arpa", ".ip6.arpa"))
    return zone != "" and claim.name.endswith(f"{zone}.{zone}")


def _zone_name(text: str, origin: Origin) -> str:
    """The zone: as the plan says, as the file says, or as the file is called."""
    if "origin" in origin.options:
        return origin.options["origin"]
    said = _ORIGIN.match(text)
    if said and said[1].endswith("."):
        return said[1]
    name = os.path.basename(origin.path).lower()
    for ending in (".zone", ".db", ".hosts", ".txt", ".rev"):
        name = name.removesuffix(ending)
    name = name.removeprefix("db.").removeprefix("zone.")
    if _DOMAIN.fullmatch(name) and not re.fullmatch(r"[0-9.]+", name):
        return name
    raise InputError(
        "which zone this file is for does not stand in it",
        file=origin.path,
        expected=f"`- {{zone: {origin.shown}, origin: NAME}}` in the plan, or $ORIGIN at the top of the file",
    )


def _claim(record: Record) -> RecordClaim | None:
    """What a record says of an address; ``None`` for one that says nothing of any."""
    try:
        if record.kind in ("A", "AAAA"):
            return RecordClaim(parse_address(record.value), record.owner, record.kind, record.place)
        if record.kind == "PTR":
            return RecordClaim(_reversed(record.owner), record.value, record.kind, record.place)
    except ValueError:
        # A PTR outside the reverse trees (RFC 6763 uses them so).
        pass
    return None


def _reversed(owner: str) -> IPAddress:
    """The address that a name of the reverse trees stands for: RFC 1035, section 3.5, and RFC 3596, section 2.5.

    One label more is a delegated part (RFC 2317). Raises :class:`ValueError`.
    """
    labels = owner.split(".")
    tree, labels = labels[-2:], labels[:-2]
    if tree == ["in-addr", "arpa"] and len(labels) in (4, 5):
        if len(labels) == 5:
            del labels[1]
        return parse_address(".".join(reversed(labels)))
    if tree == ["ip6", "arpa"] and len(labels) == 32:
        nibbles = "".join(reversed(labels))
        return parse_address(":".join(nibbles[at : at + 4] for at in range(0, 32, 4)))
    raise ValueError(f"{owner} stands for no address")
