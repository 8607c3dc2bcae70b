"""Writing a new plan as YAML text."""

from __future__ import annotations

import json
import re

import msgspec
import yaml

from fixed_anchor.core.addresses import AddressRange, IPAddress, IPNetwork

_PLAIN = re.compile(r"[A-Za-z0-9][A-Za-z0-9._:/-]*")


class ProposedPlan(msgspec.Struct, frozen=True):
    """What a proposed plan says: one interface of one host on one segment."""

    host: str
    interface: str
    mac: str | None
    subnet: IPNetwork
    gateways: tuple[IPAddress, ...]
    resolvers: tuple[IPAddress, ...]
    search: tuple[str, ...]
    pools: tuple[AddressRange, ...] | None
    hold: tuple[IPAddress, ...]


def scalar(value: object) -> str:
    """``value`` as a YAML scalar that every reader takes for the same text."""
    text = str(value)
    resolver = yaml.SafeLoader("")
    tag = resolver.resolve(yaml.ScalarNode, text, (True, False))  # type: ignore[no-untyped-call]
    if _PLAIN.fullmatch(text) and tag == "tag:yaml.org,2002:str" and "::" not in text and text[-1] != ":":
        return text
    return json.dumps(text, ensure_ascii=False)


def _list(values: tuple[object, ...]) -> str:
    return "[" + ", ".join(scalar(v) if not isinstance(v, AddressRange) else str(v) for v in values) + "]"


def plan_text(proposed: ProposedPlan, segment: str = "lan") -> str:
    """The text of the plan. Nothing is added that was not there or asked for."""
    lines = ["plan: 1", "", "segments:", f"  {segment}:", f"    subnet: {proposed.subnet}"]
    if proposed.gateways:
        gateways = proposed.gateways
        lines.append("    gateway: " + (scalar(gateways[0]) if len(gateways) == 1 else _list(gateways)))
    if proposed.resolvers:
        lines.append(f"    resolvers: {_list(proposed.resolvers)}")
    if proposed.search:
        lines.append(f"    search: {_list(proposed.search)}")
    if proposed.pools is None:
        lines.append("    # pools: [FIRST - LAST]    the DHCP pools; [] says that there is no DHCP server")
    else:
        lines.append(f"    pools: {_list(proposed.pools)}")
    lines += ["", "hosts:", f"  {scalar(proposed.host)}:", "    interfaces:", f"      {scalar(proposed.interface)}:"]
    if proposed.mac:
        lines.append(f"        mac: {scalar(proposed.mac)}")
    lines += [f"        segment: {segment}", f"        hold: {_list(proposed.hold)}", ""]
    return "\n".join(lines)
