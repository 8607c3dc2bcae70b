"""``fixed-anchor status``: the open change."""

from __future__ import annotations

import click
from rich.text import Text

from fixed_anchor.change import states
from fixed_anchor.change.change import ChangeStatus
from fixed_anchor.commands.app import App
from fixed_anchor.commands.common import JSON, examples
from fixed_anchor.commands.watching import because, countdown, incomplete
from fixed_anchor.core.errors import EXIT_DONE, EXIT_STUCK
from fixed_anchor.reporting.documents.changes import Change, HostStatus, StatusDocument, change
from fixed_anchor.reporting.terminal.paper import STYLES
from fixed_anchor.workflow.linux_host import LinuxHost


@click.command(
    help="The open change: its state, when it is rolled back, and how to keep it.",
    epilog=examples(
        ("sudo fixed-anchor status", "what is open, and what to type"),
        ("sudo fixed-anchor status --json", "the same for a program"),
    ),
)
@JSON
@click.pass_context
def command(ctx: click.Context, as_json: bool) -> None:
    app = App(ctx, as_json)
    target = app.kept_target()
    number = target.open_change()
    status = target.status(number) if number else None
    known = target.numbers()
    last = target.status(known[-1]) if status is None and known else None
    lost = status is not None and (status.state == states.STUCK or bool(status.engine_gone))
    exit_status = EXIT_STUCK if lost or (last is not None and last.is_incomplete) else EXIT_DONE
    if as_json:
        name = target.name
        shown = HostStatus(host=name, open=_now(name, status), last=_now(name, last))
        app.print_document(StatusDocument(command="status", hosts=[shown]), exit_status)
    if status is not None:
        _show_open(app, target, status)
    else:
        app.say(target.never_begun() or f"no change is open on {target.name}")
        if last is not None:
            _show_last(app, target, last)
    ctx.exit(exit_status)


def _now(host: str, status: ChangeStatus | None) -> Change | None:
    return None if status is None else change(host, status)


def _show_last(app: App, target: LinuxHost, last: ChangeStatus) -> None:
    at_boot = " at boot; nothing has verified the network since" if last.rolled_back_at_boot else ""
    app.say(f"the last change, {last.number} on {last.interface}, is {states.shown(last.state)}{at_boot}")
    if last.closed_by:
        app.say(f"closed by {last.closed_by}", indent=2)
    if last.why:
        app.say(because(last), indent=2)
    if last.is_incomplete:
        app.say(incomplete(target, last.number), indent=2, style="bold yellow")


def _show_open(app: App, target: LinuxHost, status: ChangeStatus) -> None:
    line = Text(f"change {status.number} on {status.interface}: ")
    line.append(states.shown(status.state), style=STYLES.get(status.state, "bold"))
    row = states.STATES.get(status.state)
    goes_on = row.goes_on if row is not None else ""
    if status.verdict and status.state == states.WAITING:
        goes_on = "in force and looked at; it waits for its confirmation"
    app.say(line.append(f"   {goes_on}", style="dim"))
    if status.why:
        app.say(because(status), indent=2)
    if status.verdict:
        app.say(f"verification: {status.verdict.replace('-', ' ')}", indent=2)
    if status.state == states.WAITING and status.left is not None and status.guard_alive:
        app.say(countdown(status), indent=2)
    for fact in status.grace_facts:
        app.say(f"stays until then: {fact}", indent=2)
    _say_what_to_type(app, target, status)


def _say_what_to_type(app: App, target: LinuxHost, status: ChangeStatus) -> None:
    number = status.number
    keep, back = (app.command_for(target.machine, f"{verb} {number}") for verb in ("confirm", "restore"))
    if status.state == states.STUCK:
        app.type("what is left to do by hand:  ", f"{target.record_folder(number)}/log")
        app.type("try once more:               ", back)
        app.type("accept what is there:        ", app.command_for(target.machine, f"close {number} --because WHY"))
        return
    if status.engine_gone:
        app.say(status.engine_gone, indent=2, style="bold yellow")
        app.say("nothing rolls this change back by itself: roll it back by hand, as docs/by-hand.md says", indent=2)
        return
    if not status.guard_alive:
        # `confirm`, with `--more-time` too, and `restore` start one again.
        app.say(
            "no guard is running: nothing rolls this change back by itself, also not at its deadline. Type:",
            indent=2,
            style="bold yellow",
        )
        app.type("", back, indent=4)
    waits = status.state == states.WAITING and status.decision is None
    if waits:
        app.type("keep it:    ", keep)
        app.type("more time:  ", f"{keep} --more-time 600")
    if status.decision is None:
        app.type("go back:    ", back)
    plain = target.command_without_tool(number, "confirm")
    if waits and plain is not None:
        app.type("keep it without Python:  ", plain)
