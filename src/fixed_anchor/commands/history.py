"""``fixed-anchor history``: the changes of a host, and the log of one."""

from __future__ import annotations

from collections.abc import Callable

import click
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
    target = app.kept_target()
    chosen = target.number(change) if change else None
    past = [p for p in history(target) if chosen in (None, p.number)]
    if as_json:
        click.echo(as_text({"format": 1, "changes": [_document(p) for p in past]}))
        return
    if not past:
        app.out.print(target.never_begun() or f"there was no change on {target.name} yet", soft_wrap=True)
    widths = [max((len(column(e)) for e in past), default=0) for column in _COLUMNS]
    for entry in past:
        row = Text()
        for number, (column, width) in enumerate(zip(_COLUMNS, widths, strict=True)):
            style = ("bold", STYLES.get(entry.state, "bold"))[number] if number < 2 else ""
            row.append(column(entry).ljust(width + 2), style=style)
        row.rstrip()
        app.out.print(row, soft_wrap=True)
        if not chosen:
            why = entry.why if not entry.why or entry.closed else f"because {entry.why}"
            for text in (why, f"note: {entry.note}" if entry.note else ""):
                if text:
                    app.out.print(Text(f"      {printable(text)}", style="dim"), soft_wrap=True)
    for entry in past if chosen else []:
        for name, text in (("why", entry.why), ("note", entry.note), ("evidence", entry.evidence)):
            if text:
                app.out.print(printable(f"{name}: {text}"), soft_wrap=True)
        for accepted in entry.accepted:
            app.out.print(printable(f"accepted: {accepted}"))
        for line in entry.log:
            app.out.print(Text(printable(line)), soft_wrap=True)


#: What a line of the list says of a change.
_COLUMNS: tuple[Callable[[Past], str], ...] = (
    lambda past: past.number,
    lambda past: past.state,
    lambda past: past.kind,
    lambda past: printable(", ".join(past.interfaces)),
    lambda past: printable(past.begun),
    lambda past: printable(past.by),
)


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
        "why": past.why or None,
        "note": past.note or None,
        "evidence": past.evidence or None,
        "log": list(past.log),
    }
