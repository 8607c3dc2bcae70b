"""The way back from a change, or from a whole run: what each host regains, who holds that now, and the last first."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from typing import Any, NamedTuple

import msgspec

from fixed_anchor.change import states
from fixed_anchor.change.change import Draft, Patience, Terms
from fixed_anchor.core.addresses import IPAddress
from fixed_anchor.core.baseline import Baseline, Judge
from fixed_anchor.core.errors import AnchorError, Refused
from fixed_anchor.core.survey import HostSurvey
from fixed_anchor.workflow.beginning import addresses_to_hold, look_from_beside
from fixed_anchor.workflow.events import Member
from fixed_anchor.workflow.network.look import TO_GO, others_holding, still_held
from fixed_anchor.workflow.notes import about, told
from fixed_anchor.workflow.reached.site import Site
from fixed_anchor.workflow.run_records import RESTORE, RunRecord, TurnRecord
from fixed_anchor.workflow.targets import HostTarget

#: Seconds that the guard of a restore waits for its checks, where nobody asked for a wait.
_ENOUGH = 600


class HowBack(msgspec.Struct, frozen=True):
    """What the command line says of a way back: ``confirm_within`` and ``patience`` are in seconds."""

    confirm_within: int | None
    grace: bool | None
    unattended: bool
    patience: Patience
    note: str | None

    def terms(self, notes: dict[str, Any], told: tuple[str, ...] = (), judge: Judge = Judge()) -> Terms:
        """How a restore is guarded.

        It returns to what was good: nobody need be there, unless somebody wants to look first.
        """
        kept_by_checks = self.unattended or self.confirm_within is None
        return Terms(self.confirm_within or _ENOUGH, kept_by_checks, notes, told, judge, self.patience)


class Regained(NamedTuple):
    """What a host regains: addresses of its own files, and those that its leases had; ``undone`` is as it was then."""

    draft: Draft
    undone: Baseline | None
    static: frozenset[IPAddress]
    leased: frozenset[IPAddress]


def regained(target: HostTarget, number: str, hold: frozenset[IPAddress]) -> Regained:
    """What the host regains by going back behind change ``number``. Raises why it cannot."""
    undone = target.recorded_baseline(number)
    draft = target.restore_draft(number, hold)
    if undone is not None:
        draft = msgspec.structs.replace(draft, reachable={i.interface: i.reachable for i in undone.interfaces})
    static = frozenset(a.ip for config in draft.wanted for a in config.addresses)
    return Regained(draft, undone, static, frozenset(target.addresses_left(number)) - static)


def refuse_held(site: Site | None, target: HostTarget, survey: HostSurvey, back: Regained, wait: float = 0.0) -> None:
    """Raises :class:`Refused` where another machine holds an address that the host regains.

    Holders are given ``wait`` seconds to go. An address of a former lease may be another machine's by now, and then
    its server leases a different one: it counts where the plan names the machine, which holds it by its own files.
    """
    leased = {config.interface: back.leased for config in back.draft.wanted}

    def holders() -> dict[IPAddress, str]:
        taken = others_holding(lambda i: target.vantage(survey, i), survey, back.draft.waiting, leased)
        return {a: mac for a, mac in taken.items() if a not in back.leased or _host_with(site, mac) is not None}

    for address, mac in still_held(holders, wait).items():
        holder = _host_with(site, mac)
        remedy = f"Find the machine with MAC {mac}, or choose another change."
        if holder is not None:
            remedy = f"Restore {holder} first, then run the same command again."
        raise Refused(f"{holder or mac} holds {address}, which {back.draft.host} would regain", remedy=remedy)


def _host_with(site: Site | None, mac: str) -> str | None:
    hosts = site.plan.hosts.values() if site is not None else ()
    return next((host.name for host in hosts if any(i.mac == mac for i in host.interfaces)), None)


def member_back(
    site: Site | None,
    target: HostTarget,
    name: str,
    number: str,
    later: tuple[str, ...],
    survey: HostSurvey,
    back: Regained,
    how: HowBack,
    seat: str | None,
    marks: Mapping[str, str] = {},
) -> Member:
    """The restore of a host behind change ``number`` as the member ``name`` of a run; ``marks`` are further notes.

    ``later`` are the later changes that are undone with it.
    """
    host = target.of_plan[1] if target.of_plan is not None else target.name
    if site is not None:
        look_from_beside(site, target, host, survey)
        # Its server may give it the address that it had then.
        site.whereabouts.had[host] += target.addresses_left(number)
    notes = about("restore", None, back.draft, [], how.note, seat)
    notes |= {"restores": number, "undoes": list(later), **marks}
    terms = how.terms(notes, told(notes, back.draft), Judge(None, back.undone))
    return Member(name, back.draft, terms, survey)


# --- what a host has kept of a run ---------------------------------------------------------------------


class HostChange(NamedTuple):
    """A change as its host keeps it; ``run_id`` is that of its run, where it belongs to one."""

    number: str
    state: str
    kind: str
    restores: str
    run_id: str


def _changes_of(target: HostTarget) -> list[HostChange]:
    """Every change of a host, oldest first."""
    found = []
    for number in target.numbers():
        notes = target.record(number).notes
        kind, restores, run_id = (str(notes.get(key) or "") for key in ("kind", "restores", "run"))
        found.append(HostChange(number, target.status(number).state, kind, restores, run_id))
    return found


def in_force(changes: Iterable[HostChange]) -> frozenset[str]:
    """The numbers of the changes that nothing has undone yet, restores among them."""
    now: frozenset[str] = frozenset()
    before: dict[str, frozenset[str]] = {}
    for change in changes:
        before[change.number] = now
        if change.state != states.CONFIRMED:
            continue
        if change.kind == RESTORE:
            now = before.get(change.restores, now)
        now |= {change.number}
    return now


# --- a whole run ---------------------------------------------------------------------------------------


class Step(msgspec.Struct):
    """One change of a run on its way back. ``number`` is that of the change, ``is_open`` says that it still waits.

    ``later`` are confirmed changes after it that are not of the run, and are undone with it; ``regains`` what the host
    holds again afterwards, ``leases`` whether it has a DHCP client again. ``why_not`` says why it stays.
    """

    turn: TurnRecord
    number: str = ""
    is_open: bool = False
    later: tuple[str, ...] = ()
    regains: frozenset[IPAddress] = frozenset()
    leases: bool = False
    why_not: str = ""

    @property
    def host(self) -> str:
        """The host that goes back."""
        return self.turn.host

    @property
    def goes(self) -> bool:
        """Whether a restore is begun for it."""
        return not self.why_not and not self.is_open


class HostNow(msgspec.Struct, frozen=True):
    """A host of a run as it is now: its changes and what is in force, or why nobody knows.

    ``back`` has for each change of the run that is in force what the host regains by undoing it, or why it cannot.
    """

    target: HostTarget | None
    survey: HostSurvey | None = None
    changes: tuple[HostChange, ...] = ()
    back: Mapping[str, Regained | AnchorError] = {}
    error: str = ""


def host_now(target: HostTarget, survey: HostSurvey | None, run: RunRecord, how: HowBack) -> HostNow:
    """Asks a host of a run how it is now: everything that :func:`steps_back` needs of it."""
    changes = tuple(_changes_of(target))
    there = in_force(changes)
    numbers = [one.number for one in changes if one.run_id == run.id and one.number in there]
    refusal = target.rights.why_no_change()
    back: dict[str, Regained | AnchorError] = {}
    for number in numbers:
        try:
            if refusal is not None:
                raise refusal
            assert survey is not None
            back[number] = regained(target, number, addresses_to_hold(how.grace, target, survey))
        except AnchorError as error:
            back[number] = error
    return HostNow(target, survey, changes, back)


def steps_back(run: RunRecord, hosts: Mapping[str, HostNow]) -> list[Step]:
    """What is to be undone of a run, the last first; what cannot go back is among it, with the reason."""
    steps = []
    for turn in sorted(run.turns, key=lambda one: one.place, reverse=True):
        step = _step(run, turn, hosts[turn.host])
        if step is not None:
            steps.append(step)
    holders = {
        address: name
        for name, now in hosts.items()
        if now.survey is not None
        for address in now.survey.own_addresses()
        if not address.is_link_local and not address.is_loopback
    }
    stays: dict[str, str] = {}
    for step in steps:
        if not step.why_not and step.host in stays:
            step.why_not = f"its later change {stays[step.host]} cannot go back"
        if not step.why_not and not step.is_open:
            _regain(step, hosts[step.host], holders)
        if step.why_not:
            stays.setdefault(step.host, step.number)
    return steps


def _step(run: RunRecord, turn: TurnRecord, now: HostNow) -> Step | None:
    """A turn on its way back; nothing where there is nothing to undo."""
    if now.error:
        # Where its seat saw it end otherwise, nothing of it is left.
        is_there = turn.begun is not None and (turn.ended is None or turn.state == states.CONFIRMED)
        return Step(turn, turn.change, why_not=now.error) if is_there else None
    change = next((one for one in now.changes if one.number == turn.change), None)
    if change is None:
        return None
    if change.state not in states.FINAL:
        return Step(turn, change.number, is_open=change.state != states.STUCK, why_not=_of_stuck(change))
    there = in_force(now.changes)
    if change.number not in there:
        return None
    of_run = {one.number for one in now.changes if one.run_id == run.id}
    later = tuple(c.number for c in now.changes if c.number > change.number and c.number in there - of_run)
    foreign = next((one for one in now.changes if one.state not in states.FINAL and one.run_id != run.id), None)
    why = f"change {foreign.number} is open on it" if foreign is not None else ""
    return Step(turn, change.number, later=later, why_not=why)


def _of_stuck(change: HostChange) -> str:
    return "" if change.state != states.STUCK else f"change {change.number} is stuck; see `fixed-anchor status`"


def _regain(step: Step, now: HostNow, holders: dict[IPAddress, str]) -> None:
    """Notes what a host regains, and who holds that at its turn; ``holders`` are as of then, and afterwards."""
    assert now.survey is not None
    back = now.back[step.number]
    if isinstance(back, AnchorError):
        step.why_not = back.what
        return
    mine = {address for address, holder in holders.items() if holder == step.host}
    step.regains = (back.static | back.leased) - mine
    step.leases = any("dhcp" in (config.ipv4, config.ipv6) for config in back.draft.wanted)
    held = {address: holders[address] for address in step.regains if address in holders}
    if held:
        address, holder = next(iter(held.items()))
        step.why_not = f"{holder} holds {address}, which it would regain"
        return
    others = {a.address.ip for i in now.survey.interfaces if i.name not in back.draft.interfaces for a in i.addresses}
    for address in mine - others:
        del holders[address]
    for address in back.static | back.leased:
        holders[address] = step.host


class WayBack:
    """The steps of a way back as members of a run; ``targets`` are by the names of hosts."""

    def __init__(
        self,
        site: Site,
        steps: Sequence[Step],
        targets: Mapping[str, HostTarget],
        how: HowBack,
        seat_of: Callable[[HostTarget], str | None],
        marks: Callable[[str], Mapping[str, str]],
    ) -> None:
        self._site = site
        self._targets = targets
        self._how = how
        self._seat_of = seat_of
        self._marks = marks
        going = [step for step in steps if step.goes]
        #: Of a host with two changes each has its number in its name.
        hosts = [step.host for step in going]
        self._steps = {
            step.host if hosts.count(step.host) == 1 else f"{step.host} (change {step.number})": step for step in going
        }

    def members(self) -> list[Member]:
        """A member for each step, in reversed waves: each waits for those that had waited for it."""
        waves = sorted({(s.turn.sitting, s.turn.wave) for s in self._steps.values()}, reverse=True)
        places = {wave: place for place, wave in enumerate(waves)}
        waiting: dict[tuple[int, str], list[str]] = {}
        for name, step in self._steps.items():
            for other in step.turn.after:
                waiting.setdefault((step.turn.sitting, other), []).append(name)
        return [
            Member(
                name,
                None,
                self._how.terms({}),
                wave=places[step.turn.sitting, step.turn.wave],
                after=tuple(waiting.get((step.turn.sitting, step.turn.name), ())),
            )
            for name, step in self._steps.items()
        ]

    def hosts(self) -> dict[str, str]:
        """The hosts by the names of members."""
        return {name: step.host for name, step in self._steps.items()}

    def by_member(self) -> dict[str, HostTarget]:
        """The targets by the names of members."""
        return {name: self._targets[step.host] for name, step in self._steps.items()}

    def make_ready(self, member: Member) -> Member:
        """The member with its draft and its terms, once what it regains is free. Raises why it cannot begin."""
        step = self._steps[member.name]
        target = self._targets[step.host]
        survey = target.survey()
        hold = addresses_to_hold(self._how.grace, target, survey)
        back = regained(target, step.number, hold)
        refuse_held(self._site, target, survey, back, TO_GO)
        marks = self._marks(member.name)
        later, seat = target.later_ones(step.number), self._seat_of(target)
        made = member_back(self._site, target, member.name, step.number, later, survey, back, self._how, seat, marks)
        return msgspec.structs.replace(made, wave=member.wave, after=member.after)
