"""``fixed-anchor history``: the changes of hosts, and the log of one."""

from __future__ import annotations

import click
from rich.text import Text

from fixed_anchor.commands.app import App
from fixed_anchor.commands.chosen import Chosen, say_failed, to_look_at
from fixed_anchor.commands.common import AT_ONCE, CHANGE, HOSTS_OF_PLAN, JSON, OF_PLAN, examples
from fixed_anchor.commands.history_of_runs import show_runs
from fixed_anchor.core.errors import AnchorError, worst
from fixed_anchor.reporting.documents.changes import HistoryDocument, HostHistory, host_history
from fixed_anchor.reporting.documents.parts import problem
from fixed_anchor.reporting.terminal.paper import STYLES, put, put_table, styled
from fixed_anchor.workflow.history import Past, history
from fixed_anchor.workflow.reached.at_once import at_once as each_at_once


@click.command(
    help="The changes of this host, newest last; with a number, the log of that one.",
    epilog=examples(
        ("sudo fixed-anchor history", "every change of this host"),
        ("sudo fixed-anchor history 3", "the log of one"),
        ("fixed-anchor history --plan plan.yaml", "those of all hosts that the plan reaches"),
        ("fixed-anchor history --runs 4", "each turn of run 4"),
    ),
)
@CHANGE
@OF_PLAN
@HOSTS_OF_PLAN
@click.option(
    "--runs", is_flag=True, help="The runs of `cutover --all` from this seat; with a number, the turns of that one."
)
@AT_ONCE
@JSON
@click.pass_context
def command(
    ctx: click.Context,
    change: str | None,
    plan: str | None,
    hosts: tuple[str, ...],
    runs: bool,
    at_once: int,
    as_json: bool,
) -> None:
    app = App(ctx, as_json)
    if runs:
        if plan is not None or hosts:
            raise click.UsageError("--runs is about this seat: leave --plan and --host out")
        ctx.exit(show_runs(app, change))
    _, chosen = to_look_at(app, plan, hosts, change, at_once)
    with app.status("reading the changes"):
        found = each_at_once(chosen, _of_one, at_once, app.told)
    if len(found) == 1 and isinstance(found[0], AnchorError):
        raise found[0]
    exit_status = worst(one.exit_status for one in found if isinstance(one, AnchorError))
    if as_json:
        told = [_document(one, past) for one, past in zip(chosen, found, strict=True)]
        app.print_document(HistoryDocument(command="history", hosts=told), exit_status)
    with_host = len(chosen) > 1
    rows: list[list[str | Text]] = []
    under: list[list[str]] = []
    for one, past in zip(chosen, found, strict=True):
        for entry in past if not isinstance(past, AnchorError) else ():
            rows.append([*([styled(one.host, "bold")] if with_host else []), *_row(entry)])
            under.append(_why(entry) if one.change is None else [])
    if rows:
        head = ["change", "state", "kind", "on", "begun", "by"]
        put_table(app.out, ["host", *head] if with_host else head, rows, under=under)
    for one, past in zip(chosen, found, strict=True):
        if isinstance(past, AnchorError):
            say_failed(app, one.host, past)
        elif not past:
            app.say(one.target.never_begun() or f"there was no change on {one.target.name} yet")
        elif one.change is not None:
            _say_all(app, past[0])
    ctx.exit(exit_status)


def _of_one(one: Chosen) -> list[Past]:
    number = one.target.number(one.change) if one.change else None
    return [past for past in history(one.target) if number in (None, past.number)]


def _document(one: Chosen, past: list[Past] | AnchorError) -> HostHistory:
    if isinstance(past, AnchorError):
        return HostHistory(host=one.host, error=problem(past, one.host))
    return host_history(one.target.name, past)


def _row(past: Past) -> list[str | Text]:
    state = past.state + (", not complete" if past.is_incomplete else "")
    return [
        past.number,
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
