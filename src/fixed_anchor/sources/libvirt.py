"""A hypervisor's network in libvirt's XML (formatnetwork): what its daemon gives out, and what it holds itself.

The daemon runs dnsmasq for a network that has an address of its own, and gives it the settings that are made
here of the XML, in the same order. What it refuses to define, is refused here too.
"""

from __future__ import annotations

from collections.abc import Iterator

from fixed_anchor.core.addresses import (
    AddressRange,
    IPAddress,
    IPNetwork,
    parse_address,
    parse_mac,
    parse_prefix,
    parse_range,
    with_prefix,
)
from fixed_anchor.core.claims import Claims, ListedClaim, RecordClaim, Remark
from fixed_anchor.core.config import Place
from fixed_anchor.core.errors import InputError
from fixed_anchor.sources.dnsmasq import settings_of
from fixed_anchor.sources.protocol import Origin, Reader, Reservation
from fixed_anchor.sources.xml_elements import Element, parse

_OPTIONS = "http://libvirt.org/schemas/network/dnsmasq/1.0"
#: Modes in which the daemon gives the network an address, and answers DHCP there; "" stands for an isolated one.
_OWN = frozenset({"", "nat", "route", "open"})
#: Modes in which guests are put on a network that is there already.
_OTHERS = frozenset({"bridge", "private", "vepa", "passthrough", "hostdev"})

Lines = list[tuple[str, Place]]


class Libvirt:
    """The source ``libvirt``."""

    options: tuple[str, ...] = ()

    def claims(self, data: bytes, origin: Origin, reader: Reader) -> Claims:
        network = _Network(data, origin.path)
        found = settings_of(network.settings(), reader)
        found.records += network.records()
        found.untidy += network.untidy
        found.listed += network.listed()
        return found.claims(origin.kind, origin.shown)


class _Network:
    """One network, read from its XML. Raises :class:`InputError` for what the daemon does not define."""

    def __init__(self, data: bytes, path: str) -> None:
        self.path = path
        root = parse(data, path)
        # The daemon's own files of running networks have it one level down.
        found = root if root.name == "network" else next(iter(root.all("network")), None)
        if found is None:
            raise InputError(f"<{root.name}> stands at the top", file=path, line=root.line, expected="<network>")
        self.element = found
        self.name = next((n.text.strip() for n in found.all("name")), "")
        if not self.name:
            raise self.error(found, "the network has no name", "<name>")
        self.untidy: list[Remark] = []
        self.mode = self._mode()
        self.ips = [_Ip(self, ip) for ip in found.all("ip")]

    def error(self, element: Element, what: str, expected: str | None = None) -> InputError:
        return InputError(what, file=self.path, line=element.line, expected=expected)

    def place(self, element: Element) -> Place:
        return Place(self.path, element.line)

    def _mode(self) -> str:
        forwards = self.element.all("forward")
        if not forwards:
            return ""
        mode = forwards[0].attributes.get("mode", "nat")
        if mode not in _OWN | _OTHERS or not mode:
            raise self.error(forwards[0], f"<forward>: there is no mode {mode!r}", "nat, route, open or bridge")
        if mode in _OTHERS:
            ips = self.element.all("ip")
            if ips:
                raise self.error(ips[0], f"<ip> in a network with the mode {mode!r}, which has none of its own")
            what = f"{self.name} puts guests on a network that is there already: libvirt gives out no address on it"
            self.untidy.append(Remark(what, self.place(forwards[0])))
        return mode

    def settings(self) -> Lines:
        """The lines of the configuration that the daemon writes for its dnsmasq."""
        lines: Lines = []
        domain = next(iter(self.element.all("domain")), None)
        if domain is not None and domain.attributes.get("name"):
            lines.append((f"domain={domain.attributes['name']}", self.place(domain)))
        served: set[int] = set()
        for ip in self.ips:
            lines += ip.settings(served)
        for options in self.element.all(f"{_OPTIONS} options"):
            for option in options.all(f"{_OPTIONS} option"):
                lines.append((option.attributes.get("value", ""), self.place(option)))
        return lines

    @property
    def has_dns(self) -> bool:
        return not any(dns.attributes.get("enable") == "no" for dns in self.element.all("dns")[:1])

    def records(self) -> Iterator[RecordClaim]:
        """The hosts that the network's own DNS knows."""
        for dns in self.element.all("dns")[:1]:
            for host in dns.all("host"):
                address = self.address(host, "ip")
                names = [h.text.strip().lower() for h in host.all("hostname")]
                if not any(names):
                    raise self.error(host, "<host> of <dns> has no <hostname>")
                yield from (RecordClaim(address, name, "hosts", self.place(host)) for name in names if name)

    def listed(self) -> Iterator[ListedClaim]:
        """What the network holds itself: its bridge, next hops of its routes, addresses that it translates to."""
        for ip in self.ips:
            yield ListedClaim(_one(ip.address), self.place(ip.element), f"the bridge of {self.name}")
        for route in self.element.all("route"):
            gateway = self.address(route, "gateway")
            if not any(gateway in ip.network for ip in self.ips):
                raise self.error(route, f"<route>: {gateway} is in no subnet of this network")
            name = f"the next hop of a route of {self.name}"
            yield ListedClaim(_one(gateway), self.place(route), name)
        for forward in self.element.all("forward")[:1]:
            for element in (a for nat in forward.all("nat") for a in nat.all("address")):
                yield ListedClaim(self.range(element), self.place(element), f"address translation of {self.name}")

    def address(self, element: Element, attribute: str) -> IPAddress:
        """The address in an attribute. Raises :class:`InputError`."""
        text = element.attributes.get(attribute)
        if text is None:
            raise self.error(element, f"<{element.name}> has no {attribute}", f'{attribute}="ADDRESS"')
        try:
            if text != text.strip():
                raise ValueError(f"blanks around {text.strip()}")
            return parse_address(text)
        except ValueError as error:
            raise self.error(element, f"<{element.name}> {attribute}: {error}") from None

    def range(self, element: Element) -> AddressRange:
        """The addresses from ``start`` to ``end``. Raises :class:`InputError`."""
        first, last = self.address(element, "start"), self.address(element, "end")
        try:
            return parse_range(f"{first} - {last}")
        except ValueError as error:
            raise self.error(element, f"<{element.name}>: {error}") from None


class _Ip:
    """One ``<ip>``: the bridge's address in a subnet, and whether DHCP is served there."""

    def __init__(self, network: _Network, element: Element) -> None:
        self.of = network
        self.element = element
        self.address = network.address(element, "address")
        attributes = element.attributes
        six = self.address.version == 6
        if (attributes.get("family", "ipv4") == "ipv6") != six:
            family = "ipv6" if six else "ipv4"
            raise network.error(element, f"<ip>: the family of {self.address} is another", f'family="{family}"')
        if "netmask" in attributes and ("prefix" in attributes or six):
            what = "an IPv6 address has a prefix, no netmask" if six else "prefix and netmask exclude each other"
            raise network.error(element, f"<ip>: {what}", f'prefix="{64 if six else 24}"')
        self.network = self._subnet(attributes.get("prefix") or attributes.get("netmask") or "0")
        #: Of several the daemon reads the first.
        self.dhcp = next(iter(element.all("dhcp")), None)

    def _subnet(self, length: str) -> IPNetwork:
        try:
            bits = parse_prefix(length, self.address.version)
        except ValueError as error:
            raise self.of.error(self.element, f"<ip>: {error}") from None
        if bits == 0:
            bits = self._usual_length()
            what = f"<ip> has no prefix: libvirt takes /{bits} for {self.address}, by the class of the address"
            self.of.untidy.append(Remark(what, self.of.place(self.element)))
        return with_prefix(self.address, bits).network

    def _usual_length(self) -> int:
        """What the daemon takes where nothing is said (RFC 791, section 3.2)."""
        if self.address.version == 6:
            return 64
        first = int(self.address) >> 24
        return 8 if first < 128 else 16 if first < 192 else 24

    def settings(self, served: set[int]) -> Lines:
        """What the daemon tells its dnsmasq of this subnet. ``served`` are the IP versions with DHCP so far."""
        dhcp = self.dhcp
        ranges, hosts = (dhcp.all("range"), dhcp.all("host")) if dhcp is not None else ([], [])
        if dhcp is None or not (ranges or hosts):
            return []
        version = self.address.version
        if version in served:
            raise self.of.error(dhcp, f"a second <dhcp> for IPv{version}: libvirt serves one subnet of each version")
        served.add(version)
        here = self.of.place(self.element)
        # The daemon writes this line where there are hosts alone. Here it says in any case where the subnet stands.
        lines = [(f"dhcp-range={self.address},static,{self._mask}", here)]
        lines += [(f"dhcp-range={self._bounds(r)},{self._mask}", self.of.place(r)) for r in ranges]
        lines += [(f"dhcp-host={self._host(host)}", self.of.place(host)) for host in hosts]
        if version == 4:
            # An isolated network has no way out; the others name the bridge, which answers DNS itself.
            lines.append((f"dhcp-option=3,{self.address}" if self.of.mode else "dhcp-option=3", here))
            lines.append((f"dhcp-option=6,{self.address}" if self.of.has_dns else "dhcp-option=6", here))
        return lines

    @property
    def _mask(self) -> str:
        return str(self.network.netmask if self.network.version == 4 else self.network.prefixlen)

    def _bounds(self, element: Element) -> str:
        found = self.of.range(element)
        first, last = found.ends
        if first not in self.network or last not in self.network:
            raise self.of.error(element, f"<range>: {found} is not within {self.network}")
        if self.network.version == 4 and self.network.prefixlen < 31:
            for address, what in ((first, "network"), (last, "broadcast")):
                if address == getattr(self.network, f"{what}_address"):
                    raise self.of.error(element, f"<range>: {address} is the {what} address")
        return f"{first},{last}"

    def _host(self, element: Element) -> str:
        """A host as a line of dnsmasq: known by MAC or name, for IPv6 by DUID or name."""
        attributes = element.attributes
        address = self.of.address(element, "ip")
        six = self.address.version == 6
        known_by = ("id", "name") if six else ("mac", "name")
        if not any(attributes.get(key) for key in known_by) or (six and "mac" in attributes):
            what = f"<host> of IPv{self.address.version} is not known by " + (
                "a MAC" if "mac" in attributes else "anything"
            )
            raise self.of.error(element, what, " or ".join(f'{key}="..."' for key in known_by))
        words = [f"id:{attributes['id']}"] if attributes.get("id") else []
        if attributes.get("mac"):
            try:
                words.append(_mac(attributes["mac"]))
            except ValueError as error:
                raise self.of.error(element, f"<host> mac: {error}") from None
        words.append(f"[{address}]" if six else str(address))
        words += [attributes["name"]] if attributes.get("name") else []
        return ",".join(words)


def _mac(text: str) -> str:
    """The MAC of one machine, with colons, its parts with or without leading zeros. Raises :class:`ValueError`."""
    if "-" in text:
        raise ValueError(f"{text} is written with dashes, which libvirt does not take")
    mac = parse_mac(":".join(part.zfill(2) for part in text.split(":")))
    if int(mac[:2], 16) & 1:
        raise ValueError(f"{text} is the address of a group, not of one machine")
    return mac


def _one(address: IPAddress) -> AddressRange:
    return parse_range(str(address))


def reserve(text: str, path: str, wanted: Reservation) -> str:
    """``text`` with a ``<host>`` in the ``<dhcp>`` of its subnet. Raises :class:`InputError`."""
    data = text.encode()
    address = parse_address(wanted.address)
    for ip in _Network(data, path).ips:
        dhcp = ip.dhcp
        if dhcp is None or address not in ip.network:
            continue
        entry = line(wanted).encode()
        if not dhcp.children and data[dhcp.close - 2 : dhcp.close] == b"/>":
            inside = b">" + entry + b"</dhcp>"
            return (data[: dhcp.close - 2].rstrip() + inside + data[dhcp.close :]).decode()
        last = dhcp.children[-1].start if dhcp.children else dhcp.close
        begin = data.rfind(b"\n", 0, last) + 1
        indent = data[begin:last] if not data[begin:last].strip() else b""
        close = data.rfind(b"\n", 0, dhcp.close) + 1 if indent else dhcp.close
        return (data[:close] + indent + entry + (b"\n" if indent else b"") + data[close:]).decode()
    raise InputError(f"no <dhcp> in this file is for {address}", file=path)


def line(wanted: Reservation) -> str:
    """The reservation alone, an element of ``<dhcp>``: by MAC, for IPv6 by name."""
    known_by = "" if ":" in wanted.address else f"mac='{wanted.mac}' "
    return f"<host {known_by}name='{wanted.name}' ip='{wanted.address}'/>"
