"""The written shape of a plan, as types: the keys the reader knows, and the JSON Schema for editors.

A scalar is accepted wherever a list is. What the values mean is checked by the
reader, :mod:`fixed_anchor.planfile.reader`; a test holds the two together.
"""

from __future__ import annotations

from typing import Annotated, Any, Literal

import msgspec
from msgspec import Meta, Struct

Text = Annotated[str, Meta(min_length=1)]
Address = Annotated[str, Meta(description="an IPv4 or IPv6 address without a prefix")]
Subnet = Annotated[str, Meta(description="ADDRESS/PREFIX")]
Range = Annotated[str, Meta(description="FIRST - LAST, a subnet, or one address")]
Domain = Annotated[str, Meta(description="a domain name")]
Number = int | str


class GatewayShape(Struct, forbid_unknown_fields=True):
    """A gateway with its metric."""

    address: Address
    metric: Number | None = None


class RouteShape(Struct, forbid_unknown_fields=True):
    """An additional route."""

    destination: Annotated[str, Meta(description="a subnet, or `default`")]
    next_hop: Address | None = None
    metric: Number | None = None
    on_link: bool = False


class AddressShape(Struct, forbid_unknown_fields=True):
    """An address to hold, with a prefix of its own."""

    address: Address
    prefix: Annotated[Number | None, Meta(description="overrides the segment's prefix, in bits")] = None


class SegmentShape(Struct, forbid_unknown_fields=True):
    """What a segment may say."""

    subnet: list[Subnet] | Subnet
    gateway: Any = None
    resolvers: list[Address] | Address = []
    search: list[Domain] | Domain = []
    pools: Annotated[
        list[Range] | Range | None,
        Meta(description="DHCP pools; [] says: no DHCP server; absent says: not known"),
    ] = None
    reservations: dict[str, list[Address] | Address] = {}
    set_aside: list[Range] | Range = []
    reachable: list[Text] | Text = []
    dhcp_servers: Annotated[
        list[Address] | Address | None,
        Meta(description="the DHCP servers that belong here; absent: those whose offers lie in the pools"),
    ] = None
    was: Annotated[
        list[Subnet] | Subnet,
        Meta(description="the subnets that it had before it was widened or divided: hosts may still be in them"),
    ] = []


class InterfaceShape(Struct, forbid_unknown_fields=True):
    """What an interface may say."""

    segment: Text
    mac: Text | None = None
    hold: Any = None
    ipv4: Literal["fixed", "dhcp", "off", "untouched"] | None = None
    ipv6: Literal["fixed", "dhcp", "ra", "off", "untouched"] | None = None
    expect: list[Address] | Address = []
    leave_alone: list[Address] | Address = []
    gateway: Any = None
    metric: Number | None = None
    resolvers: list[Address] | Address | None = None
    search: list[Domain] | Domain | None = None
    mtu: Number | None = None
    time_servers: list[Text] | Text | None = None
    routes: list[RouteShape] | RouteShape = []


class HostShape(Struct, forbid_unknown_fields=True):
    """What a host may say."""

    interfaces: dict[str, InterfaceShape]
    hostname: Text | None = None
    reach: Annotated[
        Text | None,
        Meta(description="tree:DIR, collected:FILE, or another KIND:WHERE; absent: from itself alone"),
    ] = None


class PlanShape(Struct, forbid_unknown_fields=True):
    """The whole plan; its JSON Schema is made of this."""

    plan: Literal[1, "1"]
    segments: dict[str, SegmentShape]
    hosts: dict[str, HostShape]
    site: Text | None = None
    sources: list[dict[str, str]] = []


def keys(shape: type[Struct]) -> dict[str, None]:
    """The keys that a mapping of this shape may have, in their order, quick to be asked."""
    return dict.fromkeys(shape.__struct_fields__)


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
    (_,), definitions = msgspec.json.schema_components([PlanShape], ref_template="#/$defs/{name}")
    _, more = msgspec.json.schema_components([GatewayShape, AddressShape], ref_template="#/$defs/{name}")
    definitions = {**definitions, **more}
    definitions["SegmentShape"]["properties"]["gateway"] = gateway
    definitions["InterfaceShape"]["properties"]["gateway"] = gateway
    definitions["InterfaceShape"]["properties"]["hold"] = held
    return {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "title": "Fixed Anchor addressing plan",
        "$ref": "#/$defs/PlanShape",
        "$defs": dict(sorted(definitions.items())),
    }


if __name__ == "__main__":
    import json

    print(json.dumps(json_schema(), indent=2))
