"""``fixed-anchor close``: accept what is there, of a change that could not be rolled back."""

from __future__ import annotations

import click

from fixed_anchor.change import states
from fixed_anchor.commands import offers
from fixed_anchor.commands.app import App
from fixed_anchor.commands.chosen import to_act_on
from fixed_anchor.commands.common import JSON, OF_PLAN, examples
from fixed_anchor.commands.standing import decided
from fixed_anchor.core.errors import InputError
from fixed_anchor.reporting.documents.changes import ChangeDocument
from fixed_anchor.workflow.notes import who


@click.command(
    help="Accept the present state of a change that could not be rolled back. Nothing of the host is touched; the "
    "next boot leaves it alone, and another change can begin.",
    epilog=examples(
        ("sudo fixed-anchor close 3 --because 'repaired by hand'", "accept what is there"),
        ("sudo fixed-anchor close 0003 --because 'ticket 1204' --json", "the same, answered as JSON"),
    ),
)
@click.argument("change", metavar="CHANGE", shell_complete=offers.changes)
@OF_PLAN
@click.option("--because", required=True, metavar="TEXT", help="Why; it is kept in the change's log.")
@JSON
@click.pass_context
def command(ctx: click.Context, change: str, plan: str | None, because: str, as_json: bool) -> None:
    app = App(ctx, as_json)
    if not because.strip():
        raise InputError("--because is empty", expected="why the state is accepted as it is")
    _, (one,) = to_act_on(app, plan, (), False, change, 1, "close")
    target = one.target
    number = target.number(one.change or "")
    target.close(number, who(), " ".join(because.split()))
    if as_json:
        app.print_document(ChangeDocument(command="close", plan=plan, hosts=[decided(target, number)]))
    app.say(f"change {number}: {states.CLOSED}   what is there now was accepted; another change can begin")
