"""Writing a new plan as YAML text."""

from __future__ import annotations

import json
import re
from collections.abc import Iterator, Sequence

import msgspec
import yaml

from fixed_anchor.core.addresses import AddressRange, IPAddress, IPNetwork
from fixed_anchor.core.errors import printable
from fixed_anchor.core.plan import SourceRef

_PLAIN = re.compile(r"[A-Za-z0-9][A-Za-z0-9._:/-]*")


class ProposedPlan(msgspec.Struct, frozen=True):
    """What a proposed plan says: one interface of one host on one segment.

    ``own_gateways``, ``own_resolvers`` and ``own_search`` are those of the host where its segment, which several
    share, has others; ``None`` where it has the segment's.
    """

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
    own_gateways: tuple[IPAddress, ...] | None = None
    #: Said in a comment above `gateway: none`.
    why_no_gateway: str = ""
    own_resolvers: tuple[IPAddress, ...] | None = None
    own_search: tuple[str, ...] | None = None
    #: Said in comments of the segment: who says something else of it.
    disagree: tuple[str, ...] = ()


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


def plan_text(every: Sequence[ProposedPlan]) -> str:
    """The text of one plan of all that is proposed. Nothing is added that was not there or asked for."""
    lines = ["plan: 1", "", "segments:"]
    for segment in {proposed.segment: proposed for proposed in every}.values():
        lines += segment_lines(segment)
    sources = {str(source): source for proposed in every for source in proposed.sources}
    if sources:
        lines += ["", "sources:"]
        for source in sources.values():
            options = "".join(f"\n    {key}: {scalar(value)}" for key, value in source.options.items())
            lines.append(f"  - {source.kind}: {scalar(source.path)}{options}")
    lines += ["", "hosts:"]
    for proposed in every:
        lines += host_lines(proposed)
    return "\n".join([*lines, ""])


def segment_lines(proposed: ProposedPlan) -> Iterator[str]:
    """The lines of its segment, as they stand below ``segments:``."""
    yield f"  {scalar(proposed.segment)}:"
    yield f"    subnet: {scalar(proposed.subnet)}"
    if proposed.gateways:
        gateways = proposed.gateways
        yield "    gateway: " + (scalar(gateways[0]) if len(gateways) == 1 else _list(gateways))
    if proposed.resolvers:
        yield f"    resolvers: {_list(proposed.resolvers)}"
    if proposed.search:
        yield f"    search: {_list(proposed.search)}"
    if proposed.pools is not None:
        yield f"    pools: {_list(proposed.pools)}"
    elif not proposed.sources:
        yield "    # pools: [FIRST - LAST]    the DHCP pools; [] says that there is no DHCP server"
    yield from (f"    # {printable(one)}" for one in proposed.disagree)
    if proposed.set_aside:
        yield f"    set_aside: {_list(proposed.set_aside)}"


def host_lines(proposed: ProposedPlan) -> Iterator[str]:
    """The lines of its host, as they stand below ``hosts:``."""
    yield f"  {scalar(proposed.host)}:"
    if proposed.reach:
        yield f"    reach: {scalar(proposed.reach)}"
    yield "    interfaces:"
    yield f"      {scalar(proposed.interface)}:"
    if proposed.mac:
        yield f"        mac: {scalar(proposed.mac)}"
    yield f"        segment: {scalar(proposed.segment)}"
    # What differs from the segment's is the host's own.
    if proposed.own_gateways is not None:
        yield from (f"        # {printable(why)}" for why in (proposed.why_no_gateway,) if why)
        yield f"        gateway: {_list(proposed.own_gateways) if proposed.own_gateways else 'none'}"
    if proposed.own_resolvers is not None:
        yield f"        resolvers: {_list(proposed.own_resolvers)}"
    if proposed.own_search is not None:
        yield f"        search: {_list(proposed.own_search)}"
    yield from (f"        # {printable(reason)}" for reason in proposed.reasons)
    yield f"        hold: {_list(proposed.hold)}"
