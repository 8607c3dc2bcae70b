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
    import dns.name

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

        from fixed_anchor.sources.zone_file import records_of

        text = text_of(data, origin.path)
        try:
            name = dns.name.from_text(_zone_name(text, origin))
        except dns.exception.DNSException as error:
            raise InputError(f"this is no DNS zone: {error}", file=origin.path) from None
        records: list[RecordClaim] = []
        untidy: list[Remark] = []
        for record in records_of(text, origin.path, name, reader):
            if record.owner.is_subdomain(name):
                claims = _claim(record)
                records += claims
                doubled = next((c.name for c in claims if _lacks_dot(c, name)), None)
                if doubled is not None:
                    what = f"{doubled} has the zone's own name at its end: a closing dot seems to be missing"
                    untidy.append(Remark(what, record.place))
            else:
                what = f"{_text(record.owner)} lies outside the zone {_text(name)}: a DNS server passes it over"
                untidy.append(Remark(what, record.place))
        return Claims(origin.kind, origin.shown, records=tuple(records), untidy=tuple(untidy))


def _lacks_dot(claim: RecordClaim, zone: dns.name.Name) -> bool:
    """Whether a name that was meant to be whole got the zone's name as well."""
    origin = _text(zone)
    if claim.kind == "PTR":
        return claim.name.endswith((".in-addr.arpa", ".ip6.arpa"))
    return origin != "" and claim.name.endswith(f"{origin}.{origin}")


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


def _claim(record: Record) -> list[RecordClaim]:
    import dns.exception
    import dns.rdatatype

    rdata, place = record.rdata, record.place
    kind = dns.rdatatype.to_text(rdata.rdtype)
    try:
        if kind in ("A", "AAAA"):
            return [RecordClaim(parse_address(rdata.address), _text(record.owner), kind, place)]
        if kind == "PTR":
            return [RecordClaim(_reversed(record.owner), _text(rdata.target), kind, place)]
    except (dns.exception.DNSException, ValueError):
        # A PTR outside the reverse trees (RFC 6763 uses them so) says nothing of an address.
        pass
    return []


def _reversed(owner: dns.name.Name) -> IPAddress:
    """The address that a name of the reverse trees stands for; one label more is a delegated part (RFC 2317).

    Raises :class:`ValueError`, or an exception of dnspython's.
    """
    import dns.reversename

    labels = _text(owner).split(".")
    if labels[-2:] == ["in-addr", "arpa"] and len(labels) == 7:
        last, _, *network = labels[:5]
        return parse_address(".".join([*reversed(network), last]))
    return parse_address(dns.reversename.to_address(owner))


def _text(name: dns.name.Name) -> str:
    return name.to_text(omit_final_dot=True).lower()
