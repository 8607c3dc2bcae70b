"""``fixed-anchor close``: accept what is there, of a change that could not be rolled back."""

from __future__ import annotations

import click

from fixed_anchor.change import states
from fixed_anchor.commands import offers
from fixed_anchor.commands.app import App
from fixed_anchor.commands.common import JSON, examples
from fixed_anchor.commands.watching import print_decided
from fixed_anchor.core.errors import InputError
from fixed_anchor.workflow.carry_out import who


@click.command(
    help="Accept the present state of a change that could not be rolled back. Nothing of the host is touched; the "
    "next boot leaves it alone, and another change can begin.",
    epilog=examples(
        ("sudo fixed-anchor close 3 --because 'repaired by hand'", "accept what is there"),
        ("sudo fixed-anchor close 0003 --because 'ticket 1204' --json", "the same, answered as JSON"),
    ),
)
@click.argument("change", metavar="CHANGE", shell_complete=offers.changes)
@click.option("--because", required=True, metavar="TEXT", help="Why; it is kept in the change's log.")
@JSON
@click.pass_context
def command(ctx: click.Context, change: str, because: str, as_json: bool) -> None:
    app = App(ctx, as_json)
    if not because.strip():
        raise InputError("--because is empty", expected="why the state is accepted as it is")
    target = app.kept_target()
    number = target.number(change)
    target.close(number, who(), " ".join(because.split()))
    print_decided(app, "close", target, number)
    app.say(f"change {number}: {states.CLOSED}   what is there now was accepted; another change can begin")
