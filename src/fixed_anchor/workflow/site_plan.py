"""A plan for many hosts at once, or further hosts for a plan that exists: nobody's address changes by it."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from pathlib import Path
from typing import Any

import msgspec

from fixed_anchor.core.addresses import AddressRange, IPAddress
from fixed_anchor.core.claims import Claims, ListedClaim
from fixed_anchor.core.errors import AnchorError, InputError, InputErrors
from fixed_anchor.core.knowledge import Unread
from fixed_anchor.core.plan import HostPlan, Plan, SourceRef
from fixed_anchor.planfile.extending import natural
from fixed_anchor.planfile.writer import ProposedPlan
from fixed_anchor.sources.address_list import AddressList
from fixed_anchor.sources.protocol import Origin, Reader
from fixed_anchor.vantages.protocol import Vantage
from fixed_anchor.workflow.propose import joined, propose, with_pick, with_site
from fixed_anchor.workflow.reached.sources import read_sources

NEW, THERE, NOT_PLACED = "new", "in the plan", "not placed"
#: A list of wanted addresses has at most so many rows.
_ROWS = 20_000


class Candidate(msgspec.Struct, frozen=True):
    """A host that a plan is to have: its survey (in its JSON form), where that is from, and how the host is reached."""

    name: str
    stock: dict[str, Any]
    where: str
    reach: str | None
    vantage: Callable[[str], Vantage]


class Policy(msgspec.Struct, frozen=True):
    """Which address a host gets for which nobody named one: today's (``keeps``), or one that is picked (``picks``).

    ``ranges`` are those to pick from; without any the whole subnet. ``pools`` is ``None`` where nothing is known.
    """

    keeps: bool
    picks: bool
    ranges: tuple[AddressRange, ...] = ()
    interface: str | None = None
    pools: tuple[AddressRange, ...] | None = None
    sources: tuple[tuple[str, str], ...] = ()


class Row(msgspec.Struct, frozen=True):
    """What became of a host: its address of today, and the one of the plan; ``why`` where it was not placed."""

    host: str
    outcome: str
    interface: str | None
    before: tuple[str, ...]
    hold: tuple[str, ...]
    why: str = ""


class SitePlan(msgspec.Struct, frozen=True):
    """What is new, in the order of names; what became of every host; and who disagrees with whom about a segment."""

    new: Sequence[ProposedPlan]
    rows: Sequence[Row]
    disagreements: Sequence[str]


def read_wanted(path: str) -> list[ListedClaim]:
    """The rows of a list of wanted addresses, each of one address and of a name or a MAC.

    Raises :class:`InputError` with the place of whatever is wrong with it.
    """
    reader = Reader(Path.cwd())
    listed = AddressList(_ROWS).claims(reader.read(path), Origin("address-list", path, path), reader)
    errors = [InputError(one.what, file=path, line=one.place.line) for one in listed.broken]
    first: dict[object, ListedClaim] = {}
    for row in listed.listed:
        if row.range.size != 1:
            errors.append(_at(row, "this is a range, and not the address of one host"))
        elif not row.name and row.mac is None:
            errors.append(_at(row, "this row has neither a name nor a MAC: whose address it is, is not known"))
        for key in (row.range, row.mac, row.name.partition(".")[0]):
            if not key:
                continue
            other = first.setdefault(key, row)
            if (other.range, other.mac, other.name) != (row.range, row.mac, row.name):
                errors.append(_at(row, f"{key} stands in line {other.place.line}, too"))
    if errors:
        raise InputErrors(errors) if len(errors) > 1 else errors[0]
    return list(listed.listed)


def _at(row: ListedClaim, what: str) -> InputError:
    return InputError(what, file=row.place.file, line=row.place.line)


def propose_site(
    candidates: Sequence[Candidate],
    policy: Policy,
    wanted: Sequence[ListedClaim],
    existing: Plan | None,
    site: Plan | None,
    folder: Path,
    told: Callable[[str], None],
) -> SitePlan:
    """The plan of ``candidates``, or what is new in the plan ``existing``; what cannot be placed says why.

    ``site`` is another plan that knows the segments and who holds what. Paths of the plan count from ``folder``;
    ``told`` hears whose turn it is.
    """
    known = existing or site
    read = read_sources(_with_sources(known, policy, folder))
    rows: list[Row] = []
    made: list[ProposedPlan] = []
    left: list[tuple[Candidate, ProposedPlan]] = []
    used: set[int] = set()
    for one in sorted(candidates, key=lambda c: natural(c.name)):
        there = _there(existing, one)
        if there is not None:
            rows.append(_stays(there, one))
            used |= {number for number, row in enumerate(wanted) if _is_of(row, one)}
            continue
        number = next((number for number, row in enumerate(wanted) if _is_of(row, one)), None)
        at = wanted[number].range.ends[0] if number is not None else None
        used |= {number} if number is not None else set()
        try:
            if at is None and not (policy.keeps or policy.picks):
                raise InputError("the list has no address for it; say --keep or --pick for such hosts")
            proposed = _proposed(one, at, policy, known, folder)
            _refuse_twice(proposed, known, made)
            if at is None and policy.picks:
                left.append((one, proposed))
                continue
            made.append(proposed)
        except AnchorError as error:
            rows.append(_not_placed(one, error))
    # Picking last: what is kept or named is spoken for by then.
    for one, proposed in left:
        told(one.name)
        try:
            picked = _picked(one, proposed, policy, known, folder, made, read)
            _refuse_twice(picked, known, made)
            made.append(picked)
        except AnchorError as error:
            rows.append(_not_placed(one, error))
    for number, row in enumerate(wanted):
        if number not in used:
            name = row.name or row.mac or ""
            why = f"{row.place}: no survey of it; take one with `fixed-anchor survey --host ssh:NAME -o FILE`"
            rows.append(Row(name, NOT_PLACED, None, (), (str(row.range.ends[0]),), why))
    new = joined(sorted(made, key=lambda proposed: natural(proposed.host)), known)
    before = {one.name: one for one in candidates}
    rows += [Row(p.host, NEW, p.interface, _today(before[p.host], p.interface), tuple(map(str, p.hold))) for p in new]
    said = list(dict.fromkeys(line for proposed in new for line in proposed.disagree))
    return SitePlan(new, sorted(rows, key=lambda row: natural(row.host)), said + _servers_say(new, read[0]))


def _proposed(one: Candidate, at: IPAddress | None, policy: Policy, known: Plan | None, folder: Path) -> ProposedPlan:
    proposed = propose(one.stock, policy.interface, at, policy.pools, None, known)
    has_subnet = known is not None and any(proposed.subnet in s.subnets for s in known.segments.values())
    proposed = with_site(proposed, known if has_subnet else None, policy.sources, folder)
    return msgspec.structs.replace(proposed, host=one.name, reach=one.reach)


def _picked(
    one: Candidate,
    proposed: ProposedPlan,
    policy: Policy,
    known: Plan | None,
    folder: Path,
    made: Sequence[ProposedPlan],
    read: tuple[list[Claims], tuple[Unread, ...]],
) -> ProposedPlan:
    subnet = proposed.subnet
    ranges = [r for r in policy.ranges if any(end in subnet for end in r.ends)]
    if policy.ranges and not ranges:
        raise InputError(f"no --from lies in {subnet}")
    vantage = one.vantage(proposed.interface)
    return with_pick(proposed, known, folder, vantage, made, ranges, read)


def _refuse_twice(proposed: ProposedPlan, known: Plan | None, made: Sequence[ProposedPlan]) -> None:
    """Raises :class:`InputError` where the host, its MAC or its address is another one's."""
    for host in known.hosts.values() if known is not None else ():
        held = {a for i in host.interfaces for a in i.every_address}
        if host.name != proposed.host and held & set(proposed.hold):
            raise InputError(f"{host.name} of {known.file if known else ''} holds {proposed.hold[0]}")
    for other in made:
        if other.host == proposed.host:
            raise InputError("another survey is of a host of this name: rename one of them")
        if other.mac is not None and other.mac == proposed.mac:
            raise InputError(f"{other.host} has the same MAC {other.mac}")
        if set(other.hold) & set(proposed.hold):
            raise InputError(f"{other.host} gets {proposed.hold[0]}")


def _there(existing: Plan | None, one: Candidate) -> HostPlan | None:
    """The host of the plan that a candidate is: by a MAC, or else by its name."""
    if existing is None:
        return None
    macs = {interface.get("mac") for interface in one.stock["interfaces"]} - {None}
    by_mac = (h for h in existing.hosts.values() if any(i.mac in macs for i in h.interfaces))
    return next(by_mac, None) or existing.hosts.get(one.name)


def _stays(there: HostPlan, one: Candidate) -> Row:
    held = tuple(str(a) for i in there.interfaces for a in i.every_address)
    names = [i.name for i in there.interfaces]
    today = tuple(text for name in names for text in _today(one, name))
    return Row(there.name, THERE, names[0] if names else None, today, held)


def _not_placed(one: Candidate, error: AnchorError) -> Row:
    why = error.what + (f"; {error.remedy}" if error.remedy else "")
    return Row(one.name, NOT_PLACED, None, _today(one, None), (), f"{why} ({one.where})")


def _today(one: Candidate, interface: str | None) -> tuple[str, ...]:
    """The addresses of today, of one interface or of all."""
    found = (i for i in one.stock["interfaces"] if interface in (None, i["interface"]))
    return tuple(a["address"] for i in found for a in i["addresses"] if a["origin"] != "link-local")


def _is_of(row: ListedClaim, one: Candidate) -> bool:
    """Whether a row of the list is about a candidate: its MAC decides, where it has one."""
    if row.mac is not None:
        return any(interface.get("mac") == row.mac for interface in one.stock["interfaces"])
    return row.name.partition(".")[0] == one.name.partition(".")[0].lower()


def _with_sources(known: Plan | None, policy: Policy, folder: Path) -> Plan:
    refs = [SourceRef(kind, str(Path(path).absolute())) for kind, path in policy.sources]
    if known is None:
        return Plan(str(folder / "plan.yaml"), {}, {}, sources=tuple(refs))
    return msgspec.structs.replace(known, sources=(*known.sources, *refs))


def _servers_say(new: Sequence[ProposedPlan], claims: Sequence[Claims]) -> list[str]:
    """Where a DHCP server's files say another gateway or other resolvers than the segment gets."""
    found = []
    for proposed in {one.subnet: one for one in new}.values():
        for subnet in (s for one in claims for s in one.subnets if s.network == proposed.subnet):
            told: Mapping[str, tuple[Any, Any]] = {
                "gateway": (subnet.routers, proposed.gateways),
                "resolvers": (subnet.resolvers, proposed.resolvers),
            }
            for kind, (theirs, ours) in told.items():
                if theirs is not None and set(theirs) != set(ours):
                    here, there = (", ".join(map(str, values)) or "none" for values in (ours, theirs))
                    found.append(f"{kind} of {proposed.subnet}: {here} by its hosts; {there} by {subnet.place}")
    return found
