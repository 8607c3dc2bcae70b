"""dnsmasq's lease file: ``EXPIRY MAC ADDRESS NAME CLIENT-ID``, one lease a line; those of DHCPv6 below ``duid``."""

from __future__ import annotations

import re

from fixed_anchor.core.addresses import parse_address, parse_mac
from fixed_anchor.core.claims import Claims, LeaseClaim, LeaseList, Remark
from fixed_anchor.core.config import Place
from fixed_anchor.sources.protocol import Origin, Reader, text_of

_TYPE = re.compile(r"[0-9a-fA-F]{2}-(?=[0-9a-fA-F]{2}:)")


class DnsmasqLeases:
    """The source ``dnsmasq-leases``."""

    options: tuple[str, ...] = ()

    def claims(self, data: bytes, origin: Origin, reader: Reader) -> Claims:
        leases: list[LeaseClaim] = []
        broken: list[Remark] = []
        lines = text_of(data, origin.path).split("\n")
        for number, line in enumerate(lines, 1):
            words = line.split()
            if not words or words[0] == "duid":
                continue
            place = Place(origin.path, number)
            if number == len(lines) or len(words) < 4 or not words[0].isdecimal():
                what = "the file ends in the middle of a lease" if number == len(lines) else "this line is no lease"
                broken.append(Remark(what, place))
                continue
            try:
                address = parse_address(words[2])
                # A DHCPv6 line has the client's IAID in the place of the MAC.
                mac = parse_mac(_TYPE.sub("", words[1])) if address.version == 4 and ":" in words[1] else None
            except ValueError as error:
                broken.append(Remark(str(error), place))
                continue
            ends = int(words[0])
            name = "" if words[3] == "*" else words[3]
            leases.append(LeaseClaim(address, place, mac, "active", ends or None, name))
        return Claims(origin.kind, origin.shown, leases=LeaseList(leases), broken=tuple(broken))
