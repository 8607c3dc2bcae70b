"""``fixed-anchor history``: the changes of a host, and the log of one."""

from __future__ import annotations

import click
from rich.table import Table
from rich.text import Text

from fixed_anchor.commands.common import JSON, App
from fixed_anchor.core.errors import printable
from fixed_anchor.reporting.documents import as_text
from fixed_anchor.reporting.terminal import STYLES
from fixed_anchor.workflow.history import Past, history


@click.command(help="The changes of this host, newest last; with a number, the log of that one.")
@click.argument("change", required=False)
@JSON
@click.pass_context
def command(ctx: click.Context, change: str | None, as_json: bool) -> None:
    app = App(ctx)
    target = app.target()
    chosen = target.number(change) if change else None
    past = [p for p in history(target) if chosen in (None, p.number)]
    if as_json:
        click.echo(as_text({"format": 1, "changes": [_document(p) for p in past]}))
        return
    if not past:
        app.out.print(f"there was no change on {target.name} yet")
    table = Table(box=None, show_header=False, padding=(0, 2, 0, 0))
    for entry in past:
        state = Text(entry.state, style=STYLES.get(entry.state, "bold"))
        names = printable(", ".join(entry.interfaces))
        table.add_row(
            Text(entry.number, style="bold"), state, entry.kind, names, printable(entry.begun), printable(entry.by)
        )
    app.out.print(table)
    for entry in past if chosen else []:
        for accepted in entry.accepted:
            app.out.print(printable(f"accepted: {accepted}"))
        for line in entry.log:
            app.out.print(Text(printable(line)), soft_wrap=True)


def _document(past: Past) -> dict[str, object]:
    return {
        "change": past.number,
        "state": past.state,
        "kind": past.kind,
        "interfaces": list(past.interfaces),
        "begun": past.begun,
        "by": past.by,
        "plan_sha256": past.plan_sha256,
        "accepted": list(past.accepted),
        "log": list(past.log),
    }
