"""``fixed-anchor cutover --all``: the hosts of a plan in their order, in waves."""

from __future__ import annotations

import contextlib
import os
import shlex
import sys
import time
from collections.abc import Iterator
from typing import IO, Any

import click
import msgspec

from fixed_anchor.change.change import Draft, Patience, Terms
from fixed_anchor.commands.app import App
from fixed_anchor.commands.chosen import targets_of
from fixed_anchor.commands.watching_many import WatcherOfMany, drive_recorded, show_ends
from fixed_anchor.commands.window import Window, wait_for
from fixed_anchor.core.addresses import AddressRange, IPAddress
from fixed_anchor.core.errors import EXIT_AGAINST, EXIT_DONE, EXIT_NO_ACCESS, NoAccess, worst
from fixed_anchor.core.findings import Acceptance
from fixed_anchor.core.survey import HostSurvey
from fixed_anchor.reporting.documents import as_line
from fixed_anchor.reporting.documents.changes import ChangeDocument, HostChanged, change, checks
from fixed_anchor.reporting.documents.drafting import host_drafted
from fixed_anchor.reporting.documents.events import run_event
from fixed_anchor.reporting.documents.ordering import ordered_hosts, ordered_turns
from fixed_anchor.reporting.documents.parts import found_finding, problem
from fixed_anchor.reporting.terminal.order import show_order, summary
from fixed_anchor.workflow.beginning import addresses_to_hold
from fixed_anchor.workflow.events import Event
from fixed_anchor.workflow.notes import about
from fixed_anchor.workflow.ordering import Ordered, ordered
from fixed_anchor.workflow.reached.site import Site
from fixed_anchor.workflow.run import Run
from fixed_anchor.workflow.run_records import (
    CUTOVER,
    LeftOutRecord,
    RunRecord,
    RunStore,
    finish,
    learn_ends,
    recorded,
    seat_runs,
    under_way,
)
from fixed_anchor.workflow.targets import HostTarget
from fixed_anchor.workflow.turns import Turns


class Wishes(msgspec.Struct, frozen=True, kw_only=True):
    """What the command line says of a run of many hosts."""

    plan: str
    named: tuple[str, ...]
    pools: tuple[AddressRange, ...]
    confirm_within: int
    grace: bool | None
    unattended: bool
    patience: Patience
    accepted: tuple[Acceptance, ...]
    note: str | None
    parks: tuple[IPAddress, ...]
    at_once: int
    tolerate: int
    events: str | None
    window: Window
    as_json: bool
    dry_run: bool


def cutover_all(app: App, site: Site, wishes: Wishes) -> int:
    """Carries the whole plan out, and tells how each host ended; the exit status."""

    def hold(target: HostTarget, survey: HostSurvey) -> frozenset[IPAddress]:
        return addresses_to_hold(wishes.grace, target, survey)

    def notes(name: str, target: HostTarget, draft: Draft) -> dict[str, Any]:
        standing = found.judgement.by_host.get(draft.host, ())
        used = [a for a in wishes.accepted if any(f.stops and a.covers(f) for f in standing)]
        made = about("cutover", wishes.plan, draft, used, wishes.note, app.seat_of(target), standing)
        return made | recorder.marks(name)

    with app.status("looking at every host, and probing their segments"):
        found = ordered(site, wishes.named, wishes.pools, wishes.accepted, wishes.parks, wishes.at_once, hold)
    show_order(app.out, found.order, found.standings)
    for park, codes in found.unfit.items():
        app.say(f"nobody can wait at {park}: its check found {codes}", style="yellow")
    if any(name in found.drafts for name in (one.host for one in found.order.left_out)):
        app.type("what was found:  ", shlex.join(["fixed-anchor", "check", wishes.plan]))
    status = _status_of(site, found)
    store, path = seat_runs(), os.path.abspath(wishes.plan)
    record = _unfinished(app, site, store, path, wishes.dry_run, found)
    if wishes.dry_run or not found.order.turns or not _may_begin(app, found):
        said = "this is what it would do; nothing was done" if wishes.dry_run else "nothing was done"
        app.say(said)
        if wishes.as_json:
            app.print_document(_document(wishes, site, found, None, {}, None), status)
        return status
    targets = targets_of(app, site, (turn.host for turn in found.order.turns))
    terms = Terms(wishes.confirm_within, wishes.unattended, {}, patience=wishes.patience)
    turns = Turns(site, found, targets, terms, hold, notes)
    wait_for(app, wishes.window)
    ends = wishes.window.ends
    until = time.monotonic() + ends - time.time() if ends is not None else None
    members = turns.members()
    run = Run(members, wishes.at_once, wishes.tolerate, until)
    by_member = turns.by_member()
    watcher = WatcherOfMany(app, run, wishes.plan, is_live=wishes.events != "-")
    left = [LeftOutRecord(one.host, one.why, one.host in found.kept) for one in found.order.left_out]
    with (
        _events_to(wishes.events) as lines,
        recorded(store, record or store.make(CUTOVER, path), wishes.note, left) as recorder,
    ):
        again = ", going on" if record is not None else ""
        app.say(f"run {recorder.record.number}{again}", style="bold")
        recorder.expect(
            members,
            {str(turn.key): turn.host for turn in found.order.turns},
            {str(turn.key): turn.why for turn in found.order.turns},
        )

        def also(event: Event) -> None:
            if lines is not None:
                target = by_member.get(event.name)
                print(as_line(run_event(run, target, event)), file=lines, flush=True)

        def kept(target: HostTarget) -> None:
            # By its name at this seat somebody else may be found soon, who takes the address it had.
            target.session.at_its_addresses()

        drive_recorded(app, run, by_member, turns.make_ready, recorder, watcher, also, kept)
    ended = worst([status, *(o.exit_status for n in run.names if (o := run.outcome(n)) is not None)])
    show_ends(app, run, _again(wishes))
    if wishes.as_json:
        app.print_document(_document(wishes, site, found, run, by_member, recorder.record.number), ended)
    return ended


def _again(wishes: Wishes) -> str:
    """The command that goes on with the run, as far as its order needs it."""
    parks = [word for park in wishes.parks for word in ("--park", str(park))]
    more = [*parks, *(["--unattended"] if wishes.unattended else [])]
    return shlex.join(["fixed-anchor", "cutover", wishes.plan, "--all", *more])


def _unfinished(app: App, site: Site, store: RunStore, plan: str, dry_run: bool, found: Ordered) -> RunRecord | None:
    """The run of this plan that the command goes on with. Raises :class:`Refused` while another command does."""
    record = store.unfinished(plan)
    if record is None:
        return None
    if store.is_held(record.number):
        raise under_way(record.number)
    if dry_run:
        app.say(f"this goes on with run {record.number}, begun {record.sittings[0].begun}")
        return record
    hosts = {turn.host for turn in record.turns} & site.plan.hosts.keys() - site.unreached.keys()
    learn_ends(store, record, targets_of(app, site, (host for host in hosts if site.machine(site.plan.hosts[host]))))
    if not found.order.turns and all(one.host in found.kept for one in found.order.left_out):
        finish(store, record)
    return record


@contextlib.contextmanager
def _events_to(where: str | None) -> Iterator[IO[str] | None]:
    """Where a line is written for each event: nowhere, standard output, or behind what a file has already."""
    if where is None or where == "-":
        yield sys.stdout if where is not None else None
        return
    try:
        file = open(where, "a", encoding="ascii")  # noqa: SIM115
    except OSError as error:
        raise NoAccess(f"the events cannot be written: {error.strerror}", file=where) from None
    with file:
        yield file


def _may_begin(app: App, found: Ordered) -> bool:
    """Asks the person at the terminal once, where there is one."""
    if not app.can_ask:
        return True
    return click.confirm(f"Begin with {summary(found.order)}?", default=False, err=True)


def _status_of(site: Site, found: Ordered) -> int:
    """The exit status for those that are left out: not for the seat and the hosts that connections lead through."""
    statuses = [EXIT_DONE]
    for one in found.order.left_out:
        if one.host in site.unreached:
            statuses.append(EXIT_NO_ACCESS)
        elif one.host not in found.kept:
            statuses.append(EXIT_AGAINST)
    return worst(statuses)


def _document(
    wishes: Wishes,
    site: Site,
    found: Ordered,
    run: Run | None,
    targets: dict[str, HostTarget],
    number: str | None,
) -> ChangeDocument:
    hosts = []
    for turn in found.order.turns:
        name, draft = str(turn.key), found.drafts[turn.host]
        outcome = run.outcome(name) if run is not None else None
        findings = [found_finding(f) for f in found.judgement.by_host.get(turn.host, ())]
        drafted = host_drafted(draft) if isinstance(draft, Draft) else None
        if run is None or outcome is None or not outcome.number:
            error = problem(outcome.error, turn.host) if outcome is not None and outcome.error is not None else None
            done = outcome.why if outcome is not None and outcome.is_held else "nothing was done"
            hosts.append(HostChanged(host=turn.host, error=error, done=done, findings=findings, draft=drafted))
            continue
        try:
            now = change(turn.host, targets[name].status(outcome.number))
        except NoAccess as error:
            last = run.last(name)
            known = change(turn.host, last) if last is not None else None
            hosts.append(HostChanged(host=turn.host, error=problem(error, turn.host), change=known))
            continue
        made = run.member(name).draft
        hosts.append(
            HostChanged(
                host=turn.host,
                error=problem(outcome.error, turn.host) if outcome.error is not None else None,
                change=now,
                findings=findings,
                draft=host_drafted(made) if made is not None else None,
                checks=checks(outcome.verified),
            )
        )
    document = ChangeDocument(command="cutover", plan=wishes.plan, run=number, hosts=hosts)
    document.order = ordered_turns(found.order)
    document.left_out = ordered_hosts(found.order)
    document.settled = list(found.order.settled)
    return document
