"""Reading an addressing plan: YAML text to checked types, every error with its place."""

from __future__ import annotations

import difflib
import re
from collections.abc import Callable, Collection
from functools import partial
from pathlib import Path
from typing import TypeVar

import yaml

from fixed_anchor.core.addresses import (
    IPAddress,
    parse_address,
    parse_network,
    parse_range,
)
from fixed_anchor.core.errors import InputError, InputErrors
from fixed_anchor.core.plan import (
    IPV4_METHODS,
    IPV6_METHODS,
    SOURCE_KINDS,
    STACKS,
    Gateway,
    HostPlan,
    InterfacePlan,
    Plan,
    PlannedAddress,
    Segment,
    SourceRef,
    WirelessPlan,
)
from fixed_anchor.planfile import shape
from fixed_anchor.planfile.lines import PlanLines
from fixed_anchor.planfile.mending import composed
from fixed_anchor.planfile.usual import usual_host
from fixed_anchor.planfile.values import (
    addresses_at,
    domains_at,
    gateways_of,
    mac_of,
    metric_of,
    number,
    planned_address,
    planned_route,
    reachable_text,
    read_key,
    time_servers_at,
)
from fixed_anchor.text.words import METHODS
from fixed_anchor.text.yaml_nodes import Value

T = TypeVar("T")

#: An interface of Linux has at most 15 characters and no blank, an adapter of Windows whatever a person called it.
_INTERFACE_NAME = re.compile(r"[^\x00-\x1f\x7f-\x9f]{1,256}")
_HOST_NAME = re.compile(r"[A-Za-z0-9][A-Za-z0-9._-]{0,252}")

PLAN_KEYS = shape.keys(shape.PlanShape)
SEGMENT_KEYS = shape.keys(shape.SegmentShape)
HOST_KEYS = shape.keys(shape.HostShape)
WIRELESS_KEYS = shape.keys(shape.WirelessShape)
INTERFACE_KEYS = shape.keys(shape.InterfaceShape)

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
    hosts = _hosts(fields["hosts"], segments) if "hosts" in fields else {}
    return Plan(
        file=file,
        segments=segments,
        hosts=hosts,
        site=site.attempt(site.text, None) if site else None,
        sources=fields["sources"].each(_source) if "sources" in fields else (),
        apart=fields["apart"].each(partial(_apart, hosts)) if "apart" in fields else (),
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


_APART = "a list of two hosts or more, in a list of such lists"


def _apart(hosts: dict[str, HostPlan], group: Value) -> tuple[str, ...]:
    """Hosts of which never two are changed at the same time."""
    if not group.is_list:
        raise group.error("a single host stands here", expected=_APART, remedy="write apart: [[HOST, HOST]]")
    names = tuple(_known(item, hosts, "host") for item in group.items())
    if len(set(names)) < 2 or len(set(names)) != len(names):
        raise group.error("these are not two hosts or more, each once", expected=_APART)
    return names


def _segment(name: str, key: Value, value: Value) -> Segment:
    nothing: dict[str, Value] = {}
    fields = value.attempt(lambda: value.fields(SEGMENT_KEYS, "the facts of the segment"), nothing)
    if "subnet" not in fields and value.is_mapping:
        key.report(key.error(f"segment {name} has no subnet", expected="`subnet: ADDRESS/PREFIX`"))
    return Segment(
        name=name,
        subnets=read_key(fields, "subnet", lambda v: v.all_parsed(parse_network, "a subnet"), ()),
        gateways=read_key(fields, "gateway", gateways_of, ()),
        resolvers=addresses_at(fields, "resolvers") or (),
        search=domains_at(fields) or (),
        pools=read_key(fields, "pools", lambda v: v.all_parsed(parse_range, "FIRST - LAST"), None),
        reservations=read_key(fields, "reservations", _reservations, {}),
        set_aside=read_key(fields, "set_aside", lambda v: v.all_parsed(parse_range, "a range"), ()),
        reachable=read_key(fields, "reachable", lambda v: v.all_parsed(reachable_text, "what users need"), ()),
        dhcp_servers=addresses_at(fields, "dhcp_servers"),
        was=read_key(fields, "was", lambda v: v.all_parsed(parse_network, "a subnet"), ()),
        line=key.line,
    )


def _reservations(value: Value) -> dict[str, tuple[IPAddress, ...]]:
    found: dict[str, tuple[IPAddress, ...]] = {}
    for _, key, inner in value.entries("addresses by MAC"):
        mac = key.attempt(partial(mac_of, key), "")
        found[mac] = inner.attempt(partial(inner.all_parsed, parse_address, "an address"), ())
    return found


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
        hostname=read_key(fields, "hostname", lambda v: v.text("a name"), None),
        reach=read_key(fields, "reach", _reach, None),
        stack=read_key(fields, "stack", _stack, None),
        line=key.line,
    )


def _reach(value: Value) -> str:
    text = value.text(_REACH)
    # Which kinds there are, the machines know.
    kind, _, rest = text.partition(":")
    if not kind or not rest:
        raise value.error(f"{text!r} stands here", expected=_REACH)
    return text


def _stack(value: Value) -> str:
    word = value.text("one of " + ", ".join(STACKS))
    if word in STACKS:
        return word
    near = next((name for name in STACKS if name.lower() == word.lower()), None)
    raise value.error(
        f"there is no stack {word!r}",
        expected=None if near else "one of " + ", ".join(STACKS),
        remedy=f"did you mean {near!r}?" if near else None,
    )


#: A passphrase is never in the plan itself, which people show to each other.
_PASSWORD = "file:PATH, of a file of mode 0600 with the passphrase"


def _wifi(value: Value) -> WirelessPlan:
    fields = value.fields(WIRELESS_KEYS, "`network` and `password`")
    if "network" not in fields:
        raise value.error("this names no network", expected="`network: NAME`")
    network = fields["network"].text("the name of the network")
    # IEEE 802.11: an SSID has at most 32 octets.
    if not 1 <= len(network.encode()) <= 32 or not network.isprintable():
        raise fields["network"].error(f"{network!r} is no name of a network", expected="1 to 32 bytes")
    password = fields.get("password")
    if password is None:
        return WirelessPlan(network, line=fields["network"].line)
    kind, _, path = password.text(_PASSWORD).partition(":")
    if kind != "file" or not path:
        raise password.error("no file is named here", expected=_PASSWORD)
    return WirelessPlan(network, path, password.line)


def _netbios_servers(value: Value) -> tuple[IPAddress, ...]:
    """Name servers of NetBIOS (RFC 1001), of which Windows takes two."""
    found: tuple[IPAddress, ...] = value.each(lambda v: v.parsed(parse_address, "an IPv4 address"))
    if len(found) > 2 or any(a.version == 6 for a in found):
        raise value.error("not all of these can be NetBIOS name servers", expected="at most two IPv4 addresses")
    return found


def _method(fields: dict[str, Value], version: int, held: bool | None) -> str:
    """The method of IP ``version``; whether addresses are ``held`` is ``None`` where `hold` could not be read."""
    name = f"ipv{version}"
    if name not in fields:
        return "fixed" if held else "untouched"
    value, allowed = fields[name], IPV4_METHODS if version == 4 else IPV6_METHODS
    word = value.text("one of " + ", ".join(allowed))
    if word not in allowed:
        meant = METHODS.get(word.lower())
        raise value.error(
            f"{word!r} stands here",
            expected="one of " + ", ".join(allowed),
            remedy=f"did you mean {meant!r}?" if meant in allowed else None,
        )
    if word == "fixed" and held is False:
        raise value.error(f"{name} is fixed, but `hold` names no IPv{version} address")
    if word != "fixed" and held:
        raise value.error(
            f"{name} is {word}, but `hold` names IPv{version} addresses",
            expected=f"`{name}: fixed`, or no such address",
        )
    return word


def _interface(name: str, key: Value, value: Value, segments: dict[str, Segment]) -> InterfacePlan:
    if not _INTERFACE_NAME.fullmatch(name) or not name.strip(" ."):
        expected = "at most 256 characters, none of them a control character"
        key.report(key.error(f"{name!r} cannot be an interface's name", expected=expected))
    fields = value.fields(INTERFACE_KEYS, "what the interface shall hold")
    if "segment" not in fields:
        key.report(key.error(f"interface {name} names no segment", expected="`segment: NAME`"))
    wrong = len(key.gathered or ())
    none: tuple[PlannedAddress, ...] = ()
    hold = read_key(fields, "hold", lambda v: v.each(planned_address), none)
    sure = wrong == len(key.gathered or ())
    if len({h.address for h in hold}) != len(hold):
        key.report(_twice(fields["hold"]))
    versions = {h.address.version for h in hold}
    ipv4 = key.attempt(lambda: _method(fields, 4, 4 in versions if sure else None), "untouched")
    return InterfacePlan(
        name=name,
        segment=read_key(fields, "segment", lambda v: _known(v, segments, "segment"), ""),
        mac=read_key(fields, "mac", mac_of, None),
        hold=hold,
        ipv4=ipv4,
        ipv6=key.attempt(lambda: _method(fields, 6, 6 in versions if sure else None), "untouched"),
        expect=addresses_at(fields, "expect") or (),
        leave_alone=addresses_at(fields, "leave_alone") or (),
        fallback=read_key(fields, "fallback", lambda v: _fallback(v, ipv4, hold), None),
        gateways=read_key(fields, "gateway", _interface_gateways, None),
        metric=metric_of(fields),
        resolvers=addresses_at(fields, "resolvers"),
        search=domains_at(fields),
        mtu=read_key(fields, "mtu", lambda v: number(v, 68, 65535), None),
        time_servers=time_servers_at(fields),
        routes=read_key(fields, "routes", lambda v: v.each(planned_route), ()),
        wifi=read_key(fields, "wifi", _wifi, None),
        netbios_servers=read_key(fields, "netbios_servers", _netbios_servers, None),
        line=key.line,
    )


def _twice(value: Value) -> InputError:
    """The error that an address of ``value`` stands twice, at the second one."""
    seen: set[IPAddress] = set()
    for item in value.items():
        address = item.attempt(partial(planned_address, item), None)
        if address is not None and address.address in seen:
            return item.error(f"{address.address} stands twice", expected="each address once")
        seen |= {address.address} if address is not None else set()
    return value.error("an address stands twice", expected="each address once")


def _known(value: Value, named: Collection[str], what: str) -> str:
    """The name of one of ``named``, which are the plan's: segments, say."""
    name = value.text(f"a {what}'s name")
    if name in named:
        return name
    near = difflib.get_close_matches(name, named, 1, 0.6)
    some = list(named)[:20]
    raise value.error(
        f"there is no {what} {name!r} in this plan",
        expected="one of " + ", ".join(some) if some and not near else None,
        remedy=f"did you mean {near[0]!r}?" if near else None,
    )


def _fallback(value: Value, ipv4: str, hold: tuple[PlannedAddress, ...]) -> tuple[PlannedAddress, ...]:
    """The address of `fallback`, or nothing for `none`."""
    if ipv4 != "dhcp":
        raise value.error("a fallback is for an interface that asks a DHCP server", expected="`ipv4: dhcp` beside it")
    if not value.is_mapping and not value.is_list and value.text() == "none":
        return ()
    found = planned_address(value)
    if found.address.version != 4:
        raise value.error(f"{found.address} stands here", expected="an IPv4 address, or none")
    return (found,)


def _interface_gateways(value: Value) -> tuple[Gateway, ...]:
    none = not value.is_mapping and not value.is_list and value.text() == "none"
    return () if none else gateways_of(value)
