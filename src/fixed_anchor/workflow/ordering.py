"""The hosts of a plan in the order in which they are changed: what is there, who is left out and why, and the waves."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence

import msgspec

from fixed_anchor.change.change import Draft
from fixed_anchor.core.addresses import AddressRange, IPAddress
from fixed_anchor.core.errors import AnchorError
from fixed_anchor.core.facts import Facts
from fixed_anchor.core.findings import Acceptance, Finding, Judgement
from fixed_anchor.core.order.staged import staged
from fixed_anchor.core.order.turn import Order, Standing, used_by
from fixed_anchor.core.order.waves import order_of
from fixed_anchor.core.plan import HostPlan
from fixed_anchor.core.survey import HostSurvey
from fixed_anchor.core.verification import AS_PLANNED, verdict_of
from fixed_anchor.machines.protocol import Machine
from fixed_anchor.workflow.check import check
from fixed_anchor.workflow.drafts import drafts_of, foreseen_of
from fixed_anchor.workflow.gather import gather
from fixed_anchor.workflow.reached.site import Site
from fixed_anchor.workflow.targets import HostTarget, target_of
from fixed_anchor.workflow.verify import verify


class Ordered(msgspec.Struct, frozen=True):
    """All hosts that are to be changed: their order, how each stands now, its draft, and what speaks against them.

    ``kept`` are those that stay as they are while others are changed over them: the seat, and jump hosts. ``unfit`` are
    the parking addresses that cannot be used, each with the codes of what was found.
    """

    order: Order
    standings: Mapping[str, Standing]
    drafts: Mapping[str, Draft | AnchorError]
    judgement: Judgement
    kept: frozenset[str] = frozenset()
    unfit: Mapping[IPAddress, str] = {}


def ordered(
    site: Site,
    named: Sequence[str],
    pools: tuple[AddressRange, ...],
    accepted: Sequence[Acceptance],
    parks: Sequence[IPAddress],
    at_once: int,
    hold: Callable[[HostTarget, HostSurvey], frozenset[IPAddress]],
) -> Ordered:
    """Looks at every host of the plan that is reached, checks them together, and puts them into their order.

    The seat and the hosts that connections lead through are left out unless they are ``named``. ``accepted`` are
    findings that are overridden; ``parks`` are addresses where a host of a circle may wait.
    """
    own = site.own_hosts()
    chosen = [host for host in site.plan.hosts.values() if host.reach is not None or host in own]
    site.look_at_each(chosen)
    # By now every connection knows what it leads through.
    left_out = {name: why for name, why in _between(site, chosen, own) if name not in named}
    kept = frozenset(left_out)
    chosen_in = [host for host in chosen if host.name not in left_out]
    left_out |= dict(_out_of_reach(site, chosen_in))
    wanted = [host for host in chosen_in if host.name not in left_out]
    facts = gather(site, tuple(host.name for host in wanted), pools) if wanted else None
    if facts is None:
        return Ordered(order_of(site.plan, {}, [], (), left_out), {}, {}, Judgement(()), kept)
    standings = _standings(site, facts)
    facts = _with_order(facts, standings)
    drafts = drafts_of(site, wanted, hold)
    judgement = check(facts, foreseen_of(site, drafts))
    for host in wanted:
        standing = judgement.standing(host.name, accepted)
        if standing:
            codes = ", ".join(dict.fromkeys(f"{f.code} ({f.shown_severity})" for f in standing))
            left_out[host.name] = f"its check found {codes}"
    settled = _settled(site, drafts, left_out)
    names = [host.name for host in chosen]
    usable, unfit = list(parks), dict[IPAddress, str]()
    while True:
        order = order_of(site.plan, standings, names, settled, left_out, usable, at_once)
        taken = _not_to_park_at(site, order, pools, accepted, facts)
        if not taken:
            break
        usable = [park for park in usable if park not in taken]
        unfit |= {p: ", ".join(dict.fromkeys(f.code for f in several)) for p, several in taken.items()}
        judgement = judgement.with_more(found for several in taken.values() for found in several)
    return Ordered(order, standings, drafts, judgement, kept, unfit)


def _not_to_park_at(
    site: Site, order: Order, pools: tuple[AddressRange, ...], accepted: Sequence[Acceptance], facts: Facts
) -> dict[IPAddress, list[Finding]]:
    """The parking addresses that cannot be used, each with what was found: they are checked like any other."""
    found: dict[IPAddress, list[Finding]] = {}
    for turn in order.turns:
        if not turn.parked:
            continue
        plan = staged(site.plan, turn, facts.surveys[turn.host])
        parking = gather(site.with_plan(plan), (turn.host,), pools)
        judgement = check(msgspec.structs.replace(parking, arriving=facts.arriving), {})
        for park in turn.parked.values():
            standing = [f for f in judgement.standing(turn.host, accepted) if f.address == str(park)]
            if standing:
                found[park] = standing
    return found


def _between(site: Site, hosts: Sequence[HostPlan], own: Iterable[HostPlan]) -> Iterable[tuple[str, str]]:
    """Those that must stay as they are while others are changed over them: the seat, and jump hosts."""
    for host in own:
        yield host.name, f"you sit at it: --host {host.name} takes it in"
    through: dict[str, str] = {}
    for host in hosts:
        machine = site.machine(host)
        for jump in machine.session.through() if machine is not None else ():
            through.setdefault(jump, host.name)
    for host in hosts:
        known = {host.name, _destination(host), *(str(a) for i in host.interfaces for a in i.every_address)}
        behind = next((behind for jump, behind in through.items() if jump in known), None)
        if behind is not None:
            yield host.name, f"{behind} is reached through it: --host {host.name} takes it in"


def _destination(host: HostPlan) -> str:
    """The name by which SSH knows a host of the plan; empty where it is not reached over SSH."""
    kind, _, rest = (host.reach or "").partition(":")
    return rest.rpartition("@")[2].partition(":")[0] if kind == "ssh" else ""


def _out_of_reach(site: Site, hosts: Iterable[HostPlan]) -> Iterable[tuple[str, str]]:
    """Those of which no change can be made from here, each with the reason."""
    for host in hosts:
        machine = site.machine(host)
        if host.name in site.unreached:
            yield host.name, site.unreached[host.name].what
        elif machine is None:
            yield host.name, "it is not reached from here"
        else:
            why = _why_not(machine)
            if why:
                yield host.name, why


def _why_not(machine: Machine) -> str:
    try:
        refusal = machine.rights.why_no_change()
        if refusal is not None:
            return refusal.what
        already = target_of(machine).open_change()
    except AnchorError as error:
        return error.what
    return f"change {already} is open on it" if already is not None else ""


def _standings(site: Site, facts: Facts) -> dict[str, Standing]:
    """Every host of the plan of which it is known what it holds."""
    found = {}
    for host in site.plan.hosts.values():
        survey = site.survey(host) if site.is_surveyed(host) else None
        if survey is None:
            continue
        held = frozenset(a for a in survey.own_addresses() if not a.is_link_local)
        going = facts.going.get(host.name, frozenset()) & held
        found[host.name] = Standing(host, held, going, _kind(host, survey), _lookers(site, host))
    return found


def _kind(host: HostPlan, survey: HostSurvey) -> str:
    """Which stack a host has, in which release, and on which segments."""
    touched = [(i, survey.interface(i.name)) for i in host.touched]
    stacks = dict.fromkeys(found.stack or survey.system or "no stack" for _, found in touched if found is not None)
    versions = {program.name: program.version for program in survey.programs}
    shown = [f"{stack} {versions[stack]}" if stack in versions else stack for stack in stacks]
    return ", ".join([*shown, *dict.fromkeys(i.segment for i, _ in touched)])


def _lookers(site: Site, host: HostPlan) -> frozenset[str] | None:
    """Those that can look at a host from beside, on the segment where they are fewest; ``None`` where nobody can."""
    here = site.here_survey() if site.here.running else None
    found: list[frozenset[str]] = []
    for name in dict.fromkeys(i.segment for i in host.touched):
        beside = {other.name for other in site.reached_on(name) if other is not host and site.is_surveyed(other)}
        if here is not None and here.interface_in(site.plan.segments[name].subnets) is not None:
            beside.add(site.here.name)
        if beside:
            found.append(frozenset(beside))
    return min(found, key=len) if found else None


def _with_order(facts: Facts, standings: Mapping[str, Standing]) -> Facts:
    """The facts with what the order takes care of: addresses that are handed on, and services that come first."""
    moving = {host.name: standings[host.name] for host in facts.hosts if host.name in standings}
    givers = {a: name for name, standing in moving.items() for a in standing.going}
    coming = {a: name for name, standing in moving.items() for a in standing.coming}
    handed = {
        address: facts.surveys[givers[address]].own_macs()
        for address, taker in coming.items()
        if address in givers and givers[address] != taker
    }
    used = {a: host.name for host in facts.plan.hosts.values() for a in used_by(facts.plan, host)}
    return msgspec.structs.replace(facts, handed=handed, arriving=frozenset(a for a in coming if a in used))


def _settled(site: Site, drafts: Mapping[str, Draft | AnchorError], left_out: Mapping[str, str]) -> list[str]:
    """The hosts that are as planned: nothing is to be written, and what is planned is in force."""
    empty = [
        name
        for name, draft in drafts.items()
        if not isinstance(draft, AnchorError) and draft.content.is_empty and name not in left_out
    ]
    if not empty:
        return []
    found = verify(site, tuple(empty))
    return [name for name in empty if verdict_of([c for c in found.checks if c.host == name]) == AS_PLANNED]
