"""The written shape of a plan, as types: the keys the reader knows, and the JSON Schema for editors.

A scalar is accepted wherever a list is. What the values mean is checked by the
reader, :mod:`fixed_anchor.planfile.reader`; a test holds the two together.
"""

from __future__ import annotations

from collections.abc import Iterator
from typing import Annotated, Any, Literal, get_type_hints

import msgspec
from msgspec import Meta, Struct

Text = Annotated[str, Meta(min_length=1)]
Address = Annotated[str, Meta(description="an IPv4 or IPv6 address without a prefix")]
Subnet = Annotated[str, Meta(description="ADDRESS/PREFIX")]
Range = Annotated[str, Meta(description="FIRST - LAST, a subnet, or one address")]
Domain = Annotated[str, Meta(description="a domain name")]
Number = int | str


def _says(meaning: str) -> Meta:
    return Meta(description=meaning)


class GatewayShape(Struct, forbid_unknown_fields=True):
    """A gateway with its metric."""

    address: Annotated[Address, _says("the gateway's address")]
    metric: Annotated[Number | None, _says("the metric of its default route; the lowest is used")] = None


class RouteShape(Struct, forbid_unknown_fields=True):
    """An additional route."""

    destination: Annotated[Address, _says("a subnet, or `default`")]
    next_hop: Annotated[Address | None, _says("the router behind which it lies; absent: on the link itself")] = None
    metric: Annotated[Number | None, _says("the metric of the route; the lowest is used")] = None
    on_link: Annotated[bool, _says("true: the next hop is on the link although it is in no subnet of it")] = False


class AddressShape(Struct, forbid_unknown_fields=True):
    """An address to hold, with a prefix of its own."""

    address: Annotated[Address, _says("the address, without a prefix")]
    prefix: Annotated[Number | None, _says("overrides the segment's prefix, in bits")] = None


class WirelessShape(Struct, forbid_unknown_fields=True):
    """A radio network."""

    network: Annotated[Text, _says("the name of the network")]
    password: Annotated[
        Text | None,
        _says("file:PATH of a file with its passphrase, mode 0600; absent: one that files of the host have"),
    ] = None


class SegmentShape(Struct, forbid_unknown_fields=True):
    """What a segment may say."""

    subnet: Annotated[list[Subnet] | Subnet, _says("the subnets on the segment, ADDRESS/PREFIX, of either family")]
    gateway: Annotated[Any, _says("the gateways of the segment; an interface may say otherwise")] = None
    resolvers: Annotated[list[Address] | Address, _says("the resolvers that hosts of the segment use")] = []
    search: Annotated[list[Domain] | Domain, _says("the search domains of its hosts")] = []
    pools: Annotated[
        list[Range] | Range | None,
        _says("DHCP pools, FIRST-LAST; [] says: no DHCP server; absent says: not known"),
    ] = None
    reservations: Annotated[
        dict[str, list[Address] | Address], _says("addresses that the DHCP server keeps, by quoted MAC")
    ] = {}
    set_aside: Annotated[list[Range] | Range, _says("ranges that no host of the plan shall take")] = []
    reachable: Annotated[
        list[Text] | Text,
        _says("what users need behind the gateway: a name, HOST:PORT, or a URL; asked before and after a change"),
    ] = []
    dhcp_servers: Annotated[
        list[Address] | Address | None,
        _says("the DHCP servers that belong here; absent: those whose offers lie in the pools"),
    ] = None
    was: Annotated[
        list[Subnet] | Subnet,
        _says("the subnets that it had before it was widened or divided: hosts may still be in them"),
    ] = []


class InterfaceShape(Struct, forbid_unknown_fields=True):
    """What an interface may say."""

    segment: Annotated[Text, _says("the segment that it is on, by name")]
    mac: Annotated[Text | None, _says("its permanent MAC, quoted: by it the host is known")] = None
    hold: Annotated[Any, _says("the addresses to hold; the first of a family is the preferred source")] = None
    ipv4: Annotated[
        Literal["fixed", "dhcp", "off", "untouched"] | None,
        _says("how it comes by IPv4; absent: fixed where it holds such an address, else untouched"),
    ] = None
    ipv6: Annotated[
        Literal["fixed", "dhcp", "ra", "off", "untouched"] | None,
        _says("the same for IPv6; ra: from router advertisements"),
    ] = None
    expect: Annotated[
        list[Address] | Address, _says("addresses that its lease is to bring; checked, and not written")
    ] = []
    fallback: Annotated[
        Any,
        _says("with `ipv4: dhcp`: the address to have where no DHCP server answers; `none`: no such address"),
    ] = None
    leave_alone: Annotated[
        list[Address] | Address, _says("fixed addresses that somebody set by hand, which stay as they are")
    ] = []
    gateway: Annotated[Any, _says("its own gateways, instead of the segment's; `none`: no default route here")] = None
    metric: Annotated[Number | None, _says("the metric of its default routes; the lowest is used")] = None
    resolvers: Annotated[
        list[Address] | Address | None, _says("its own resolvers, instead of the segment's; [] for none")
    ] = None
    search: Annotated[
        list[Domain] | Domain | None, _says("its own search domains, instead of the segment's; [] for none")
    ] = None
    mtu: Annotated[Number | None, _says("the MTU, in bytes")] = None
    time_servers: Annotated[
        list[Text] | Text | None, _says("the time servers that the host's time daemon shall follow")
    ] = None
    routes: Annotated[list[RouteShape] | RouteShape, _says("further routes")] = []
    netbios_servers: Annotated[
        list[Address] | Address | None,
        _says("of a Windows machine: its NetBIOS name servers, at most two; [] for none; absent: as they are"),
    ] = None
    wifi: Annotated[
        WirelessShape | None, _says("of a wireless interface that no file declares: the network that it joins")
    ] = None


class HostShape(Struct, forbid_unknown_fields=True):
    """What a host may say."""

    interfaces: Annotated[dict[str, InterfaceShape], _says("its interfaces, by name")]
    hostname: Annotated[Text | None, _says("the whole name that it shall have; absent: it keeps its own")] = None
    reach: Annotated[
        Text | None,
        _says(
            "ssh:[user@]name[:port], by any name that ssh knows; tree:DIR or collected:FILE; absent: from itself alone"
        ),
    ] = None
    stack: Annotated[
        Literal["netplan", "NetworkManager", "networkd", "ifupdown", "ifupdown2", "ifcfg"] | None,
        _says("which network stack takes an interface that no file declares; absent: that of the others"),
    ] = None


class PlanShape(Struct, forbid_unknown_fields=True):
    """The whole plan; its JSON Schema is made of this."""

    plan: Annotated[Literal[1, "1"], _says("the format: 1")]
    segments: Annotated[dict[str, SegmentShape], _says("the segments of the site, by name")]
    hosts: Annotated[dict[str, HostShape], _says("the hosts, by name")]
    site: Annotated[Text | None, _says("the name of the site, for people")] = None
    sources: Annotated[
        list[dict[str, str]], _says("files that know which addresses are spoken for, each `KIND: PATH`")
    ] = []
    apart: Annotated[
        list[Annotated[list[Text], Meta(min_length=2)]],
        _says("groups of hosts of which never two are changed at the same time, each `[HOST, HOST, ...]`"),
    ] = []


def keys(shape: type[Struct]) -> dict[str, None]:
    """The keys that a mapping of this shape may have, in their order, quick to be asked."""
    return dict.fromkeys(shape.__struct_fields__)


def described() -> Iterator[tuple[str, str, str]]:
    """Every key of a plan: its name, what it belongs to, and what it says."""
    for shape, belongs_to in _PLACES.items():
        hints = get_type_hints(shape, include_extras=True)
        for name in shape.__struct_fields__:
            meanings = [m.description for m in hints[name].__metadata__ if isinstance(m, Meta) and m.description]
            yield name, belongs_to, meanings[-1]


#: How a person names the mapping of each shape.
_PLACES: dict[type[Struct], str] = {
    PlanShape: "the plan",
    SegmentShape: "a segment",
    HostShape: "a host",
    InterfaceShape: "an interface",
    GatewayShape: "a gateway, as {address, metric}",
    AddressShape: "an address of `hold`, as {address, prefix}",
    RouteShape: "a route",
    WirelessShape: "a radio network, as {network, password}",
}


def json_schema() -> dict[str, Any]:
    """The JSON Schema (draft 2020-12) of a plan."""
    gateway = {
        "description": "a gateway's address, {address, metric}, or a list of these; `none` on an interface: "
        "must not carry the default route",
        "anyOf": [
            {"type": "string"},
            {"$ref": "#/$defs/GatewayShape"},
            {"type": "array", "items": {"anyOf": [{"type": "string"}, {"$ref": "#/$defs/GatewayShape"}]}},
        ],
    }
    held = {
        "description": "the addresses to hold; the first of a family is the preferred source",
        "anyOf": [
            {"type": "string"},
            {"$ref": "#/$defs/AddressShape"},
            {"type": "array", "items": {"anyOf": [{"type": "string"}, {"$ref": "#/$defs/AddressShape"}]}},
        ],
    }
    fallback = {
        "description": "with `ipv4: dhcp`: the address to have where no DHCP server answers; `none`: no such address",
        "anyOf": [{"type": "string"}, {"$ref": "#/$defs/AddressShape"}],
    }
    (_,), definitions = msgspec.json.schema_components([PlanShape], ref_template="#/$defs/{name}")
    _, more = msgspec.json.schema_components([GatewayShape, AddressShape], ref_template="#/$defs/{name}")
    definitions = {**definitions, **more}
    definitions["SegmentShape"]["properties"]["gateway"] = gateway
    definitions["InterfaceShape"]["properties"]["gateway"] = gateway
    definitions["InterfaceShape"]["properties"]["hold"] = held
    definitions["InterfaceShape"]["properties"]["fallback"] = fallback
    return {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "title": "Fixed Anchor addressing plan",
        "$ref": "#/$defs/PlanShape",
        "$defs": dict(sorted(definitions.items())),
    }


if __name__ == "__main__":
    import json

    print(json.dumps(json_schema(), indent=2))
