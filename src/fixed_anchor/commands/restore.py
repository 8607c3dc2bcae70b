"""``fixed-anchor restore``: go back to the saved files."""

from __future__ import annotations

import click
import msgspec

from fixed_anchor.change import states
from fixed_anchor.change.change import Draft, Terms
from fixed_anchor.commands.app import App
from fixed_anchor.commands.common import CHANGE, GRACE, JSON, NOTE, PATIENCE, addresses_to_hold, examples, patience_of
from fixed_anchor.commands.watching import because, last_one, print_decided, watch
from fixed_anchor.core.baseline import Judge
from fixed_anchor.core.errors import InputError
from fixed_anchor.reporting.documents.changes import ChangeDocument, HostChanged
from fixed_anchor.reporting.documents.drafting import host_drafted
from fixed_anchor.reporting.terminal.draft import show_draft
from fixed_anchor.workflow.carry_out import about, told, who
from fixed_anchor.workflow.linux_host import LinuxHost
from fixed_anchor.workflow.restore import last_cutover, later_ones

#: Seconds that the guard of a restore waits for its checks, where nobody asked for a wait.
_ENOUGH = 600


@click.command(
    help="Roll the open change back now. Without an open one go back to before the last cutover, or before the change "
    "that is named: guarded, and kept as soon as its checks pass.",
    epilog=examples(
        ("sudo fixed-anchor restore --dry-run", "what it would do"),
        ("sudo fixed-anchor restore 3", "go back to before change 3"),
    ),
)
@CHANGE
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
    dry_run: bool,
    confirm_within: int | None,
    grace: bool | None,
    unattended: bool,
    patience: int | None,
    note: str | None,
    as_json: bool,
) -> None:
    app = App(ctx, as_json)
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
        app.say(f"restoring change {number} {verb} the later changes: {', '.join(later)}")
    survey = target.survey()
    undone = target.recorded_baseline(number)
    drafted = target.restore_draft(number, addresses_to_hold(grace, target.machine, survey))
    if undone is not None:
        drafted = msgspec.structs.replace(drafted, reachable={i.interface: i.reachable for i in undone.interfaces})
    show_draft(app.out, [drafted])
    if dry_run:
        _say_dry(app, target, drafted)
        return
    notes = about("restore", None, drafted, [], note)
    notes |= {"restores": number, "undoes": list(later)}
    # It returns to what was good: nobody need be there, unless somebody wants to look first.
    kept_by_checks = unattended or confirm_within is None
    with app.status("looking at what answers today"):
        judge = Judge(target.baseline(drafted, survey), undone)
    wait = confirm_within or _ENOUGH
    terms = Terms(wait, kept_by_checks, notes, told(notes, drafted), judge, patience_of(patience))
    ctx.exit(watch(app, "restore", target, drafted, terms))


def _roll_back(app: App, target: LinuxHost, number: str, dry_run: bool) -> None:
    if dry_run:
        print_decided(app, "restore", target, number, "it would be rolled back now; nothing was done")
        app.say(f"change {number} is open: it would be rolled back now; nothing was done")
        return
    target.decide(number, states.ROLL_BACK, who())
    print_decided(app, "restore", target, number)
    app.say(f"change {number}: {because(target.status(number))}; the state is as it was before")


def _say_dry(app: App, target: LinuxHost, drafted: Draft) -> None:
    if app.as_json:
        made = HostChanged(host=target.name, done="nothing was done", draft=host_drafted(drafted))
        app.print_document(ChangeDocument(command="restore", hosts=[made]))
    app.say("nothing was done")
