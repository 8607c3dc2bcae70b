"""``fixed-anchor restore``: go back to the saved files."""

from __future__ import annotations

import click

from fixed_anchor.change import states
from fixed_anchor.change.change import Terms
from fixed_anchor.commands.common import CONFIRM_WITHIN, GRACE, UNATTENDED, App, addresses_to_hold
from fixed_anchor.commands.watching import watch
from fixed_anchor.core.errors import InputError
from fixed_anchor.reporting.terminal import show_draft
from fixed_anchor.workflow.carry_out import about, told, who
from fixed_anchor.workflow.linux_host import LinuxHost
from fixed_anchor.workflow.restore import later_ones


@click.command(help="Roll the open change back now; without one, go back behind a confirmed change, guarded.")
@click.argument("change", required=False)
@CONFIRM_WITHIN
@GRACE
@UNATTENDED
@click.pass_context
def command(ctx: click.Context, change: str | None, confirm_within: int, grace: bool | None, unattended: bool) -> None:
    app = App(ctx)
    target = app.target()
    refusal = target.machine.why_no_change()
    if refusal is not None:
        raise refusal
    already = target.open_change()
    if change is None:
        change = already or _latest_confirmed(target)
    number = target.number(change)
    if number == already:
        target.decide(number, states.ROLL_BACK, who())
        app.out.print(f"change {number}: {states.ROLLED_BACK}   the state is as it was before")
        return
    later = later_ones(target.machine, number)
    if later:
        app.out.print(f"restoring change {number} also undoes the later changes: {', '.join(later)}")
    drafted = target.restore_draft(number, addresses_to_hold(grace, target.machine, target.survey()))
    show_draft(app.out, [drafted])
    notes = about("restore", None, drafted, [])
    notes |= {"restores": number, "undoes": list(later)}
    ctx.exit(watch(app, target, drafted, Terms(confirm_within, unattended, notes, told(notes, drafted))))


def _latest_confirmed(target: LinuxHost) -> str:
    for number in reversed(target.numbers()):
        if target.status(number).state == states.CONFIRMED:
            return number
    raise InputError(f"there is no change to restore on {target.name}")
