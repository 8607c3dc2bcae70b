"""``fixed-anchor restore``: go back to the saved files."""

from __future__ import annotations

import click
import msgspec

from fixed_anchor.change import states
from fixed_anchor.change.change import Draft, Terms
from fixed_anchor.commands.common import GRACE, NOTE, PATIENCE, App, addresses_to_hold, patience_of
from fixed_anchor.commands.watching import because, last_one, watch
from fixed_anchor.core.baseline import Judge
from fixed_anchor.core.errors import InputError
from fixed_anchor.reporting.terminal import show_draft
from fixed_anchor.workflow.carry_out import about, told, who
from fixed_anchor.workflow.linux_host import LinuxHost
from fixed_anchor.workflow.restore import last_cutover, later_ones

#: Seconds that the guard of a restore waits for its checks, where nobody asked for a wait.
_ENOUGH = 600


@click.command(
    help="Roll the open change back now. Without an open one go back to before the last cutover, or before the change "
    "that is named: guarded, and kept as soon as its checks pass."
)
@click.argument("change", required=False)
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
@click.pass_context
def command(
    ctx: click.Context,
    change: str | None,
    dry_run: bool,
    confirm_within: int | None,
    grace: bool | None,
    unattended: bool,
    patience: int | None,
    note: str | None,
) -> None:
    app = App(ctx)
    target = app.kept_target()
    refusal = target.machine.why_no_change()
    if refusal is not None and not dry_run:
        raise refusal
    already = target.open_change()
    try:
        number = target.number(change) if change else already or last_cutover(target.machine)
    except InputError as error:
        if change is None:
            error.remedy = last_one(target) or error.remedy
        raise
    if number == already:
        _roll_back(app, target, number, dry_run)
        return
    later = later_ones(target.machine, number)
    if later:
        verb = "would also undo" if dry_run else "also undoes"
        app.out.print(f"restoring change {number} {verb} the later changes: {', '.join(later)}")
    survey = target.survey()
    undone = target.recorded_baseline(number)
    drafted = target.restore_draft(number, addresses_to_hold(grace, target.machine, survey))
    if undone is not None:
        drafted = msgspec.structs.replace(drafted, reachable={i.interface: i.reachable for i in undone.interfaces})
    show_draft(app.out, [drafted])
    if dry_run:
        _say_dry(app, drafted)
        return
    notes = about("restore", None, drafted, [], note)
    notes |= {"restores": number, "undoes": list(later)}
    # It returns to what was good: nobody need be there, unless somebody wants to look first.
    kept_by_checks = unattended or confirm_within is None
    with app.status("looking at what answers today"):
        judge = Judge(target.baseline(drafted, survey), undone)
    wait = confirm_within or _ENOUGH
    terms = Terms(wait, kept_by_checks, notes, told(notes, drafted), judge, patience_of(patience))
    ctx.exit(watch(app, target, drafted, terms))


def _roll_back(app: App, target: LinuxHost, number: str, dry_run: bool) -> None:
    if dry_run:
        app.out.print(f"change {number} is open: it would be rolled back now; nothing was done")
        return
    target.decide(number, states.ROLL_BACK, who())
    app.out.print(f"change {number}: {because(target.status(number))}; the state is as it was before", soft_wrap=True)


def _say_dry(app: App, drafted: Draft) -> None:
    from fixed_anchor.change.steps import argv_of

    steps = drafted.content.steps
    for step in (*steps.leave, *steps.activate):
        app.out.print(f"  then: {' '.join(argv_of(step))}", soft_wrap=True)
    app.out.print("nothing was done")
