"""``fixed-anchor history``: the changes of a host, and the log of one."""

from __future__ import annotations

import click
from rich.text import Text

from fixed_anchor.commands.app import App
from fixed_anchor.commands.common import CHANGE, JSON, examples
from fixed_anchor.reporting.documents.changes import HistoryDocument, host_history
from fixed_anchor.reporting.terminal.paper import STYLES, put, put_table, styled
from fixed_anchor.workflow.history import Past, history


@click.command(
    help="The changes of this host, newest last; with a number, the log of that one.",
    epilog=examples(
        ("sudo fixed-anchor history", "every change of this host"), ("sudo fixed-anchor history 3", "the log of one")
    ),
)
@CHANGE
@JSON
@click.pass_context
def command(ctx: click.Context, change: str | None, as_json: bool) -> None:
    app = App(ctx, as_json)
    target = app.kept_target()
    chosen = target.number(change) if change else None
    past = [p for p in history(target) if chosen in (None, p.number)]
    if as_json:
        app.print_document(HistoryDocument(command="history", hosts=[host_history(target.name, past)]))
    if not past:
        app.say(target.never_begun() or f"there was no change on {target.name} yet")
        return
    under = [_why(p) for p in past] if not chosen else []
    put_table(app.out, ["change", "state", "kind", "on", "begun", "by"], [_row(p) for p in past], under=under)
    for entry in past if chosen else []:
        _say_all(app, entry)


def _row(past: Past) -> list[str | Text]:
    state = past.state + (", not complete" if past.is_incomplete else "")
    return [
        styled(past.number, "bold"),
        styled(state, STYLES.get(past.state, "bold")),
        past.kind,
        ", ".join(past.interfaces),
        past.begun,
        past.by,
    ]


def _why(past: Past) -> list[str]:
    """What is worth a line below a row."""
    why = f"closed by {past.closed_by}" if past.closed_by else f"because {past.why}" if past.why else ""
    return [text for text in (why, f"note: {past.note}" if past.note else "") if text]


def _say_all(app: App, past: Past) -> None:
    why = f"closed by {past.closed_by}" if past.closed_by else past.why
    for name, text in (("why", why), ("note", past.note), ("evidence", past.evidence)):
        if text:
            app.say(f"{name}: {text}")
    for accepted in past.accepted:
        app.say(f"accepted: {accepted}")
    for line in past.log:
        put(app.out, line, hang=23)
