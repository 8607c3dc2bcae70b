"""Reading an addressing plan: YAML text to checked types, every error with its place."""

from __future__ import annotations

import difflib
import re
from collections.abc import Callable
from pathlib import Path

import yaml

from fixed_anchor.core.addresses import (
    IPAddress,
    default_network,
    parse_address,
    parse_domain,
    parse_mac,
    parse_network,
    parse_prefix,
    parse_range,
)
from fixed_anchor.core.config import Route
from fixed_anchor.core.errors import InputError
from fixed_anchor.core.plan import (
    IPV4_METHODS,
    IPV6_METHODS,
    SOURCE_KINDS,
    Gateway,
    HostPlan,
    InterfacePlan,
    Plan,
    PlannedAddress,
    Segment,
    SourceRef,
)
from fixed_anchor.core.reaching import parse_reachable
from fixed_anchor.planfile import shape
from fixed_anchor.planfile.lines import PlanLines
from fixed_anchor.planfile.nodes import Value, compose
from fixed_anchor.planfile.usual import usual_host

_INTERFACE_NAME = re.compile(r"[^\s/\x00-\x1f\x7f]{1,15}")
_HOST_NAME = re.compile(r"[A-Za-z0-9][A-Za-z0-9._-]{0,252}")

PLAN_KEYS = shape.keys(shape.PlanShape)
SEGMENT_KEYS = shape.keys(shape.SegmentShape)
HOST_KEYS = shape.keys(shape.HostShape)
INTERFACE_KEYS = shape.keys(shape.InterfaceShape)
ROUTE_KEYS = shape.keys(shape.RouteShape)
GATEWAY_KEYS = shape.keys(shape.GatewayShape)
HELD_KEYS = shape.keys(shape.AddressShape)

_REACH = "KIND:WHERE, such as tree:DIR or collected:FILE"


def read_plan(path: Path) -> Plan:
    """The plan in the file ``path``.

    Raises :class:`InputError` with file, line, column, the path of the key and what
    was expected.
    """
    try:
        text = path.read_bytes().decode("utf-8")
    except OSError as error:
        raise InputError(f"the plan cannot be read: {error.strerror}", file=str(path)) from None
    except UnicodeDecodeError as error:
        raise InputError(f"byte {error.start + 1} is not UTF-8", file=str(path)) from None
    return plan_from_text(text, str(path))


def plan_from_text(text: str, file: str) -> Plan:
    """The plan in ``text``; ``file`` is what errors and findings call it."""
    fields = Value(compose(text, file), file).fields(PLAN_KEYS, "a mapping with the key `plan: 1`")
    version = fields.get("plan")
    if version is None or version.text("the number of the plan format, 1") != "1":
        at = version or Value(compose(text, file), file)
        raise at.error("this is no plan of format 1", expected="`plan: 1` at the top")
    for required in ("segments", "hosts"):
        if required not in fields:
            raise InputError(f"the plan has no `{required}:`", file=file, expected=f"the key {required!r}")
    segments = {name: _segment(name, key, value) for name, key, value in fields["segments"].entries("segments by name")}
    hosts = _hosts(fields["hosts"], segments)
    site = fields.get("site")
    return Plan(
        file=file,
        segments=segments,
        hosts=hosts,
        site=site.text() if site else None,
        sources=_sources(fields.get("sources")),
        lines=PlanLines(text, file),
    )


def _sources(value: Value | None) -> tuple[SourceRef, ...]:
    return tuple(_source(item) for item in value.items()) if value else ()


def _source(item: Value) -> SourceRef:
    """``KIND: PATH``, with the further keys of that kind beside it."""
    entries = list(item.entries("`KIND: PATH`"))
    kinds = [entry for entry in entries if entry[0] in SOURCE_KINDS]
    if len(kinds) != 1:
        name, key, _ = entries[0] if entries else ("", item, item)
        near = difflib.get_close_matches(name, SOURCE_KINDS, 1, 0.5)
        raise key.error(
            "two kinds of source stand in one entry" if kinds else f"{name!r} is no kind of source",
            expected=None if near else "one of " + ", ".join(SOURCE_KINDS),
            remedy=f"did you mean {near[0]!r}?" if near and not kinds else None,
        )
    kind, key, path = kinds[0]
    fields = item.fields((kind, *SOURCE_KINDS[kind]))
    options = {name: inner.text() for name, inner in fields.items() if name != kind}
    return SourceRef(kind, path.text("a path"), key.line, options)


def _segment(name: str, key: Value, value: Value) -> Segment:
    fields = value.fields(SEGMENT_KEYS, "the facts of the segment")
    if "subnet" not in fields:
        raise key.error(f"segment {name} has no subnet", expected="`subnet: ADDRESS/PREFIX`")
    pools = fields.get("pools")
    reservations: dict[str, tuple[IPAddress, ...]] = {}
    if "reservations" in fields:
        for _, mac_key, addresses in fields["reservations"].entries("addresses by MAC"):
            reservations[_mac(mac_key)] = addresses.all_parsed(parse_address, "an address")
    return Segment(
        name=name,
        subnets=fields["subnet"].all_parsed(parse_network, "a subnet"),
        gateways=_gateways(fields["gateway"]) if "gateway" in fields else (),
        resolvers=_addresses(fields, "resolvers") or (),
        search=_domains(fields) or (),
        pools=None if pools is None else pools.all_parsed(parse_range, "FIRST - LAST"),
        reservations=reservations,
        set_aside=fields["set_aside"].all_parsed(parse_range, "a range") if "set_aside" in fields else (),
        reachable=fields["reachable"].all_parsed(_reachable, "what users need") if "reachable" in fields else (),
        dhcp_servers=_addresses(fields, "dhcp_servers"),
        was=fields["was"].all_parsed(parse_network, "a subnet") if "was" in fields else (),
        line=key.line,
    )


def _reachable(text: str) -> str:
    return parse_reachable(text).text


def _addresses(fields: dict[str, Value], name: str) -> tuple[IPAddress, ...] | None:
    return fields[name].all_parsed(parse_address, "an address") if name in fields else None


def _domains(fields: dict[str, Value]) -> tuple[str, ...] | None:
    return fields["search"].all_parsed(parse_domain, "a domain") if "search" in fields else None


def _time_servers(fields: dict[str, Value]) -> tuple[str, ...] | None:
    """Addresses or names, each as it goes into a file of the time daemon."""

    def server(text: str) -> str:
        try:
            return str(parse_address(text))
        except ValueError:
            if ":" in text or re.fullmatch(r"[0-9.]+", text):
                raise
            return parse_domain(text)

    return fields["time_servers"].all_parsed(server, "an address or a name") if "time_servers" in fields else None


def _mac(value: Value) -> str:
    text = value.text("a MAC address")
    # Of six pairs of digits alone others make a number in base 60; a letter makes it text.
    if text.replace(":", "").isdigit() and value.reads_as_number:
        raise value.error(
            f"the MAC {text} is not quoted, and other YAML readers take it for a number",
            expected=f'"{text}"',
        )
    return value.parsed(parse_mac, "a MAC address")


def _number(value: Value, low: int, high: int) -> int:
    text = value.text("a number")
    if not (text.isascii() and text.isdigit()) or len(text) > 10 or not low <= int(text) <= high:
        raise value.error(f"{text!r} stands here", expected=f"a number from {low} to {high}")
    return int(text)


def _flag(value: Value) -> bool:
    text = value.text("true or false").lower()
    if text not in ("true", "false"):
        raise value.error(f"{text!r} stands here", expected="true or false")
    return text == "true"


def _gateways(value: Value) -> tuple[Gateway, ...]:
    found: list[Gateway] = []
    for item in value.items():
        if item.is_mapping:
            fields = item.fields(GATEWAY_KEYS)
            if "address" not in fields:
                raise item.error("the gateway has no address", expected="{address: ..., metric: ...}")
            metric = _number(fields["metric"], 0, 2**32 - 1) if "metric" in fields else None
            found.append(Gateway(fields["address"].parsed(parse_address, "an address"), metric))
        else:
            found.append(Gateway(item.parsed(parse_address, "an address")))
    return tuple(found)


def _held(value: Value) -> tuple[PlannedAddress, ...]:
    found: list[PlannedAddress] = []
    for item in value.items():
        if item.is_mapping:
            fields = item.fields(HELD_KEYS)
            if "address" not in fields:
                raise item.error("no address stands here", expected="{address: ..., prefix: ...}")
            address = fields["address"].parsed(parse_address, "an address")
            prefix = fields["prefix"].parsed(_prefix_of(address), "a prefix") if "prefix" in fields else None
            found.append(PlannedAddress(address, prefix))
        else:
            found.append(item.parsed(_held_text, "an address"))
    return tuple(found)


def _prefix_of(address: IPAddress) -> Callable[[str], int]:
    return lambda text: parse_prefix(text, address.version)


def _held_text(text: str) -> PlannedAddress:
    base, slash, prefix = text.partition("/")
    address = parse_address(base)
    return PlannedAddress(address, parse_prefix(prefix, address.version) if slash else None)


def _routes(value: Value) -> tuple[Route, ...]:
    found: list[Route] = []
    for item in value.items():
        fields = item.fields(ROUTE_KEYS, "{destination, next_hop, metric, on_link}")
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
        found.append(
            Route(
                destination,
                next_hop,
                _number(fields["metric"], 0, 2**32 - 1) if "metric" in fields else None,
                _flag(fields["on_link"]) if "on_link" in fields else False,
            )
        )
    return tuple(found)


def _hosts(value: Value, segments: dict[str, Segment]) -> dict[str, HostPlan]:
    pairs = value.node.value if isinstance(value.node, yaml.MappingNode) else ()
    usual = [usual_host(key, node, segments) for key, node in pairs]
    quickly = {host.name: host for host in usual if host is not None}
    if usual and len(quickly) == len(usual):
        return quickly
    entries = value.entries("hosts by name")
    pick = {key.value: host for (key, _), host in zip(pairs, usual, strict=True) if host is not None}
    return {name: pick.get(name) or _host(name, key, inner, segments) for name, key, inner in entries}


def _host(name: str, key: Value, value: Value, segments: dict[str, Segment]) -> HostPlan:
    if not _HOST_NAME.fullmatch(name):
        raise key.error(f"{name!r} cannot be a host's name here", expected="letters, digits, dots and hyphens")
    fields = value.fields(HOST_KEYS, "the host's interfaces")
    if "interfaces" not in fields:
        raise key.error(f"host {name} has no interfaces", expected="`interfaces:`")
    reach = fields.get("reach")
    if reach is not None:
        # Which kinds there are, the machines know.
        kind, _, rest = reach.text(_REACH).partition(":")
        if not kind or not rest:
            raise reach.error(f"{reach.text()!r} stands here", expected=_REACH)
    return HostPlan(
        name=name,
        interfaces=tuple(
            _interface(interface, k, v, segments)
            for interface, k, v in fields["interfaces"].entries("interfaces by name")
        ),
        hostname=fields["hostname"].text() if "hostname" in fields else None,
        reach=reach.text() if reach else None,
        line=key.line,
    )


def _method(fields: dict[str, Value], version: int, held: bool) -> str:
    key = "ipv4" if version == 4 else "ipv6"
    if key not in fields:
        return "fixed" if held else "untouched"
    allowed = IPV4_METHODS if version == 4 else IPV6_METHODS
    said = fields[key].text("one of " + ", ".join(allowed))
    if said not in allowed:
        raise fields[key].error(f"{said!r} stands here", expected="one of " + ", ".join(allowed))
    if said == "fixed" and not held:
        raise fields[key].error(f"{key} is fixed, but `hold` names no IPv{version} address")
    if said != "fixed" and held:
        raise fields[key].error(
            f"{key} is {said}, but `hold` names IPv{version} addresses",
            expected=f"`{key}: fixed`, or no such address",
        )
    return said


def _interface(name: str, key: Value, value: Value, segments: dict[str, Segment]) -> InterfacePlan:
    if not _INTERFACE_NAME.fullmatch(name) or name in (".", ".."):
        raise key.error(f"{name!r} cannot be an interface's name", expected="at most 15 characters, no space or slash")
    fields = value.fields(INTERFACE_KEYS, "what the interface shall hold")
    if "segment" not in fields:
        raise key.error(f"interface {name} names no segment", expected="`segment: NAME`")
    segment = fields["segment"].text("a segment's name")
    if segment not in segments:
        raise fields["segment"].error(
            f"there is no segment {segment!r} in this plan",
            expected="one of " + ", ".join(segments) if segments else None,
        )
    hold = _held(fields["hold"]) if "hold" in fields else ()
    if len({h.address for h in hold}) != len(hold):
        raise fields["hold"].error("an address stands twice", expected="each address once")
    versions = {h.address.version for h in hold}
    gateway = fields.get("gateway")
    gateways: tuple[Gateway, ...] | None = None
    if gateway is not None:
        no_gateway = not gateway.is_mapping and not gateway.is_list and gateway.text() == "none"
        gateways = () if no_gateway else _gateways(gateway)
    return InterfacePlan(
        name=name,
        segment=segment,
        mac=_mac(fields["mac"]) if "mac" in fields else None,
        hold=hold,
        ipv4=_method(fields, 4, 4 in versions),
        ipv6=_method(fields, 6, 6 in versions),
        expect=_addresses(fields, "expect") or (),
        leave_alone=_addresses(fields, "leave_alone") or (),
        gateways=gateways,
        metric=_number(fields["metric"], 0, 2**32 - 1) if "metric" in fields else None,
        resolvers=_addresses(fields, "resolvers"),
        search=_domains(fields),
        mtu=_number(fields["mtu"], 68, 65535) if "mtu" in fields else None,
        time_servers=_time_servers(fields),
        routes=_routes(fields["routes"]) if "routes" in fields else (),
        line=key.line,
    )
