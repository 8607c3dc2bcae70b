"""``fixed-anchor restore --run``: the changes of a whole run go back, the last first."""

from __future__ import annotations

import shlex

import click
from rich.text import Text

from fixed_anchor.change import states
from fixed_anchor.commands.app import App
from fixed_anchor.commands.chosen import say_failed, targets_of
from fixed_anchor.commands.watching_many import WatcherOfMany, drive_recorded, show_ends
from fixed_anchor.core.addresses import in_words
from fixed_anchor.core.errors import EXIT_AGAINST, EXIT_DONE, AnchorError, printable, worst
from fixed_anchor.reporting.documents.changes import ChangeDocument, HostChanged, change, checks
from fixed_anchor.reporting.documents.parts import problem
from fixed_anchor.reporting.terminal.paper import plural, put_table, styled
from fixed_anchor.workflow.going_back import HostNow, HowBack, Step, WayBack, host_now, steps_back
from fixed_anchor.workflow.notes import who
from fixed_anchor.workflow.reached.at_once import at_once as each_at_once
from fixed_anchor.workflow.reached.site import Site
from fixed_anchor.workflow.run import Run
from fixed_anchor.workflow.run_records import RESTORE, RunRecord, RunStore, learn_ends, recorded, seat_runs, under_way
from fixed_anchor.workflow.targets import HostTarget


def restore_run(app: App, number: int, plan: str | None, how: HowBack, at_once: int, dry_run: bool) -> int:
    """Takes run ``number`` back, and tells how each host ended; the exit status."""
    store = seat_runs()
    run = store.read(store.number(number))
    if store.is_held(run.number):
        raise under_way(run.number)
    site = app.site(plan or run.plan, at_once)
    site.whereabouts.asks_segments = True
    with app.status("looking at the hosts of the run"):
        hosts = _hosts_now(app, site, store, run, how, at_once)
    steps = steps_back(run, hosts)
    _show(app, run, steps)
    status = EXIT_AGAINST if any(step.why_not for step in steps) else EXIT_DONE
    nothing = dry_run or not any(step.goes or step.is_open for step in steps) or not _may_begin(app, run, steps)
    targets = {name: now.target for name, now in hosts.items() if now.target is not None}
    if nothing:
        app.say("dry run: nothing was changed" if dry_run else "nothing was changed")
        if app.as_json:
            app.print_document(_document(run, plan, steps, targets, None, {}), status)
        return status
    back = store.make(RESTORE, run.plan, restores=run.number)
    with recorded(store, back, how.note, []) as recorder:
        app.say(f"run {back.number} takes run {run.number} back", style="bold")
        run.restored_by = back.number
        store.write(run)
        ends = [status]
        for step in steps:
            if step.is_open:
                ends.append(_roll_back(app, targets[step.host], step))
        way = WayBack(site, steps, targets, how, app.seat_of, recorder.marks)
        members, by_member = way.members(), way.by_member()
        driven = None
        if members:
            driven = Run(members, at_once, tolerate=len(members))
            recorder.expect(members, way.hosts(), {})
            watcher = WatcherOfMany(app, driven, site.plan.file)
            drive_recorded(app, driven, by_member, way.make_ready, recorder, watcher)
            ends += [o.exit_status for name in driven.names if (o := driven.outcome(name)) is not None]
            show_ends(app, driven, shlex.join(["fixed-anchor", "restore", "--run", str(int(run.number))]))
    ended = worst(ends)
    if app.as_json:
        app.print_document(_document(run, plan, steps, targets, driven, by_member), ended)
    return ended


def _roll_back(app: App, target: HostTarget, step: Step) -> int:
    try:
        target.decide(step.number, states.ROLL_BACK, who())
    except AnchorError as error:
        say_failed(app, step.host, error)
        return error.exit_status
    app.say(f"{step.host}: change {step.number} is rolled back", indent=2)
    return EXIT_DONE


def _hosts_now(app: App, site: Site, store: RunStore, run: RunRecord, how: HowBack, at_once: int) -> dict[str, HostNow]:
    """Each host of a run as it is now; of the others of the plan what they hold."""
    of_run = {turn.host for turn in run.turns}
    planned = [host for host in site.plan.hosts.values() if host.reach is not None or host.name in of_run]
    site.look_at_each(planned)
    found: dict[str, HostNow] = {name: HostNow(None, error="the plan does not name it any more") for name in of_run}
    reached = []
    for host in planned:
        unreached = site.unreached.get(host.name)
        if unreached is not None or app.reach.of_plan(site, host) is None:
            found[host.name] = HostNow(None, error=unreached.what if unreached is not None else "not reached from here")
        else:
            reached.append(host.name)
    targets = targets_of(app, site, reached)
    learn_ends(store, run, {name: target for name, target in targets.items() if name in of_run})

    def now(name: str) -> HostNow:
        survey = site.survey(site.plan.hosts[name])
        return host_now(targets[name], survey, run, how) if name in of_run else HostNow(targets[name], survey)

    for name, one in zip(reached, each_at_once(reached, now, at_once), strict=True):
        found[name] = HostNow(None, error=one.what) if isinstance(one, AnchorError) else one
    return found


def _show(app: App, run: RunRecord, steps: list[Step]) -> None:
    rows: list[list[str | Text]] = []
    for step in steps:
        what = f"regains {in_words(step.regains)}" if step.regains else "goes back"
        if step.is_open:
            what = "is rolled back"
        elif step.leases and not step.regains:
            what = "regains a lease"
        if step.later:
            what += f"; undoes later changes: {', '.join(step.later)}"
        if step.why_not:
            what = f"stays: {printable(step.why_not)}"
        style = "bold yellow" if step.why_not else "bold"
        rows.append([styled(step.host, style), step.number, what])
    if not rows:
        app.say(f"nothing of run {run.number} is in force")
        return
    put_table(app.out, ["host", "change", "what happens"], rows)
    going = len({step.host for step in steps if not step.why_not})
    staying = len({step.host for step in steps if step.why_not})
    words = f"run {run.number} of {run.plan}: {plural(going, 'host')} to restore"
    app.say(words + (f", {staying} cannot go back" if staying else ""), style="bold")


def _may_begin(app: App, run: RunRecord, steps: list[Step]) -> bool:
    """Asks the person at the terminal once, where there is one."""
    if not app.can_ask:
        return True
    going = len({step.host for step in steps if not step.why_not})
    return click.confirm(f"Restore {plural(going, 'host')} of run {run.number}?", default=False, err=True)


def _document(
    run: RunRecord,
    plan: str | None,
    steps: list[Step],
    targets: dict[str, HostTarget],
    driven: Run | None,
    by_member: dict[str, HostTarget],
) -> ChangeDocument:
    hosts = []
    for step in steps:
        if step.why_not:
            hosts.append(HostChanged(host=step.host, done=f"stays: {step.why_not}"))
        elif step.is_open:
            hosts.append(HostChanged(host=step.host, change=change(step.host, targets[step.host].status(step.number))))
        elif driven is None:
            hosts.append(HostChanged(host=step.host, done="nothing was changed"))
    for name in driven.names if driven is not None else ():
        assert driven is not None
        outcome, last = driven.outcome(name), driven.last(name)
        error = outcome.error if outcome is not None else None
        hosts.append(
            HostChanged(
                host=by_member[name].name,
                error=problem(error, by_member[name].name) if error is not None else None,
                change=change(by_member[name].name, last) if last is not None else None,
                done=(outcome.why or None) if outcome is not None and outcome.is_held else None,
                checks=checks(outcome.verified) if outcome is not None else [],
            )
        )
    return ChangeDocument(command="restore", plan=plan or run.plan, run=run.number, hosts=hosts)
