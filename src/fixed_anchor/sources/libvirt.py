"""libvirt's network XML (formatnetwork): the bridge's own addresses, its DHCP ranges and hosts."""

from __future__ import annotations

from xml.parsers import expat

from fixed_anchor.core.addresses import (
    IPAddress,
    parse_address,
    parse_domain,
    parse_mac,
    parse_prefix,
    parse_range,
    with_prefix,
)
from fixed_anchor.core.claims import Claims, ListedClaim, PoolClaim, RecordClaim, ReservationClaim, SubnetClaim
from fixed_anchor.core.config import Place
from fixed_anchor.core.errors import InputError
from fixed_anchor.sources.protocol import Origin, Reader, Reservation

_DEPTH = 40


class Element:
    """One element: its name, attributes, children and text, with its line and byte offsets."""

    def __init__(self, name: str, attributes: dict[str, str], line: int, start: int) -> None:
        self.name = name
        self.attributes = attributes
        self.line = line
        self.start = start
        #: The offset of the closing tag, or of the end of an element that has none.
        self.close = start
        self.children: list[Element] = []
        self.text = ""

    def all(self, name: str) -> list[Element]:
        """The elements below this one that are called ``name``."""
        return [c for c in self.children if c.name == name]


def parse(data: bytes, path: str) -> Element:
    """The root element. Raises :class:`InputError` for broken XML, and for any document type: entities
    of its own making are how a small file becomes a huge one.
    """
    parser = expat.ParserCreate()
    root = Element("", {}, 0, 0)
    stack = [root]

    def refuse(*_: object) -> None:
        raise InputError(
            "a document type declaration stands here, and entities are not expanded",
            file=path,
            line=parser.CurrentLineNumber,
            expected="plain elements",
        )

    def begin(name: str, attributes: dict[str, str]) -> None:
        if len(stack) > _DEPTH:
            raise InputError(f"nested more than {_DEPTH} deep", file=path, line=parser.CurrentLineNumber)
        element = Element(name, attributes, parser.CurrentLineNumber, parser.CurrentByteIndex)
        stack[-1].children.append(element)
        stack.append(element)

    def end(_: str) -> None:
        stack.pop().close = parser.CurrentByteIndex

    def text(data: str) -> None:
        stack[-1].text += data

    parser.StartDoctypeDeclHandler = refuse
    parser.EntityDeclHandler = refuse
    parser.StartElementHandler = begin
    parser.EndElementHandler = end
    parser.CharacterDataHandler = text
    try:
        parser.Parse(data, True)
    except expat.ExpatError as error:
        what = expat.ErrorString(error.code)
        raise InputError(f"not XML: {what}", file=path, line=error.lineno, column=error.offset + 1) from None
    except (ValueError, LookupError) as error:
        raise InputError(f"not XML: {error}", file=path) from None
    return root.children[0]


class Libvirt:
    """The source ``libvirt``."""

    options: tuple[str, ...] = ()

    def claims(self, data: bytes, origin: Origin, reader: Reader) -> Claims:
        root = parse(data, origin.path)
        network = root if root.name == "network" else next(iter(root.all("network")), None)
        if network is None:
            raise InputError(f"<{root.name}> stands at the top", file=origin.path, line=root.line, expected="<network>")
        pools: list[PoolClaim] = []
        subnets: list[SubnetClaim] = []
        reservations: list[ReservationClaim] = []
        records: list[RecordClaim] = []
        listed: list[ListedClaim] = []
        domain = next((d.attributes.get("name", "") for d in network.all("domain")), "")
        for ip in network.all("ip"):
            at = _At(origin.path, ip)
            address = at.address("address")
            length = ip.attributes.get("prefix") or ip.attributes.get("netmask")
            if length is None:
                # libvirt: the prefix of the address class for IPv4, 64 for IPv6.
                raise at.error("<ip> has neither prefix nor netmask, and its size would be guessed", 'prefix="24"')
            try:
                bits = parse_prefix(length, address.version)
            except ValueError as error:
                raise at.error(f"<ip>: {error}") from None
            search = (parse_domain(domain),) if domain else None
            listed.append(ListedClaim(parse_range(str(address)), at.place, f"bridge of {_name(network)}"))
            dhcps = ip.all("dhcp")
            if dhcps:
                subnets.append(
                    SubnetClaim(with_prefix(address, bits).network, at.place, (address,), (address,), search)
                )
            for dhcp in dhcps:
                for element in dhcp.all("range"):
                    here = _At(origin.path, element)
                    first, last = here.address("start"), here.address("end")
                    try:
                        pools.append(PoolClaim(parse_range(f"{first} - {last}"), here.place))
                    except ValueError as error:
                        raise here.error(f"<range>: {error}") from None
                for element in dhcp.all("host"):
                    here = _At(origin.path, element)
                    mac = element.attributes.get("mac")
                    client = element.attributes.get("name") or element.attributes.get("id", "")
                    held = here.address("ip")
                    try:
                        reservations.append(ReservationClaim(held, here.place, parse_mac(mac) if mac else None, client))
                    except ValueError as error:
                        raise here.error(f"<host>: {error}") from None
        for dns in network.all("dns"):
            for element in dns.all("host"):
                here = _At(origin.path, element)
                held = here.address("ip")
                names = [h.text.strip().lower() for h in element.all("hostname")]
                records += [RecordClaim(held, name, "hosts", here.place) for name in names if name]
        return Claims(
            origin.kind,
            origin.shown,
            pools=tuple(pools),
            subnets=tuple(subnets),
            reservations=tuple(reservations),
            records=tuple(records),
            listed=tuple(listed),
        )


def _name(network: Element) -> str:
    return next((n.text.strip() for n in network.all("name")), "this network")


class _At:
    """An element with the file it stands in, for errors."""

    def __init__(self, path: str, element: Element) -> None:
        self.place = Place(path, element.line)
        self.element = element

    def error(self, what: str, expected: str | None = None) -> InputError:
        return InputError(what, file=self.place.file, line=self.place.line, expected=expected)

    def address(self, name: str) -> IPAddress:
        text = self.element.attributes.get(name)
        if text is None:
            raise self.error(f"<{self.element.name}> has no {name}", f'{name}="ADDRESS"')
        try:
            return parse_address(text)
        except ValueError as error:
            raise self.error(f"<{self.element.name}> {name}: {error}") from None


def reserve(text: str, path: str, wanted: Reservation) -> str:
    """``text`` with a ``<host>`` in the ``<dhcp>`` of its subnet. Raises :class:`InputError`."""
    data = text.encode()
    root = parse(data, path)
    address = parse_address(wanted.address)
    for ip in root.all("ip"):
        at = _At(path, ip)
        own = at.address("address")
        length = ip.attributes.get("prefix") or ip.attributes.get("netmask") or ""
        if own.version != address.version or address not in with_prefix(own, parse_prefix(length, own.version)).network:
            continue
        for dhcp in ip.all("dhcp"):
            entry = line(wanted)
            last = dhcp.children[-1].start if dhcp.children else dhcp.close
            begin = data.rfind(b"\n", 0, last) + 1
            indent = data[begin:last] if not data[begin:last].strip() else b""
            close = data.rfind(b"\n", 0, dhcp.close) + 1 if indent else dhcp.close
            return (data[:close] + indent + entry.encode() + (b"\n" if indent else b"") + data[close:]).decode()
    raise InputError(f"no <dhcp> in this file is for {address}", file=path)


def line(wanted: Reservation) -> str:
    """The reservation alone, an element of ``<dhcp>``."""
    return f"<host mac='{wanted.mac}' name='{wanted.name}' ip='{wanted.address}'/>"
