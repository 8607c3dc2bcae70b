"""The values of a plan's keys: addresses, MACs, gateways, routes and the like, each error at its place."""

from __future__ import annotations

import re
from collections.abc import Callable
from typing import TypeVar

from fixed_anchor.core.addresses import (
    IPAddress,
    default_network,
    parse_address,
    parse_domain,
    parse_mac,
    parse_network,
    parse_prefix,
)
from fixed_anchor.core.config import Route
from fixed_anchor.core.plan import Gateway, PlannedAddress
from fixed_anchor.core.reaching import parse_reachable
from fixed_anchor.planfile import shape
from fixed_anchor.text.yaml_nodes import Value

T = TypeVar("T")

ROUTE_KEYS = shape.keys(shape.RouteShape)
GATEWAY_KEYS = shape.keys(shape.GatewayShape)
HELD_KEYS = shape.keys(shape.AddressShape)

#: Stands for an address whose key is misspelt, of which enough was said.
_UNKNOWN = parse_address("0.0.0.0")


def read_key(fields: dict[str, Value], name: str, read: Callable[[Value], T], instead: T) -> T:
    """The value of a key through ``read``; ``instead`` where it is not there or, which is reported, is wrong."""
    value = fields.get(name)
    return instead if value is None else value.attempt(lambda: read(value), instead)


def reachable_text(text: str) -> str:
    """What users need behind a gateway, as it was written. Raises ValueError."""
    return parse_reachable(text).text


def addresses_at(fields: dict[str, Value], name: str) -> tuple[IPAddress, ...] | None:
    """The addresses of a key; ``None`` where it is not there."""
    return read_key(fields, name, lambda v: v.all_parsed(parse_address, "an address"), None)


def domains_at(fields: dict[str, Value]) -> tuple[str, ...] | None:
    """The search domains; ``None`` where the key is not there."""
    return read_key(fields, "search", lambda v: v.all_parsed(parse_domain, "a domain"), None)


def time_servers_at(fields: dict[str, Value]) -> tuple[str, ...] | None:
    """Addresses or names, each as it goes into a file of the time daemon."""

    def server(text: str) -> str:
        try:
            return str(parse_address(text))
        except ValueError:
            if ":" in text or re.fullmatch(r"[0-9.]+", text):
                raise
            return parse_domain(text)

    return read_key(fields, "time_servers", lambda v: v.all_parsed(server, "an address or a name"), None)


def mac_of(value: Value) -> str:
    """A MAC, which must be quoted where other readers of YAML take it for a number."""
    text = value.text("a MAC address")
    # Of six pairs of digits alone others make a number in base 60; a letter makes it text.
    if text.replace(":", "").isdigit() and value.reads_as_number:
        raise value.error(
            f"the MAC {text} is not quoted, and other YAML readers take it for a number",
            expected=f'"{text}"',
        )
    return value.parsed(parse_mac, "a MAC address")


def number(value: Value, low: int, high: int) -> int:
    """A whole number from ``low`` to ``high``."""
    text = value.text("a number")
    if not (text.isascii() and text.isdigit()) or len(text) > 10 or not low <= int(text) <= high:
        raise value.error(f"{text!r} stands here", expected=f"a number from {low} to {high}")
    return int(text)


def _flag(value: Value) -> bool:
    text = value.text("true or false").lower()
    if text not in ("true", "false"):
        raise value.error(f"{text!r} stands here", expected="true or false")
    return text == "true"


def gateways_of(value: Value) -> tuple[Gateway, ...]:
    """One gateway or several, each an address or ``{address, metric}``."""
    return value.each(_gateway)


def _gateway(item: Value) -> Gateway:
    if not item.is_mapping:
        return Gateway(item.parsed(parse_address, "an address"))
    wrong = len(item.gathered or ())
    fields = item.fields(GATEWAY_KEYS)
    metric = metric_of(fields)
    if "address" not in fields:
        if len(item.gathered or ()) > wrong:
            return Gateway(_UNKNOWN)
        raise item.error("the gateway has no address", expected="{address: ..., metric: ...}")
    return Gateway(fields["address"].parsed(parse_address, "an address"), metric)


def metric_of(fields: dict[str, Value]) -> int | None:
    """The metric of a route; ``None`` where the key is not there."""
    return read_key(fields, "metric", lambda v: number(v, 0, 2**32 - 1), None)


def planned_address(item: Value) -> PlannedAddress:
    """An address to hold, with a prefix of its own or without."""
    if not item.is_mapping:
        return item.parsed(_held_text, "an address")
    wrong = len(item.gathered or ())
    fields = item.fields(HELD_KEYS)
    if "address" not in fields:
        if len(item.gathered or ()) > wrong:
            return PlannedAddress(_UNKNOWN)
        raise item.error("no address stands here", expected="{address: ..., prefix: ...}")
    address = fields["address"].parsed(parse_address, "an address")
    return PlannedAddress(
        address, read_key(fields, "prefix", lambda v: v.parsed(_prefix_of(address), "a prefix"), None)
    )


def _prefix_of(address: IPAddress) -> Callable[[str], int]:
    return lambda text: parse_prefix(text, address.version)


def _held_text(text: str) -> PlannedAddress:
    base, slash, prefix = text.partition("/")
    address = parse_address(base)
    return PlannedAddress(address, parse_prefix(prefix, address.version) if slash else None)


def planned_route(item: Value) -> Route:
    """A further route."""
    fields = item.fields(ROUTE_KEYS, "{destination, next_hop, metric, on_link}")
    metric, on_link = metric_of(fields), read_key(fields, "on_link", _flag, False)
    next_hop = fields["next_hop"].parsed(parse_address, "an address") if "next_hop" in fields else None
    if "destination" not in fields:
        raise item.error("the route has no destination", expected="`destination: ADDRESS/PREFIX` or `default`")
    target = fields["destination"]
    if target.text() == "default":
        if next_hop is None:
            raise item.error("the default route has no next hop", expected="`next_hop: ADDRESS`")
        destination = default_network(next_hop.version)
    else:
        destination = target.parsed(parse_network, "a subnet or `default`")
    if next_hop is not None and next_hop.version != destination.version:
        raise item.error(f"{destination} and its next hop {next_hop} are of different families")
    return Route(destination, next_hop, metric, on_link)
