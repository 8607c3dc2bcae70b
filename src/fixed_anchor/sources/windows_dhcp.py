"""The export of a Windows DHCP server, as `Export-DhcpServer -Leases` writes it in XML.

Element names are taken with or without a namespace. The server leases what a scope's range leaves when its exclusions
are taken out; a reservation keeps its address from others wherever it lies. What is not known is named.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from datetime import datetime
from typing import NamedTuple

from fixed_anchor.core.addresses import (
    AddressRange,
    IPAddress,
    IPNetwork,
    parse_address,
    parse_domain,
    parse_mac,
    parse_network,
    with_prefix,
)
from fixed_anchor.core.claims import (
    Claims,
    LeaseClaim,
    LeaseList,
    PoolClaim,
    Remark,
    ReservationClaim,
    SubnetClaim,
)
from fixed_anchor.core.config import Place
from fixed_anchor.core.errors import InputError
from fixed_anchor.sources.protocol import Origin, Reader, Reservation
from fixed_anchor.sources.windows_dhcp_xml import KNOWN, below, local, text_of
from fixed_anchor.sources.xml_elements import Element, parse

#: Options that clients are told, by their numbers (RFC 2132; RFC 3397; RFC 3646).
_ROUTERS, _RESOLVERS, _DOMAIN, _SEARCH, _RESOLVERS6, _SEARCH6 = "3", "6", "15", "119", "23", "24"
#: Options that are for some clients alone.
_FOR_SOME = ("UserClass", "VendorClass", "PolicyName")


class _Said(NamedTuple):
    """The values of one option, and where they stand."""

    values: tuple[str, ...]
    place: Place


class WindowsDhcp:
    """The source ``windows-dhcp``."""

    options: tuple[str, ...] = ()

    def claims(self, data: bytes, origin: Origin, reader: Reader) -> Claims:
        return Export(data, origin.path).claims(origin)


class Export:
    """An export that is read. Raises :class:`InputError` for what is none."""

    def __init__(self, data: bytes, path: str) -> None:
        self.path = path
        self.root = parse(data, path)
        if local(self.root) != "DHCPServer":
            what = f"<{local(self.root)}> stands at the top"
            raise InputError(what, file=path, line=self.root.line, expected="<DHCPServer>, the export of a server")
        self._pools: list[PoolClaim] = []
        self._subnets: list[SubnetClaim] = []
        self._reservations: list[ReservationClaim] = []
        self._leases: list[LeaseClaim] = []
        self._untidy: list[Remark] = []
        self._broken: list[Remark] = []
        self._named: set[str] = set()

    def scopes(self) -> Iterator[tuple[Element, Element, int]]:
        """Each scope, with the element of its IP version, and that version."""
        for version in (4, 6):
            for family in below(self.root, f"IPv{version}"):
                for scope in below(family, "Scopes", "Scope"):
                    yield scope, family, version

    def claims(self, origin: Origin) -> Claims:
        """What it claims."""
        self._name_unknown(self.root)
        for family in (f for version in (4, 6) for f in below(self.root, f"IPv{version}")):
            self._name_unknown(family)
        for scope, family, version in self.scopes():
            self._name_unknown(scope)
            try:
                network = self.network(scope, version)
            except InputError as error:
                # Nothing of it can be told, and the others can.
                self._broken.append(Remark(error.what, self._place(scope)))
                continue
            self._read_scope(scope, family, network)
        return Claims(
            origin.kind,
            origin.shown,
            pools=tuple(self._pools),
            subnets=tuple(self._subnets),
            reservations=tuple(self._reservations),
            leases=LeaseList(self._leases),
            untidy=tuple(self._untidy),
            broken=tuple(self._broken),
        )

    def network(self, scope: Element, version: int) -> IPNetwork:
        """The subnet of a scope. Raises :class:`InputError` with its line."""
        try:
            if version == 6:
                return with_prefix(self._version(parse_address(text_of(scope, "Prefix")), 6), 64).network
            first = self._version(parse_address(text_of(scope, "ScopeId")), 4)
            if not (mask := text_of(scope, "SubnetMask")):
                raise ValueError("it has no <SubnetMask>")
            return parse_network(f"{first}/{mask}")
        except ValueError as error:
            name = text_of(scope, "Name") or "a scope"
            raise InputError(f"{name}: {error}", file=self.path, line=scope.line) from None

    @staticmethod
    def _version(address: IPAddress, version: int) -> IPAddress:
        if address.version != version:
            raise ValueError(f"{address} is not of IPv{version}")
        return address

    def _place(self, element: Element) -> Place:
        return Place(self.path, element.line)

    def _name_unknown(self, element: Element) -> None:
        """Names what is not known, and failover, whose partner leases from the same ranges."""
        for child in element.children:
            name = local(child)
            if name in KNOWN[local(element)] or name in self._named:
                continue
            self._named.add(name)
            if name.startswith("Failover"):
                what = "there is failover: its partner leases from the same ranges, and its leases may be missing here"
            else:
                what = f"<{name}> in <{local(element)}> is not known here, and was not read"
            self._untidy.append(Remark(what, self._place(child)))

    def _read_scope(self, scope: Element, family: Element, network: IPNetwork) -> None:
        self._subnets.append(self._subnet(scope, family, network))
        state = text_of(scope, "State").lower()
        name = text_of(scope, "Name") or str(network)
        if state.startswith("inactive"):
            self._untidy.append(Remark(f"{name} is not active: nothing is leased from it", self._place(scope)))
        else:
            self._read_pools(scope, network, name)
        for reservation in below(scope, "Reservations", "Reservation"):
            self._guard(reservation, self._reservation, network)
        for lease in below(scope, "Leases", "Lease"):
            self._guard(lease, self._lease, network)

    def _guard(self, element: Element, read: Callable[[Element, IPNetwork], None], network: IPNetwork) -> None:
        """Reads one entry; what is wrong with it speaks against it alone."""
        try:
            read(element, network)
        except ValueError as error:
            self._broken.append(Remark(f"<{local(element)}>: {error}", self._place(element)))

    # --- what it leases -----------------------------------------------------------------

    def _read_pools(self, scope: Element, network: IPNetwork, name: str) -> None:
        try:
            if network.version == 6:
                ranges = [AddressRange(6, int(network[0]), int(network[-1]))]
            else:
                ranges = [self._range(scope, network)] if text_of(scope, "StartRange") else []
            for excluded in below(scope, "ExclusionRanges", "IPRange"):
                ranges = list(_without(ranges, self._range(excluded, network)))
            limited: list[tuple[AddressRange, str]] = []
            for policy in below(scope, "Policies", "Policy"):
                self._name_unknown(policy)
                if text_of(policy, "Enabled").lower() == "false":
                    continue
                for kept in (*below(policy, "IPRanges", "IPRange"), *below(policy, "IPRange")):
                    part = self._range(kept, network)
                    limits = f"policy {text_of(policy, 'Name') or 'without a name'}"
                    limited += [(cut, limits) for cut in _within(ranges, part)]
                    ranges = list(_without(ranges, part))
        except ValueError as error:
            self._broken.append(Remark(f"{name}: {error}", self._place(scope)))
            return
        start = next(iter(below(scope, "StartRange")), scope)
        only = "BOOTP clients" if text_of(scope, "Type").lower() == "bootp" else ""
        self._pools += [PoolClaim(r, self._place(start), only) for r in ranges]
        self._pools += [PoolClaim(r, self._place(start), limits) for r, limits in limited]

    def _range(self, element: Element, network: IPNetwork) -> AddressRange:
        ends = [parse_address(text_of(element, name)) for name in ("StartRange", "EndRange")]
        for end in ends:
            if end not in network:
                raise ValueError(f"{end} is not within {network}")
        if int(ends[0]) > int(ends[1]):
            raise ValueError(f"the range ends at {ends[1]}, before it begins")
        return AddressRange(network.version, int(ends[0]), int(ends[1]))

    def _reservation(self, element: Element, network: IPNetwork) -> None:
        address = self._inside(element, network)
        mac, client = _client(element)
        name = text_of(element, "Name")
        self._reservations.append(ReservationClaim(address, self._place(element), mac, "" if mac else client or name))

    def _inside(self, element: Element, network: IPNetwork) -> IPAddress:
        address = parse_address(text_of(element, "IPAddress"))
        if address not in network:
            raise ValueError(f"{address} is not within {network}")
        return address

    def _lease(self, element: Element, network: IPNetwork) -> None:
        address = self._inside(element, network)
        mac, _ = _client(element)
        name, state = text_of(element, "HostName"), text_of(element, "AddressState").lower()
        if state == "inactivereservation":
            return
        if state == "declined" or name == "BAD_ADDRESS":
            state = "declined"
        elif state.startswith(("expired", "doomed", "dormant", "released")):
            state = "free"
        elif not state.startswith(("active", "offered")) and network.version == 4:
            what = f"the lease of {address} is {text_of(element, 'AddressState') or 'without a state'}: taken as held"
            self._untidy.append(Remark(what, self._place(element)))
            state = "active"
        else:
            state = "active"
        told = text_of(element, "LeaseExpiryTime")
        ends = _time(told)
        if told and ends is None:
            what = f"the end of the lease of {address}, {told!r}, cannot be read: taken as never"
            self._untidy.append(Remark(what, self._place(element)))
        self._leases.append(LeaseClaim(address, self._place(element), mac, state, ends, name))

    # --- what clients are told ----------------------------------------------------------

    def _subnet(self, scope: Element, family: Element, network: IPNetwork) -> SubnetClaim:
        options = self._options(family) | self._options(scope)
        # An export of single scopes may leave out what the server says for all.
        is_whole = bool(below(family, "OptionValues"))
        places: dict[str, Place] = {}

        def addresses(number: str, what: str) -> tuple[IPAddress, ...] | None:
            if number not in options:
                return () if is_whole else None
            places[what] = options[number].place
            found: list[IPAddress] = []
            for value in options[number].values:
                try:
                    found.append(self._version(parse_address(value), network.version))
                except ValueError as error:
                    self._broken.append(Remark(f"option {number}: {error}", options[number].place))
            return tuple(found)

        if network.version == 6:
            resolvers, search = addresses(_RESOLVERS6, "resolvers"), self._domains(options, (_SEARCH6,), places)
            return SubnetClaim(network, self._place(scope), None, resolvers, search, places)
        routers, resolvers = addresses(_ROUTERS, "routers"), addresses(_RESOLVERS, "resolvers")
        search = self._domains(options, (_SEARCH, _DOMAIN), places)
        return SubnetClaim(network, self._place(scope), routers, resolvers, search, places)

    def _domains(
        self, options: dict[str, _Said], numbers: tuple[str, ...], places: dict[str, Place]
    ) -> tuple[str, ...] | None:
        """The search list, or without one the domain."""
        for number in numbers:
            if number not in options:
                continue
            places["search"] = options[number].place
            try:
                return tuple(parse_domain(value) for value in options[number].values if value)
            except ValueError as error:
                self._broken.append(Remark(f"option {number}: {error}", options[number].place))
        return None

    def _options(self, element: Element) -> dict[str, _Said]:
        """The options that are for every client, by number."""
        found: dict[str, _Said] = {}
        for value in below(element, "OptionValues", "OptionValue"):
            if any(text_of(value, only) for only in _FOR_SOME):
                continue
            values = tuple(v.text.strip() for v in below(value, "Value"))
            found[text_of(value, "OptionId")] = _Said(values, self._place(value))
        return found


def _client(element: Element) -> tuple[str | None, str]:
    """The MAC by which a client is known, where it is one, and its identifier as it stands."""
    duid = text_of(element, "ClientDuid")
    if duid:
        return None, f"DUID {duid}"
    text = text_of(element, "ClientId")
    plain = text.replace("-", "").replace(":", "").lower()
    # With the type of its hardware before it, 1 for Ethernet (RFC 2132, section 9.14).
    plain = plain[2:] if len(plain) == 14 and plain.startswith("01") else plain
    try:
        return parse_mac(":".join(plain[n : n + 2] for n in range(0, len(plain), 2))), text
    except ValueError:
        return None, text


def _time(text: str) -> int | None:
    """A time with its zone as seconds since 1970; ``None`` for any other, and for one whose zone nobody knows."""
    try:
        found = datetime.fromisoformat(text)
    except ValueError:
        return None
    return int(found.timestamp()) if found.tzinfo is not None else None


def _without(ranges: list[AddressRange], out: AddressRange) -> Iterator[AddressRange]:
    for one in ranges:
        for first, last in ((one.first, min(one.last, out.first - 1)), (max(one.first, out.last + 1), one.last)):
            if first <= last:
                yield AddressRange(one.version, first, last)


def _within(ranges: list[AddressRange], part: AddressRange) -> Iterator[AddressRange]:
    for one in ranges:
        first, last = max(one.first, part.first), min(one.last, part.last)
        if first <= last:
            yield AddressRange(one.version, first, last)


def line(wanted: Reservation) -> str:
    """The command of its own administration; of IPv6 it wants the client's DUID, which nobody has told.

    No export is drafted: importing one leaves a scope that is there as it is, or replaces all of it, with what was
    leased and reserved since.
    """
    if ":" in wanted.address:
        return f"Add-DhcpServerv6Reservation -IPAddress {wanted.address} -Name {wanted.name} with the client's DUID"
    scope = wanted.subnet.partition("/")[0]
    client = wanted.mac.replace(":", "-")
    return (
        f"Add-DhcpServerv4Reservation -ScopeId {scope} -IPAddress {wanted.address} -ClientId {client} "
        f"-Name {wanted.name}"
    )
