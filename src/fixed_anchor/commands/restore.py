"""``fixed-anchor restore``: go back to the saved files."""

from __future__ import annotations

import click

from fixed_anchor.change import states
from fixed_anchor.commands.app import App
from fixed_anchor.commands.chosen import Chosen, say_failed, to_act_on
from fixed_anchor.commands.common import (
    ALL,
    AT_ONCE,
    CHANGE,
    GRACE,
    HOSTS_OF_PLAN,
    JSON,
    NOTE,
    OF_PLAN,
    PATIENCE,
    examples,
    patience_of,
)
from fixed_anchor.commands.restore_run import restore_run
from fixed_anchor.commands.standing import because, decided, last_one
from fixed_anchor.commands.watching import Watched, watch
from fixed_anchor.core.errors import EXIT_DONE, EXIT_INTERRUPTED, AnchorError, InputError, worst
from fixed_anchor.reporting.documents.changes import ChangeDocument, HostChanged
from fixed_anchor.reporting.documents.drafting import host_drafted
from fixed_anchor.reporting.documents.parts import problem
from fixed_anchor.reporting.terminal.draft import show_draft
from fixed_anchor.workflow.beginning import addresses_to_hold
from fixed_anchor.workflow.going_back import HowBack, member_back, refuse_held, regained
from fixed_anchor.workflow.notes import who
from fixed_anchor.workflow.reached.site import Site
from fixed_anchor.workflow.targets import HostTarget


@click.command(
    help="Roll the open change back now. Without an open one go back to before the last cutover, or before the change "
    "that is named: guarded, and kept as soon as its checks pass. Of several hosts one after the other.",
    epilog=examples(
        ("sudo fixed-anchor restore --dry-run", "what it would do on this machine"),
        ("sudo fixed-anchor restore 3", "go back to before change 3"),
        ("fixed-anchor restore --plan plan.yaml tide-db:0003", "the same of another host"),
        ("fixed-anchor restore --run 4 --dry-run", "what taking a whole run back would do"),
    ),
)
@CHANGE
@OF_PLAN
@HOSTS_OF_PLAN
@ALL
@click.option(
    "--run",
    type=click.IntRange(1),
    metavar="NUMBER",
    help="Every change of this run of `cutover --all`, the last first.",
)
@AT_ONCE
@click.option("--dry-run", is_flag=True, help="Show what it would do, and do nothing.")
@click.option(
    "--confirm-within",
    type=click.IntRange(5, 86400),
    metavar="SECONDS",
    help="Wait for a confirmation, and undo the restore unless it is confirmed by then.",
)
@GRACE
@click.option(
    "--unattended", is_flag=True, help="With --confirm-within: confirm by itself if every required check passed."
)
@PATIENCE
@NOTE
@JSON
@click.pass_context
def command(
    ctx: click.Context,
    change: str | None,
    plan: str | None,
    hosts: tuple[str, ...],
    every: bool,
    run: int | None,
    at_once: int,
    dry_run: bool,
    confirm_within: int | None,
    grace: bool | None,
    unattended: bool,
    patience: int | None,
    note: str | None,
    as_json: bool,
) -> None:
    app = App(ctx, as_json)
    how = HowBack(confirm_within, grace, unattended, patience_of(patience), note)
    if run is not None:
        if change is not None or hosts or every:
            raise click.UsageError("--run names every change already: leave CHANGE, --host and --all out")
        ctx.exit(restore_run(app, run, plan, how, at_once, dry_run))
    site, chosen = to_act_on(app, plan, hosts, every, change, 1, "restore")
    done: list[Watched] = []
    for one in chosen:
        if len(chosen) > 1:
            app.say(one.host, style="bold")
        if every and not one.target.numbers():
            app.say(f"there was no change on {one.host} yet")
            continue
        try:
            done.append(_restore(app, site, one, how, dry_run))
        except AnchorError as error:
            if len(chosen) == 1:
                raise
            say_failed(app, one.host, error)
            made = HostChanged(host=one.host, error=problem(error, one.host))
            done.append(Watched(error.exit_status, made))
        if done[-1].exit_status == EXIT_INTERRUPTED:
            break
    exit_status = worst(watched.exit_status for watched in done)
    every_one = [watched.made for watched in done if watched.made is not None]
    if as_json and every_one:
        app.print_document(ChangeDocument(command="restore", plan=plan, hosts=every_one), exit_status)
    ctx.exit(exit_status)


def _restore(app: App, site: Site | None, one: Chosen, how: HowBack, dry_run: bool) -> Watched:
    """Takes one host back. Raises why it cannot be."""
    target = one.target
    refusal = target.rights.why_no_change()
    if refusal is not None and not dry_run:
        raise refusal
    already = target.open_change()
    try:
        number = target.number(one.change) if one.change else already or target.last_cutover()
    except InputError as error:
        if one.change is None:
            error.remedy = last_one(target) or error.remedy
        raise
    if number == already:
        return _roll_back(app, target, number, dry_run)
    later = target.later_ones(number)
    if later:
        verb = "would also undo" if dry_run else "also undoes"
        app.say(f"restoring change {number} {verb} the later changes: {', '.join(later)}")
    survey = target.survey()
    back = regained(target, number, addresses_to_hold(how.grace, target, survey))
    show_draft(app.out, [back.draft])
    if dry_run:
        app.say("nothing was done")
        return Watched(
            EXIT_DONE, HostChanged(host=target.name, done="nothing was done", draft=host_drafted(back.draft))
        )
    with app.status("looking from beside, and whether nobody holds what it regains"):
        refuse_held(site, target, survey, back)
        member = member_back(site, target, target.name, number, later, survey, back, how, app.seat_of(target))
    return watch(app, target, member)


def _roll_back(app: App, target: HostTarget, number: str, dry_run: bool) -> Watched:
    if dry_run:
        would = "it would be rolled back now; nothing was done"
        app.say(f"change {number} is open: {would}")
        return Watched(EXIT_DONE, decided(target, number, would))
    target.decide(number, states.ROLL_BACK, who())
    app.say(f"change {number}: {because(target.status(number))}; the state is as it was before")
    return Watched(EXIT_DONE, decided(target, number))
