"""``fixed-anchor confirm``: keep the open change, or ask for more time."""

from __future__ import annotations

import click

from fixed_anchor.change import states
from fixed_anchor.commands.common import App
from fixed_anchor.commands.watching import countdown, last_one
from fixed_anchor.core.errors import ChangeOpen, Refused
from fixed_anchor.workflow.carry_out import who


@click.command(help="Keep the open change; with --more-time, postpone its automatic rollback instead.")
@click.argument("change", required=False)
@click.option(
    "--more-time",
    type=click.IntRange(1, 86400),
    metavar="SECONDS",
    help="Postpone the automatic rollback by this much instead of deciding.",
)
@click.option(
    "--over-old-address",
    is_flag=True,
    help="Confirm although your session still uses the old address; that does not prove that the new one works.",
)
@click.pass_context
def command(ctx: click.Context, change: str | None, more_time: int | None, over_old_address: bool) -> None:
    app = App(ctx)
    target = app.kept_target()
    if change is None:
        change = target.open_change()
        if change is None:
            none = target.never_begun() or f"no change is open on {target.name}"
            raise ChangeOpen(none, remedy=last_one(target) or "there is nothing to confirm")
    number = target.number(change)
    if more_time is not None:
        target.more_time(number, more_time)
        status = target.status(number)
        app.out.print(f"change {number}: {countdown(status)}")
        return
    try:
        target.decide(number, states.KEEP, who(), over_old_address)
    except Refused as refused:
        words = app.command_for(target.machine, f"confirm {number} --over-old-address")
        raise Refused(refused.what, remedy=f"override it if there is no other way: {words}") from None
    back = app.command_for(target.machine, f"restore {number}")
    app.out.print(f"change {number}: {states.CONFIRMED}   to go back: {back}", soft_wrap=True)
