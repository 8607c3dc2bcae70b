"""Reading an addressing plan: YAML text to checked types, every error with its place."""

from __future__ import annotations

import difflib
import re
from collections.abc import Callable
from functools import partial
from pathlib import Path
from typing import TypeVar

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
from fixed_anchor.core.errors import InputError, InputErrors
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
from fixed_anchor.planfile.mending import composed
from fixed_anchor.planfile.nodes import Value
from fixed_anchor.planfile.usual import usual_host
from fixed_anchor.planfile.words import METHODS

T = TypeVar("T")

_INTERFACE_NAME = re.compile(r"[^\s/\x00-\x1f\x7f]{1,15}")
_HOST_NAME = re.compile(r"[A-Za-z0-9][A-Za-z0-9._-]{0,252}")

PLAN_KEYS = shape.keys(shape.PlanShape)
SEGMENT_KEYS = shape.keys(shape.SegmentShape)
HOST_KEYS = shape.keys(shape.HostShape)
INTERFACE_KEYS = shape.keys(shape.InterfaceShape)
ROUTE_KEYS = shape.keys(shape.RouteShape)
GATEWAY_KEYS = shape.keys(shape.GatewayShape)
HELD_KEYS = shape.keys(shape.AddressShape)

#: Stands for an address whose key is misspelt, of which enough was said.
_UNKNOWN = parse_address("0.0.0.0")

_REACH = "KIND:WHERE, such as tree:DIR or collected:FILE"


def read_plan(path: Path) -> Plan:
    """The plan in the file ``path``.

    Raises :class:`InputError` with file, line, column, the path of the key and what
    was expected; where several things are wrong, an :class:`InputErrors` of all of them.
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
    errors: list[InputError] = []
    plan = None
    try:
        plan = _plan(composed(text, file, errors, _wrong_with), text)
    except InputError as error:
        errors.append(error)
    if plan is None or errors:
        raise errors[0] if len(errors) == 1 else InputErrors(errors)
    return plan


def _wrong_with(root: Value) -> int:
    """How much is wrong below ``root``."""
    try:
        _plan(root, "")
    except InputError:
        return 1000
    return len(root.gathered or ())


def _plan(root: Value, text: str) -> Plan:
    """The plan below ``root``, which gathers what is wrong with it: then the plan is not to be used."""
    file = root.file
    fields = root.fields(PLAN_KEYS, "a mapping with the key `plan: 1`")
    version = fields.get("plan")
    if version is None or version.attempt(lambda: version.text("the number of the plan format, 1"), "1") != "1":
        root.report((version or root).error("this is no plan of format 1", expected="`plan: 1` at the top"))
    for required in ("segments", "hosts"):
        if required not in fields:
            root.report(InputError(f"the plan has no `{required}:`", file=file, expected=f"the key {required!r}"))
    segments = _named(fields.get("segments"), "segments by name", _segment)
    site = fields.get("site")
    return Plan(
        file=file,
        segments=segments,
        hosts=_hosts(fields["hosts"], segments) if "hosts" in fields else {},
        site=site.attempt(site.text, None) if site else None,
        sources=fields["sources"].each(_source) if "sources" in fields else (),
        lines=PlanLines(text, file),
    )


def _named(value: Value | None, expected: str, read: Callable[[str, Value, Value], T]) -> dict[str, T]:
    """A mapping by names, each read with ``read``; those that cannot be read are reported and left out."""
    if value is None:
        return {}
    nothing: list[tuple[str, Value, Value]] = []
    entries = value.attempt(lambda: list(value.entries(expected)), nothing)
    found = [(name, key.attempt(partial(read, name, key, inner), None)) for name, key, inner in entries]
    return {name: one for name, one in found if one is not None}


def _read(fields: dict[str, Value], name: str, read: Callable[[Value], T], instead: T) -> T:
    """The value of a key through ``read``; ``instead`` where it is not there or, which is reported, is wrong."""
    value = fields.get(name)
    return instead if value is None else value.attempt(lambda: read(value), instead)


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
    options = {name: inner.attempt(inner.text, "") for name, inner in fields.items() if name != kind}
    return SourceRef(kind, path.text("a path"), key.line, options)


def _segment(name: str, key: Value, value: Value) -> Segment:
    nothing: dict[str, Value] = {}
    fields = value.attempt(lambda: value.fields(SEGMENT_KEYS, "the facts of the segment"), nothing)
    if "subnet" not in fields and value.is_mapping:
        key.report(key.error(f"segment {name} has no subnet", expected="`subnet: ADDRESS/PREFIX`"))
    return Segment(
        name=name,
        subnets=_read(fields, "subnet", lambda v: v.all_parsed(parse_network, "a subnet"), ()),
        gateways=_read(fields, "gateway", _gateways, ()),
        resolvers=_addresses(fields, "resolvers") or (),
        search=_domains(fields) or (),
        pools=_read(fields, "pools", lambda v: v.all_parsed(parse_range, "FIRST - LAST"), None),
        reservations=_read(fields, "reservations", _reservations, {}),
        set_aside=_read(fields, "set_aside", lambda v: v.all_parsed(parse_range, "a range"), ()),
        reachable=_read(fields, "reachable", lambda v: v.all_parsed(_reachable, "what users need"), ()),
        dhcp_servers=_addresses(fields, "dhcp_servers"),
        was=_read(fields, "was", lambda v: v.all_parsed(parse_network, "a subnet"), ()),
        line=key.line,
    )


def _reservations(value: Value) -> dict[str, tuple[IPAddress, ...]]:
    found: dict[str, tuple[IPAddress, ...]] = {}
    for _, key, addresses in value.entries("addresses by MAC"):
        mac = key.attempt(partial(_mac, key), "")
        found[mac] = addresses.attempt(partial(addresses.all_parsed, parse_address, "an address"), ())
    return found


def _reachable(text: str) -> str:
    return parse_reachable(text).text


def _addresses(fields: dict[str, Value], name: str) -> tuple[IPAddress, ...] | None:
    return _read(fields, name, lambda v: v.all_parsed(parse_address, "an address"), None)


def _domains(fields: dict[str, Value]) -> tuple[str, ...] | None:
    return _read(fields, "search", lambda v: v.all_parsed(parse_domain, "a domain"), None)


def _time_servers(fields: dict[str, Value]) -> tuple[str, ...] | None:
    """Addresses or names, each as it goes into a file of the time daemon."""

    def server(text: str) -> str:
        try:
            return str(parse_address(text))
        except ValueError:
            if ":" in text or re.fullmatch(r"[0-9.]+", text):
                raise
            return parse_domain(text)

    return _read(fields, "time_servers", lambda v: v.all_parsed(server, "an address or a name"), None)


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
    return value.each(_gateway)


def _gateway(item: Value) -> Gateway:
    if not item.is_mapping:
        return Gateway(item.parsed(parse_address, "an address"))
    wrong = len(item.gathered or ())
    fields = item.fields(GATEWAY_KEYS)
    metric = _metric(fields)
    if "address" not in fields:
        if len(item.gathered or ()) > wrong:
            return Gateway(_UNKNOWN)
        raise item.error("the gateway has no address", expected="{address: ..., metric: ...}")
    return Gateway(fields["address"].parsed(parse_address, "an address"), metric)


def _metric(fields: dict[str, Value]) -> int | None:
    return _read(fields, "metric", lambda v: _number(v, 0, 2**32 - 1), None)


def _held(item: Value) -> PlannedAddress:
    if not item.is_mapping:
        return item.parsed(_held_text, "an address")
    wrong = len(item.gathered or ())
    fields = item.fields(HELD_KEYS)
    if "address" not in fields:
        if len(item.gathered or ()) > wrong:
            return PlannedAddress(_UNKNOWN)
        raise item.error("no address stands here", expected="{address: ..., prefix: ...}")
    address = fields["address"].parsed(parse_address, "an address")
    return PlannedAddress(address, _read(fields, "prefix", lambda v: v.parsed(_prefix_of(address), "a prefix"), None))


def _prefix_of(address: IPAddress) -> Callable[[str], int]:
    return lambda text: parse_prefix(text, address.version)


def _held_text(text: str) -> PlannedAddress:
    base, slash, prefix = text.partition("/")
    address = parse_address(base)
    return PlannedAddress(address, parse_prefix(prefix, address.version) if slash else None)


def _route(item: Value) -> Route:
    fields = item.fields(ROUTE_KEYS, "{destination, next_hop, metric, on_link}")
    metric, on_link = _metric(fields), _read(fields, "on_link", _flag, False)
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


def _hosts(value: Value, segments: dict[str, Segment]) -> dict[str, HostPlan]:
    pairs = value.node.value if isinstance(value.node, yaml.MappingNode) else ()
    usual = [usual_host(key, node, segments) for key, node in pairs]
    quickly = {host.name: host for host in usual if host is not None}
    if usual and len(quickly) == len(usual):
        return quickly
    pick = {key.value: host for (key, _), host in zip(pairs, usual, strict=True) if host is not None}
    return _named(value, "hosts by name", lambda name, k, v: pick.get(name) or _host(name, k, v, segments))


def _host(name: str, key: Value, value: Value, segments: dict[str, Segment]) -> HostPlan:
    if not _HOST_NAME.fullmatch(name):
        key.report(key.error(f"{name!r} cannot be a host's name here", expected="letters, digits, dots and hyphens"))
    fields = value.fields(HOST_KEYS, "the host's interfaces")
    if "interfaces" not in fields:
        key.report(key.error(f"host {name} has no interfaces", expected="`interfaces:`"))
    interfaces = _named(
        fields.get("interfaces"), "interfaces by name", lambda name, k, v: _interface(name, k, v, segments)
    )
    return HostPlan(
        name=name,
        interfaces=tuple(interfaces.values()),
        hostname=_read(fields, "hostname", lambda v: v.text("a name"), None),
        reach=_read(fields, "reach", _reach, None),
        line=key.line,
    )


def _reach(value: Value) -> str:
    text = value.text(_REACH)
    # Which kinds there are, the machines know.
    kind, _, rest = text.partition(":")
    if not kind or not rest:
        raise value.error(f"{text!r} stands here", expected=_REACH)
    return text


def _method(fields: dict[str, Value], version: int, held: bool | None) -> str:
    """The method of IP ``version``; whether addresses are ``held`` is ``None`` where `hold` could not be read."""
    name = f"ipv{version}"
    if name not in fields:
        return "fixed" if held else "untouched"
    value, allowed = fields[name], IPV4_METHODS if version == 4 else IPV6_METHODS
    said = value.text("one of " + ", ".join(allowed))
    if said not in allowed:
        meant = METHODS.get(said.lower())
        raise value.error(
            f"{said!r} stands here",
            expected="one of " + ", ".join(allowed),
            remedy=f"did you mean {meant!r}?" if meant in allowed else None,
        )
    if said == "fixed" and held is False:
        raise value.error(f"{name} is fixed, but `hold` names no IPv{version} address")
    if said != "fixed" and held:
        raise value.error(
            f"{name} is {said}, but `hold` names IPv{version} addresses",
            expected=f"`{name}: fixed`, or no such address",
        )
    return said


def _interface(name: str, key: Value, value: Value, segments: dict[str, Segment]) -> InterfacePlan:
    if not _INTERFACE_NAME.fullmatch(name) or name in (".", ".."):
        expected = "at most 15 characters, no space or slash"
        key.report(key.error(f"{name!r} cannot be an interface's name", expected=expected))
    fields = value.fields(INTERFACE_KEYS, "what the interface shall hold")
    if "segment" not in fields:
        key.report(key.error(f"interface {name} names no segment", expected="`segment: NAME`"))
    wrong = len(key.gathered or ())
    none: tuple[PlannedAddress, ...] = ()
    hold = _read(fields, "hold", lambda v: v.each(_held), none)
    sure = wrong == len(key.gathered or ())
    if len({h.address for h in hold}) != len(hold):
        key.report(_twice(fields["hold"]))
    versions = {h.address.version for h in hold}
    return InterfacePlan(
        name=name,
        segment=_read(fields, "segment", lambda v: _segment_name(v, segments), ""),
        mac=_read(fields, "mac", _mac, None),
        hold=hold,
        ipv4=key.attempt(lambda: _method(fields, 4, 4 in versions if sure else None), "untouched"),
        ipv6=key.attempt(lambda: _method(fields, 6, 6 in versions if sure else None), "untouched"),
        expect=_addresses(fields, "expect") or (),
        leave_alone=_addresses(fields, "leave_alone") or (),
        gateways=_read(fields, "gateway", _interface_gateways, None),
        metric=_metric(fields),
        resolvers=_addresses(fields, "resolvers"),
        search=_domains(fields),
        mtu=_read(fields, "mtu", lambda v: _number(v, 68, 65535), None),
        time_servers=_time_servers(fields),
        routes=_read(fields, "routes", lambda v: v.each(_route), ()),
        line=key.line,
    )


def _twice(value: Value) -> InputError:
    """The error that an address of ``value`` stands twice, at the second one."""
    seen: set[IPAddress] = set()
    for item in value.items():
        address = item.attempt(partial(_held, item), None)
        if address is not None and address.address in seen:
            return item.error(f"{address.address} stands twice", expected="each address once")
        seen |= {address.address} if address is not None else set()
    return value.error("an address stands twice", expected="each address once")


def _segment_name(value: Value, segments: dict[str, Segment]) -> str:
    name = value.text("a segment's name")
    if name in segments:
        return name
    near = difflib.get_close_matches(name, segments, 1, 0.6)
    raise value.error(
        f"there is no segment {name!r} in this plan",
        expected="one of " + ", ".join(segments) if segments and not near else None,
        remedy=f"did you mean {near[0]!r}?" if near else None,
    )


def _interface_gateways(value: Value) -> tuple[Gateway, ...]:
    none = not value.is_mapping and not value.is_list and value.text() == "none"
    return () if none else _gateways(value)
