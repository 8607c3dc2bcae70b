"""DNS master files (RFC 1035, section 5), forward and reverse, through dnspython's reader."""

from __future__ import annotations

import os
import re
from typing import TYPE_CHECKING, Any

from fixed_anchor.core.addresses import parse_address
from fixed_anchor.core.claims import Claims, RecordClaim
from fixed_anchor.core.config import Place
from fixed_anchor.core.errors import InputError
from fixed_anchor.sources.protocol import Origin, Reader, text_of

if TYPE_CHECKING:
    import dns.name

#: An origin above the first record: only blank lines, comments and other directives stand before it.
_ORIGIN = re.compile(r"(?:[ \t]*(?:;[^\n]*)?\n|\$(?!ORIGIN)[^\n]*\n)*\$ORIGIN\s+(\S+)", re.IGNORECASE)
_INCLUDE = re.compile(r"^(\$INCLUDE\s+)(\S+)", re.MULTILINE | re.IGNORECASE)
_GENERATE = re.compile(r"^\$GENERATE\s+([0-9]+)-([0-9]+)", re.MULTILINE | re.IGNORECASE)
_MANY = 65536
_DOMAIN = re.compile(r"(?:[a-z0-9_-]+\.)+[a-z0-9_-]+", re.IGNORECASE)


class Zone:
    """The source ``zone``; its option ``origin`` names the zone where neither the file nor its name does."""

    options: tuple[str, ...] = ("origin",)

    def claims(self, data: bytes, origin: Origin, reader: Reader) -> Claims:
        import dns.exception
        import dns.name

        text = text_of(data, origin.path)
        for generated in _GENERATE.finditer(text):
            if int(generated[2]) - int(generated[1]) >= _MANY:
                line = text.count("\n", 0, generated.start()) + 1
                raise InputError(f"$GENERATE of more than {_MANY} records", file=origin.path, line=line)
        text = _INCLUDE.sub(lambda found: found[1] + reader.path(found[2], origin.path), text)
        try:
            name = dns.name.from_text(_zone_name(text, origin))
            records = _records(text, origin.path, name)
        except dns.exception.DNSException as error:
            # "FILE:LINE: what" is how the reader says where.
            matched = re.fullmatch(rf"({re.escape(origin.path)}|/.*?):([0-9]+): (.*)", str(error), re.DOTALL)
            if matched is None:
                raise InputError(f"this is no DNS zone: {error}", file=origin.path) from None
            raise InputError(
                f"not a DNS record: {matched[3]}", file=matched[1], line=int(matched[2]), expected="RFC 1035, section 5"
            ) from None
        except (OSError, ValueError, RecursionError) as error:
            raise InputError(f"this is no DNS zone: {error}", file=origin.path) from None
        return Claims(origin.kind, origin.shown, records=tuple(records))


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


def _records(text: str, path: str, name: dns.name.Name) -> list[RecordClaim]:
    import dns.name
    import dns.rdataclass
    import dns.tokenizer
    import dns.zonefile

    found: list[RecordClaim] = []

    class Collector:
        """Takes the records where the reader would put them into a zone."""

        manager: Any = None

        def origin_information(self) -> tuple[dns.name.Name, bool, dns.name.Name]:
            # The root: records of other zones in the file say something of their addresses, too.
            return dns.name.root, False, dns.name.root

        def check_put_rdataset(self, check: object) -> None:
            """Zones that contradict themselves are the DNS server's to refuse."""

        def _set_origin(self, origin: dns.name.Name) -> None:
            """The origin moves within the file; the zone stays the same."""

        def add(self, owner: dns.name.Name, ttl: int, rdata: Any) -> None:
            found.extend(_claim(owner, rdata, Place(*lines.where)))

    class WithLines(dns.zonefile.Reader):
        """Remembers in which line the record at hand begins."""

        where = (path, 1)

        def _rr_line(self) -> None:
            self.where = self.tok.where()
            super()._rr_line()

    collector = Collector()
    collector.manager = collector
    tokenizer = dns.tokenizer.Tokenizer(text, path)
    lines = WithLines(tokenizer, dns.rdataclass.IN, collector, allow_include=True)  # type: ignore[arg-type]
    lines.current_origin = lines.last_name = name
    lines.read()
    return found


def _claim(owner: dns.name.Name, rdata: Any, place: Place) -> list[RecordClaim]:
    import dns.exception
    import dns.rdatatype
    import dns.reversename

    kind = dns.rdatatype.to_text(rdata.rdtype)
    try:
        if kind in ("A", "AAAA"):
            return [RecordClaim(parse_address(rdata.address), _text(owner), kind, place)]
        if kind == "PTR":
            return [RecordClaim(parse_address(dns.reversename.to_address(owner)), _text(rdata.target), kind, place)]
    except (dns.exception.DNSException, ValueError):
        # A PTR outside the reverse trees (RFC 6763 uses them so) says nothing of an address.
        pass
    return []


def _text(name: dns.name.Name) -> str:
    return name.to_text(omit_final_dot=True).lower()
