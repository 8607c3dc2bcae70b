"""Hosts files, hosts(5): an address and its names in each line."""

from __future__ import annotations

from fixed_anchor.core.addresses import parse_address
from fixed_anchor.core.claims import Claims, RecordClaim, Remark
from fixed_anchor.core.config import Place
from fixed_anchor.sources.protocol import Origin, Reader, text_of


class HostsFile:
    """The source ``hosts``."""

    options: tuple[str, ...] = ()

    def claims(self, data: bytes, origin: Origin, reader: Reader) -> Claims:
        records: list[RecordClaim] = []
        broken: list[Remark] = []
        for number, line in enumerate(text_of(data, origin.path).split("\n"), 1):
            words = line.partition("#")[0].split()
            if not words:
                continue
            place = Place(origin.path, number)
            try:
                address = parse_address(words[0].partition("%")[0])
            except ValueError as error:
                broken.append(Remark(str(error), place))
                continue
            if len(words) < 2:
                broken.append(Remark(f"{words[0]} has no name", place))
            elif not (address.is_loopback or address.is_link_local or address.is_multicast):
                records += [RecordClaim(address, name.rstrip(".").lower(), "hosts", place) for name in words[1:]]
        return Claims(origin.kind, origin.shown, records=tuple(records), broken=tuple(broken))
