"""Kea's DHCPv4 and DHCPv6 configuration (Kea Administrator Reference Manual, chapters 8 and 9)."""

from __future__ import annotations

import json
import re
from collections.abc import Callable, Iterable, Iterator
from typing import TypeVar

import msgspec

from fixed_anchor.core.addresses import (
    AddressRange,
    IPAddress,
    IPNetwork,
    parse_address,
    parse_destination,
    parse_domain,
    parse_mac,
    parse_range,
)
from fixed_anchor.core.claims import Claims, PoolClaim, Remark, ReservationClaim, SubnetClaim
from fixed_anchor.core.config import Place
from fixed_anchor.core.errors import InputError
from fixed_anchor.sources.kea_json import Node, parse
from fixed_anchor.sources.protocol import Origin, Reader, Reservation, text_of

#: Option names and codes by what they tell; of IPv4 (RFC 2132, RFC 3397) and IPv6 (RFC 3646).
_OPTIONS4 = {"routers": "routers", "3": "routers", "domain-name-servers": "resolvers", "6": "resolvers",
             "domain-search": "search", "119": "search", "domain-name": "domain", "15": "domain"}  # fmt: skip
_OPTIONS6 = {"dns-servers": "resolvers", "23": "resolvers", "domain-search": "search", "24": "search"}

#: What clients are told at a level, and where that stands.
Told = dict[str, tuple[str, Place]]


class Kea:
    """The source ``kea``: a file with ``Dhcp4``, ``Dhcp6``, or both."""

    options: tuple[str, ...] = ()

    def claims(self, data: bytes, origin: Origin, reader: Reader) -> Claims:
        def include(name: str, beside: str) -> tuple[str, str]:
            path = reader.path(name, beside)
            return path, text_of(reader.read(path), path)

        root = parse(text_of(data, origin.path), origin.path, include)
        found = _Found()
        servers = [(key, root.get(key)) for key in ("Dhcp4", "Dhcp6")]
        if not any(node for _, node in servers):
            raise root.error("this is no configuration of a Kea DHCP server", "Dhcp4 or Dhcp6 at the top")
        for key, node in servers:
            if node is not None:
                found.server(node, 4 if key == "Dhcp4" else 6)
        return Claims(
            origin.kind,
            origin.shown,
            pools=tuple(found.pools),
            subnets=tuple(found.subnets),
            reservations=tuple(found.reservations),
            untidy=tuple(found.untidy),
            broken=tuple(found.broken),
        )


class _Modes(msgspec.Struct, frozen=True):
    """Which reservations the server looks at, for a level of its configuration and those below it.

    ``in_subnet``: those of the subnet at all. ``out_of_pool``: it takes none of them to lie in a pool.
    """

    in_subnet: bool = True
    out_of_pool: bool = False

    def at(self, node: Node) -> _Modes:
        """The modes at ``node``, which says some of them anew."""
        mode = node.get("reservation-mode")
        now = _RESERVATION_MODES.get(str(mode.value), self) if mode is not None else self
        for field, key in (("in_subnet", "reservations-in-subnet"), ("out_of_pool", "reservations-out-of-pool")):
            said = node.get(key)
            if said is not None and isinstance(said.value, bool):
                now = msgspec.structs.replace(now, **{field: said.value})
        return now

    def keeps_clear(self, in_pool: bool) -> bool:
        """Whether nobody else is leased a reserved address."""
        return self.in_subnet and not (self.out_of_pool and in_pool)


#: What the older parameter means, section 8.3.12 of the manual.
_RESERVATION_MODES = {
    "disabled": _Modes(in_subnet=False), "off": _Modes(in_subnet=False), "global": _Modes(in_subnet=False),
    "out-of-pool": _Modes(out_of_pool=True), "all": _Modes(),
}  # fmt: skip


class _Found:
    def __init__(self) -> None:
        self.pools: list[PoolClaim] = []
        self.subnets: list[SubnetClaim] = []
        self.reservations: list[ReservationClaim] = []
        self.untidy: list[Remark] = []
        self.broken: list[Remark] = []

    def server(self, node: Node, version: int) -> None:
        if not isinstance(node.value, dict):
            raise node.error("the configuration of the server is no map", "{...}")
        told = _told(node, version, {})
        modes = _Modes().at(node)
        # Kea looks for reservations of others in the subnet alone: those of the server keep nobody from a lease.
        self.reserve(node, modes=_Modes(in_subnet=False))
        for key in ("hosts-database", "hosts-databases"):
            database = node.get(key)
            if database is not None:
                what = f"{key}: the reservations in that database are not looked at"
                self.broken.append(Remark(what, Place(database.file, database.line)))
        for network in node.items("shared-networks"):
            below = _told(network, version, told)
            self.reserve(network)
            self.subnets_of(network, version, below, modes.at(network))
        self.subnets_of(node, version, told, modes)

    def subnets_of(self, node: Node, version: int, told: Told, above: _Modes) -> None:
        for subnet in node.items(f"subnet{version}"):
            below = _told(subnet, version, told)
            modes = above.at(subnet)
            network = _parsed(subnet, "subnet", parse_destination)
            ranges = [_pool(pool, network) for pool in subnet.items("pools")]
            if "search" not in below and "domain" in below:
                below["search"] = below["domain"]
            texts = {what: text for what, (text, _) in below.items()}
            self.subnets.append(
                SubnetClaim(
                    network,
                    _place(subnet, "subnet"),
                    _addresses(subnet, texts.get("routers")),
                    _addresses(subnet, texts.get("resolvers")),
                    _domains(texts.get("search")),
                    {what: place for what, (_, place) in below.items()},
                )
            )
            self.reserve(subnet, network, modes, ranges)
            for pool, range_ in zip(subnet.items("pools"), ranges, strict=True):
                self.reserve(pool, network, modes, ranges)
                classes = [pool.text("client-class"), *(str(c.value) for c in pool.items("client-classes"))]
                limits = ", ".join(c for c in classes if c)
                self.pools.append(PoolClaim(range_, _place(pool, "pool"), f"class {limits}" if limits else ""))

    def reserve(
        self,
        node: Node,
        network: IPNetwork | None = None,
        modes: _Modes | None = None,
        pools: Iterable[AddressRange] = (),
    ) -> None:
        for entry in node.items("reservations"):
            mac_text = entry.text("hw-address")
            mac = _parsed(entry, "hw-address", parse_mac) if mac_text else None
            ids = ("duid", "client-id", "circuit-id", "flex-id")
            client = next((f"{i} {entry.text(i)}" for i in ids if entry.text(i)), "")
            one = entry.get("ip-address")
            for held in [*([one] if one is not None and one.value else []), *entry.items("ip-addresses")]:
                place = Place(held.file, held.line)
                try:
                    address = parse_address(str(held.value))
                except ValueError as error:
                    raise held.error(f"the reservation's address: {error}") from None
                name = entry.text("hostname")
                clear = modes is None or modes.keeps_clear(any(address in pool for pool in pools))
                self.reservations.append(ReservationClaim(address, place, mac, client or name, clear))
                if network is not None and address not in network:
                    self.untidy.append(Remark(f"the reserved address {address} lies outside {network}", place))


def _pool(pool: Node, network: IPNetwork) -> AddressRange:
    """The range of a pool. Kea does not start with one that lies outside its subnet."""
    found = _parsed(pool, "pool", parse_range)
    if any(end not in network for end in found.ends):
        raise (pool.get("pool") or pool).error(f"pool: {found} does not lie in {network}")
    return found


T = TypeVar("T")


def _parsed(node: Node, key: str, parse_text: Callable[[str], T]) -> T:
    try:
        return parse_text(node.text(key))
    except ValueError as error:
        raise (node.get(key) or node).error(f"{key}: {error}") from None


def _place(node: Node, key: str) -> Place:
    """Where the value of ``key`` stands, else where ``node`` begins."""
    found = node.get(key) or node
    return Place(found.file, found.line)


def _told(node: Node, version: int, above: Told) -> Told:
    """What clients are told here: the options of this level, over those from above."""
    known = _OPTIONS4 if version == 4 else _OPTIONS6
    told = dict(above)
    for option in node.items("option-data"):
        space = option.text("space")
        what = known.get(option.text("name")) or known.get(option.text("code"))
        if what is not None and space in ("", f"dhcp{version}") and option.get("data") is not None:
            told[what] = (option.text("data"), Place(option.file, option.line))
    return told


def _words(text: str) -> Iterator[str]:
    return (word.strip() for word in text.split(",") if word.strip())


def _addresses(node: Node, text: str | None) -> tuple[IPAddress, ...] | None:
    if text is None:
        return None
    try:
        return tuple(parse_address(word) for word in _words(text))
    except ValueError as error:
        raise node.error(f"an option of this subnet: {error}") from None


def _domains(text: str | None) -> tuple[str, ...] | None:
    if text is None:
        return None
    try:
        return tuple(parse_domain(word) for word in _words(text))
    except ValueError:
        return None


def reserve(text: str, path: str, wanted: Reservation) -> str:
    """``text`` with the reservation in the subnet of its address. Raises :class:`InputError`."""
    root = parse(text, path, lambda name, _: (name, "{}"))
    address = parse_address(wanted.address)
    server = root.get(f"Dhcp{address.version}")
    key = f"subnet{address.version}"
    subnets = server.items(key) if server else []
    subnets += [s for n in (server.items("shared-networks") if server else []) for s in n.items(key)]
    for subnet in subnets:
        if subnet.file == path and address in _parsed(subnet, "subnet", parse_destination):
            return _insert(text, subnet, line(wanted))
    raise InputError(f"no subnet in this file is for {address}", file=path)


def line(wanted: Reservation) -> str:
    """The reservation alone, an item of ``reservations``."""
    four = ":" not in wanted.address
    held = f'"ip-address": "{wanted.address}"' if four else f'"ip-addresses": ["{wanted.address}"]'
    return f'{{ "hw-address": "{wanted.mac}", {held}, "hostname": {json.dumps(wanted.name)} }}'


def _insert(text: str, subnet: Node, entry: str) -> str:
    there = subnet.get("reservations")
    if there is None:
        # As the first member, indented like the one that stands first now.
        first = re.match(r"\s*", text[subnet.start + 1 :])
        gap = first[0] if first else " "
        return f'{text[: subnet.start + 1]}{gap}"reservations": [{entry}],{text[subnet.start + 1 :]}'
    items: list[Node] = there.value
    if not items:
        return f"{text[: there.start]}[{entry}]{text[there.end :]}"
    last = items[-1]
    before = text[text.rfind("\n", 0, last.start) + 1 : last.start]
    gap = "\n" + before if not before.strip() else " "
    return f"{text[: last.end]},{gap}{entry}{text[last.end :]}"
