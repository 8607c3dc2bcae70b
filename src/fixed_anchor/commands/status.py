"""``fixed-anchor status``: the open change."""

from __future__ import annotations

import click
from rich.text import Text

from fixed_anchor.change import states
from fixed_anchor.change.change import ChangeStatus
from fixed_anchor.commands.common import JSON, App
from fixed_anchor.commands.watching import because, countdown, end_of, incomplete
from fixed_anchor.core.errors import EXIT_STUCK, printable
from fixed_anchor.reporting.documents import as_text, status_document
from fixed_anchor.reporting.terminal import STYLES
from fixed_anchor.workflow.linux_host import LinuxHost


@click.command(help="The open change: its state, when it is rolled back, and how to keep it.")
@JSON
@click.pass_context
def command(ctx: click.Context, as_json: bool) -> None:
    app = App(ctx)
    target = app.kept_target()
    machine = target.machine
    number = target.open_change()
    status = target.status(number) if number else None
    ends = end_of(status) if status and status.left is not None else None
    known = target.numbers()
    last = target.status(known[-1]) if status is None and known else None
    if as_json:
        click.echo(as_text(status_document(status, last, ends)))
    elif status is None:
        app.out.print(target.never_begun() or f"no change is open on {machine.name}", soft_wrap=True)
        if last is not None:
            at_boot = " at boot; nothing has verified the network since" if last.rolled_back_at_boot else ""
            app.out.print(f"the last change, {last.number} on {last.interface}, is {states.shown(last.state)}{at_boot}")
            if last.closed_by:
                app.out.print(f"  closed by {printable(last.closed_by)}", soft_wrap=True)
            if last.why:
                app.out.print(f"  {because(last)}", soft_wrap=True)
            if last.is_incomplete:
                app.out.print(f"  {incomplete(target, last.number)}", style="bold yellow", soft_wrap=True)
    else:
        line = Text(f"change {status.number} on {status.interface}: ")
        line.append(states.shown(status.state), style=STYLES.get(status.state, "bold"))
        row = states.STATES.get(status.state)
        goes_on = row.goes_on if row is not None else ""
        if status.verdict and status.state == states.WAITING:
            goes_on = "in force and looked at; it waits for its confirmation"
        line.append(f"   {goes_on}", style="dim")
        app.out.print(line)
        if status.why:
            app.out.print(f"  {because(status)}", soft_wrap=True)
        if status.verdict:
            app.out.print(f"  verification: {status.verdict}")
        if status.state == states.WAITING and ends and status.guard_alive:
            app.out.print(f"  {countdown(status)}")
        for fact in status.grace_facts:
            app.out.print(f"  stays until then: {printable(fact)}")
        _say_what_to_type(app, target, status)
    lost = status is not None and (status.state == states.STUCK or bool(status.engine_gone))
    if lost or (last is not None and last.is_incomplete):
        ctx.exit(EXIT_STUCK)


def _say_what_to_type(app: App, target: LinuxHost, status: ChangeStatus) -> None:
    number = status.number
    keep, back = (app.command_for(target.machine, f"{verb} {number}") for verb in ("confirm", "restore"))
    if status.state == states.STUCK:
        close = app.command_for(target.machine, f"close {number} --because WHY")
        log = f"{target.record_folder(number)}/log"
        app.out.print(f"  what is left to do by hand:  {log}", soft_wrap=True)
        app.out.print(f"  try once more:               {back}", soft_wrap=True)
        app.out.print(f"  accept what is there:        {close}", soft_wrap=True)
        return
    if status.engine_gone:
        app.out.print(f"  {status.engine_gone}", style="bold yellow", soft_wrap=True)
        app.out.print("  nothing rolls this change back by itself: roll it back by hand, as docs/by-hand.md says")
        return
    if not status.guard_alive:
        # `confirm`, with `--more-time` too, and `restore` start one again.
        app.out.print(
            f"  no guard is running: nothing rolls this change back by itself, also not at its deadline. Type: {back}",
            style="bold yellow",
            soft_wrap=True,
        )
    waits = status.state == states.WAITING and status.decision is None
    if waits:
        app.out.print(f"  keep it:    {keep}", soft_wrap=True)
        app.out.print(f"  more time:  {keep} --more-time 600", soft_wrap=True)
    if status.decision is None:
        app.out.print(f"  go back:    {back}", soft_wrap=True)
    plain = target.command_without_tool(number, "confirm")
    if waits and plain is not None:
        app.out.print(f"  keep it without Python:  {plain}", soft_wrap=True)
