"""Writing a new plan as YAML text."""

from __future__ import annotations

import json
import re

import msgspec
import yaml

from fixed_anchor.core.addresses import AddressRange, IPAddress, IPNetwork
from fixed_anchor.core.errors import printable
from fixed_anchor.core.plan import SourceRef

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
    set_aside: tuple[AddressRange, ...] = ()
    segment: str = "lan"
    sources: tuple[SourceRef, ...] = ()
    #: Said in comments above the address: why it was picked.
    reasons: tuple[str, ...] = ()
    reach: str | None = None


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


def plan_text(proposed: ProposedPlan) -> str:
    """The text of the plan. Nothing is added that was not there or asked for."""
    lines = ["plan: 1", "", "segments:", f"  {scalar(proposed.segment)}:", f"    subnet: {scalar(proposed.subnet)}"]
    if proposed.gateways:
        gateways = proposed.gateways
        lines.append("    gateway: " + (scalar(gateways[0]) if len(gateways) == 1 else _list(gateways)))
    if proposed.resolvers:
        lines.append(f"    resolvers: {_list(proposed.resolvers)}")
    if proposed.search:
        lines.append(f"    search: {_list(proposed.search)}")
    if proposed.pools is not None:
        lines.append(f"    pools: {_list(proposed.pools)}")
    elif not proposed.sources:
        lines.append("    # pools: [FIRST - LAST]    the DHCP pools; [] says that there is no DHCP server")
    if proposed.set_aside:
        lines.append(f"    set_aside: {_list(proposed.set_aside)}")
    if proposed.sources:
        lines += ["", "sources:"]
        for source in proposed.sources:
            options = "".join(f"\n    {key}: {scalar(value)}" for key, value in source.options.items())
            lines.append(f"  - {source.kind}: {scalar(source.path)}{options}")
    lines += ["", "hosts:", f"  {scalar(proposed.host)}:"]
    if proposed.reach:
        lines.append(f"    reach: {scalar(proposed.reach)}")
    lines += ["    interfaces:", f"      {scalar(proposed.interface)}:"]
    if proposed.mac:
        lines.append(f"        mac: {scalar(proposed.mac)}")
    lines.append(f"        segment: {scalar(proposed.segment)}")
    lines += [f"        # {printable(reason)}" for reason in proposed.reasons]
    lines += [f"        hold: {_list(proposed.hold)}", ""]
    return "\n".join(lines)
