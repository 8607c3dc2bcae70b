"""A plan made from what is there."""

from __future__ import annotations

import os
import time
from collections import Counter
from collections.abc import Sequence
from pathlib import Path
from typing import Any

import msgspec

from fixed_anchor.core.addresses import (
    AddressRange,
    IPAddress,
    IPInterface,
    IPNetwork,
    parse_address,
    parse_interface_address,
    parse_network,
    with_prefix,
)
from fixed_anchor.core.claims import Claims
from fixed_anchor.core.errors import InputError
from fixed_anchor.core.knowledge import Knowledge, Unread
from fixed_anchor.core.plan import Gateway, HostPlan, InterfacePlan, Plan, PlannedAddress, Segment, SourceRef
from fixed_anchor.planfile.writer import ProposedPlan
from fixed_anchor.vantages.protocol import Vantage
from fixed_anchor.workflow.pick import pick
from fixed_anchor.workflow.reached.sources import read_sources


def propose(
    survey: dict[str, Any],
    interface_name: str | None,
    at: IPAddress | None,
    pools: tuple[AddressRange, ...] | None,
    prefix: int | None = None,
    site: Plan | None = None,
) -> ProposedPlan:
    """The plan for one interface of a survey (in its JSON form): for IPv4 where it has it, else for IPv6.

    ``at`` is the address to hold, which says the family, too; ``None`` keeps today's. ``pools`` is
    ``None`` where nothing is known. Where the interface has no address today, the subnet comes from the ``prefix``
    of ``at`` in bits, or from the segment of ``site`` in which it lies. Raises :class:`InputError`.
    """
    interface = _choose(survey, interface_name)
    name = interface["interface"]
    now = [a for a in _addresses(interface) if at is None or a.version == at.version]
    told = _told(at, prefix, site) if at is not None and (not now or prefix is not None) else None
    gateways: list[IPAddress]
    if told is not None and not any(at in _subnet(interface, a) for a in now):
        subnet, segment = told
        address = at or subnet.network_address
        gateways = [g.address for g in segment.gateways] if segment is not None else []
        resolvers, search = (segment.resolvers, segment.search) if segment is not None else ((), ())
    else:
        subnet, address = _of_today(name, interface, now, at, prefix)
        gateways = [g for g in (parse_address(g) for g in interface["gateways"]) if g.version == subnet.version]
        resolvers, search = _kept(interface, subnet.version)
    proposed = ProposedPlan(
        host=survey["host"],
        interface=name,
        mac=interface["mac"],
        subnet=subnet,
        gateways=tuple(dict.fromkeys(gateways)),
        resolvers=resolvers,
        search=search,
        pools=pools,
        hold=(address,),
    )
    return _without_other_way_out(proposed, survey)


def _of_today(
    name: str, interface: dict[str, Any], now: list[IPInterface], at: IPAddress | None, prefix: int | None
) -> tuple[IPNetwork, IPAddress]:
    """The subnet that an interface is in by its addresses of today, and the address that it shall hold there.

    Raises :class:`InputError`.
    """
    if not now and at is not None:
        raise InputError(
            f"{name} has no IPv{at.version} address to take the subnet from",
            remedy=f"say `--at {at}/PREFIX`, or name a plan with its segment: `--plan PLAN`",
        )
    if not now:
        raise InputError(
            f"{name} has no address to take the subnet from",
            remedy="say which address it shall hold: `--at ADDRESS/PREFIX`",
        )
    subnet = _subnet(interface, now[0])
    address: IPAddress = now[0].ip if at is None else at
    if address not in subnet:
        fitting = next((s for a in now if address in (s := _subnet(interface, a))), None)
        if fitting is None:
            raise InputError(
                f"{address} is not in {subnet}, the subnet of {name}",
                expected=f"an address of {subnet}",
            )
        subnet = fitting
    if prefix is not None and prefix != subnet.prefixlen:
        raise InputError(f"{at}/{prefix} has another prefix than {subnet}, the subnet of {name}", expected=f"{subnet}")
    return subnet, address


def _told(at: IPAddress, prefix: int | None, site: Plan | None) -> tuple[IPNetwork, Segment | None] | None:
    """The subnet of an address by its prefix, or by the segment of a plan; and that segment, where there is one."""
    for segment in site.segments.values() if site is not None else ():
        subnet = segment.subnet_of(at)
        if subnet is not None:
            return subnet, segment
    return None if prefix is None else (with_prefix(at, prefix).network, None)


def _without_other_way_out(proposed: ProposedPlan, survey: dict[str, Any]) -> ProposedPlan:
    """``proposed`` without a default route, where another interface has that of the host and this one has none."""
    version = proposed.subnet.version
    ways = {
        i["interface"]: [g for g in i["gateways"] if parse_address(g).version == version] for i in survey["interfaces"]
    }
    other = next((name for name, gateways in ways.items() if gateways and name != proposed.interface), None)
    if other is None or ways.get(proposed.interface):
        return proposed
    why = f"{other} has the default route, by {ways[other][0]}: a second one would compete with it"
    return msgspec.structs.replace(proposed, own_gateways=(), why_no_gateway=why)


def _addresses(interface: dict[str, Any]) -> list[IPInterface]:
    """Today's addresses, the best to keep first: IPv4, then IPv6 that somebody leased or fixed, then made ones."""
    found = [(a["origin"], parse_interface_address(a["address"])) for a in interface["addresses"]]
    good = [(origin, a) for origin, a in found if origin != "link-local"]
    return [a for _, a in sorted(good, key=lambda pair: (pair[1].version, pair[0] == "slaac"))]


def _subnet(interface: dict[str, Any], address: IPInterface) -> IPNetwork:
    """The subnet of an address; a leased IPv6 one is alone (RFC 5942), and routers say which prefix is on the link."""
    announced = interface.get("announced") or {}
    prefixes = [parse_network(p) for p in announced.get("prefixes", ())]
    if address.version == 6 and address.network.prefixlen == address.max_prefixlen:
        on_link = next((p for p in prefixes if address.ip in p), None)
        if on_link is None:
            raise InputError(
                f"{interface['interface']} has {address} alone, and no router says which prefix is on its link",
                remedy="write the plan by hand, with the segment's `subnet:`",
            )
        return on_link
    return address.network


def _kept(interface: dict[str, Any], version: int) -> tuple[tuple[IPAddress, ...], tuple[str, ...]]:
    """Resolvers and search list to write down: not those that the other family goes on getting by itself."""
    announced, lease = interface.get("announced") or {}, interface.get("lease") or {}
    on_coming = announced if version == 4 else lease
    theirs, searched = on_coming.get("resolvers", ()), on_coming.get("search", ())
    # A domain of both is one that this family had as well.
    own = (lease if version == 4 else announced).get("search", ())
    resolvers = tuple(parse_address(r) for r in interface["resolvers"] if r not in theirs)
    return resolvers, tuple(d for d in interface["search"] if d not in searched or d in own)


def _choose(survey: dict[str, Any], name: str | None) -> dict[str, Any]:
    interfaces: list[dict[str, Any]] = survey["interfaces"]
    if name is not None:
        for interface in interfaces:
            if interface["interface"] == name:
                return interface
        raise InputError(
            f"the survey has no interface {name}", expected="one of " + ", ".join(i["interface"] for i in interfaces)
        )
    candidates = [i for i in interfaces if i["gateways"]] or [i for i in interfaces if i["addresses"]]
    if len(candidates) == 1:
        return candidates[0]
    if not candidates:
        raise InputError("no interface has an address", remedy="name the one that is meant with --interface")
    raise InputError(
        "several interfaces could be meant: " + ", ".join(i["interface"] for i in candidates),
        remedy="name one with --interface",
    )


def with_site(
    proposed: ProposedPlan, site: Plan | None, sources: tuple[tuple[str, str], ...], folder: Path
) -> ProposedPlan:
    """``proposed`` with what an existing plan of the site says of its segment, and with sources.

    ``sources`` are kinds and paths as typed here; in the plan all paths count from ``folder``.
    Raises :class:`InputError` where no segment of ``site`` has the subnet.
    """
    refs = [SourceRef(kind, _from(folder, Path(path))) for kind, path in sources]
    if site is None:
        return msgspec.structs.replace(proposed, sources=tuple(refs))
    segment = next((s for s in site.segments.values() if proposed.subnet in s.subnets), None)
    if segment is None:
        raise InputError(f"no segment of this plan has the subnet {proposed.subnet}", file=site.file)
    base = Path(site.file).parent
    refs += [SourceRef(s.kind, _from(folder, base / s.path), 0, s.options) for s in site.sources]
    return msgspec.structs.replace(
        proposed,
        segment=segment.name,
        pools=segment.pools if proposed.pools is None else (*(segment.pools or ()), *proposed.pools),
        set_aside=segment.set_aside,
        sources=tuple(refs),
    )


def _from(folder: Path, path: Path) -> str:
    return str(path) if path.is_absolute() else os.path.relpath(path, folder)


def joined(every: Sequence[ProposedPlan], site: Plan | None = None) -> list[ProposedPlan]:
    """All that is proposed as one plan: hosts of one subnet share a segment, and say only what differs there.

    A segment has what ``site`` says of it, else what most of its hosts say; ``disagree`` names those that say something
    else. Raises :class:`InputError` where two hosts have one name, or are to hold one address.
    """
    for number, proposed in enumerate(every):
        for other in every[:number]:
            if other.host == proposed.host:
                raise InputError(f"two of these hosts call themselves {proposed.host}", remedy="give one another name")
            if set(other.hold) & set(proposed.hold):
                raise InputError(f"{other.host} and {proposed.host} would both hold {proposed.hold[0]}")
    shared: dict[IPNetwork, ProposedPlan] = {}
    names = set(site.segments) if site is not None else set()
    for subnet in dict.fromkeys(proposed.subnet for proposed in every):
        of_plan = next((s for s in site.segments.values() if subnet in s.subnets), None) if site is not None else None
        one = _agreed([proposed for proposed in every if proposed.subnet == subnet], of_plan)
        if of_plan is None:
            named, number = one.segment, 2
            while named in names:
                named, number = f"{one.segment}{number}", number + 1
            one = msgspec.structs.replace(one, segment=named)
            names.add(named)
        shared[subnet] = one
    return [_beside(proposed, shared[proposed.subnet]) for proposed in every]


def _agreed(several: Sequence[ProposedPlan], of_plan: Segment | None) -> ProposedPlan:
    """What the hosts of a subnet have in common, as the first of them would say it."""
    first = several[0]
    ways = [one for one in several if one.own_gateways is None] or list(several)
    gateways, resolvers, search = (
        Counter(one.gateways for one in ways).most_common(1)[0][0],
        Counter(one.resolvers for one in several).most_common(1)[0][0],
        Counter(one.search for one in several).most_common(1)[0][0],
    )
    where = f"{first.subnet}"
    if of_plan is not None:
        version = first.subnet.version
        gateways = tuple(g.address for g in of_plan.gateways if g.address.version == version)
        resolvers, search = of_plan.resolvers, of_plan.search
        where = f"segment {of_plan.name}"
        first = msgspec.structs.replace(first, segment=of_plan.name, pools=of_plan.pools, set_aside=of_plan.set_aside)
    disagree = []
    kinds: tuple[tuple[str, Any, dict[str, Any]], ...] = (
        ("gateway", gateways, {one.host: one.gateways for one in ways}),
        ("resolvers", resolvers, {one.host: one.resolvers for one in several}),
        ("search", search, {one.host: one.search for one in several}),
    )
    for kind, usual, by_host in kinds:
        other: dict[Any, list[str]] = {}
        for host, value in by_host.items():
            if value != usual:
                other.setdefault(value, []).append(host)
        agree = [host for host, value in by_host.items() if value == usual]
        said = "the plan" if of_plan is not None else ", ".join(agree[:3]) + (" and others" if len(agree) > 3 else "")
        for value, hosts in other.items():
            disagree.append(f"{kind} of {where}: {_listed(usual)} by {said}; {_listed(value)} by {', '.join(hosts)}")
    return msgspec.structs.replace(
        first, gateways=gateways, resolvers=resolvers, search=search, disagree=tuple(disagree)
    )


def _listed(values: Sequence[object]) -> str:
    return ", ".join(map(str, values)) or "none"


def _beside(proposed: ProposedPlan, shared: ProposedPlan) -> ProposedPlan:
    """``proposed`` in the segment of ``shared``: what differs there is its own."""
    own_gateways = proposed.own_gateways
    if own_gateways is None and proposed.gateways != shared.gateways:
        own_gateways = proposed.gateways
    return msgspec.structs.replace(
        proposed,
        **{name: getattr(shared, name) for name in ("segment", "gateways", "resolvers", "search", "disagree")},
        pools=shared.pools,
        set_aside=shared.set_aside,
        own_gateways=own_gateways,
        own_resolvers=proposed.resolvers if proposed.resolvers != shared.resolvers else None,
        own_search=proposed.search if proposed.search != shared.search else None,
    )


def with_pick(
    proposed: ProposedPlan,
    site: Plan | None,
    folder: Path,
    vantage: Vantage,
    beside: Sequence[ProposedPlan] = (),
    ranges: Sequence[AddressRange] = (),
    read: tuple[list[Claims], tuple[Unread, ...]] | None = None,
) -> ProposedPlan:
    """``proposed`` with the best free address of its segment, and the reasons for it.

    Everything counts that the plan's sources say (``read`` where they were read already), what ``site`` gives to
    others, and what is proposed ``beside``. Where there are ``ranges`` it is an address of one of them.
    Raises :class:`~fixed_anchor.core.errors.Refused` where no address is free.
    """
    segment = Segment(
        name=proposed.segment,
        subnets=(proposed.subnet,),
        gateways=tuple(Gateway(g) for g in proposed.gateways),
        resolvers=proposed.resolvers,
        search=proposed.search,
        pools=proposed.pools,
        set_aside=proposed.set_aside,
    )
    hosts = {name: host for name, host in (site.hosts if site else {}).items() if name != proposed.host}
    for other in beside:
        if other.subnet == proposed.subnet:
            held = tuple(PlannedAddress(address) for address in other.hold)
            hosts[other.host] = HostPlan(other.host, (InterfacePlan(other.interface, segment.name, hold=held),))
    segments = {**(site.segments if site else {}), segment.name: segment}
    plan = Plan(str(folder / "plan.yaml"), segments, hosts, sources=proposed.sources)
    claims, unread = read if read is not None else read_sources(plan)
    known = Knowledge(plan, claims, unread=unread, now=int(time.time()))
    picked = pick(known, segment, proposed.host, proposed.hold[0], vantage, ranges)
    return msgspec.structs.replace(proposed, hold=(picked.address,), reasons=picked.reasons)
