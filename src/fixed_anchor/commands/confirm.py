"""``fixed-anchor confirm``: keep the open change, or ask for more time."""

from __future__ import annotations

import click

from fixed_anchor.change import states
from fixed_anchor.commands.app import App
from fixed_anchor.commands.common import CHANGE, JSON, examples
from fixed_anchor.commands.watching import countdown, last_one, print_decided
from fixed_anchor.core.errors import ChangeOpen, Refused
from fixed_anchor.workflow.carry_out import who


@click.command(
    help="Keep the open change; with --more-time, postpone its automatic rollback instead.",
    epilog=examples(
        ("sudo fixed-anchor confirm", "keep the open change"),
        ("sudo fixed-anchor confirm --more-time 600", "decide 10 min later"),
    ),
)
@CHANGE
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
@JSON
@click.pass_context
def command(
    ctx: click.Context, change: str | None, more_time: int | None, over_old_address: bool, as_json: bool
) -> None:
    app = App(ctx, as_json)
    target = app.kept_target()
    if change is None:
        change = target.open_change()
        if change is None:
            none = target.never_begun() or f"no change is open on {target.name}"
            raise ChangeOpen(none, remedy=last_one(target) or "there is nothing to confirm")
    number = target.number(change)
    if more_time is not None:
        target.more_time(number, more_time)
        print_decided(app, "confirm", target, number, "the deadline was postponed")
        app.say(f"change {number}: {countdown(target.status(number))}")
        return
    try:
        target.decide(number, states.KEEP, who(), over_old_address)
    except Refused as refused:
        words = app.command_for(target.machine, f"confirm {number} --over-old-address")
        raise Refused(refused.what, remedy=f"override it if there is no other way: {words}") from None
    print_decided(app, "confirm", target, number)
    app.say(f"change {number}: {states.CONFIRMED}")
    app.type("to go back:  ", app.command_for(target.machine, f"restore {number}"))
