"""``fixed-anchor status``: the open change."""

from __future__ import annotations

from collections.abc import Iterator

import click
import msgspec
from rich.text import Text

from fixed_anchor.change import states
from fixed_anchor.change.change import ChangeStatus
from fixed_anchor.commands.app import App
from fixed_anchor.commands.chosen import Chosen, to_look_at
from fixed_anchor.commands.common import AT_ONCE, HOSTS_OF_PLAN, JSON, OF_PLAN, examples
from fixed_anchor.commands.standing import because, countdown, incomplete
from fixed_anchor.core.errors import EXIT_DONE, EXIT_STUCK, AnchorError, printable, worst
from fixed_anchor.reporting.documents.changes import Change, HostStatus, StatusDocument, change
from fixed_anchor.reporting.documents.parts import problem
from fixed_anchor.reporting.terminal.paper import STYLES, put_table, styled
from fixed_anchor.workflow.reached.at_once import at_once as each_at_once
from fixed_anchor.workflow.targets import HostTarget


class _Found(msgspec.Struct, frozen=True):
    """The open change of a host, or else its last one."""

    open: ChangeStatus | None
    last: ChangeStatus | None

    @property
    def exit_status(self) -> int:
        """5 where a person is needed."""
        now = self.open
        lost = now is not None and (now.state == states.STUCK or bool(now.engine_gone))
        return EXIT_STUCK if lost or (self.last is not None and self.last.is_incomplete) else EXIT_DONE


@click.command(
    help="The open change: its state, when it is rolled back, and how to keep it.",
    epilog=examples(
        ("sudo fixed-anchor status", "what is open on this machine, and what to type"),
        ("fixed-anchor status --plan plan.yaml", "what is open on the hosts that the plan reaches"),
        ("sudo fixed-anchor status --json", "the same for a program"),
    ),
)
@OF_PLAN
@HOSTS_OF_PLAN
@AT_ONCE
@JSON
@click.pass_context
def command(ctx: click.Context, plan: str | None, hosts: tuple[str, ...], at_once: int, as_json: bool) -> None:
    app = App(ctx, as_json)
    site, chosen = to_look_at(app, plan, hosts, None, at_once)
    if site is not None:
        # A host that went back to DHCP may be anywhere.
        site.whereabouts.asks_segments = True
    with app.status("asking"):
        found = each_at_once(chosen, _of_one, at_once, app.told)
    if len(found) == 1 and isinstance(found[0], AnchorError):
        raise found[0]
    exit_status = worst(one.exit_status for one in found)
    if as_json:
        told = [_document(one, now) for one, now in zip(chosen, found, strict=True)]
        app.print_document(StatusDocument(command="status", hosts=told), exit_status)
    if len(chosen) > 1:
        put_table(app.out, ["host", "change", "state", "on", "what now"], list(_rows(chosen, found)))
    for one, now in zip(chosen, found, strict=True):
        if isinstance(now, AnchorError):
            continue
        if now.open is not None:
            if len(chosen) > 1:
                app.say("")
                app.say(one.host, style="bold")
            _show_open(app, one.target, now.open)
        elif len(chosen) == 1:
            app.say(one.target.never_begun() or f"no change is open on {one.target.name}")
            if now.last is not None:
                _show_last(app, one.target, now.last)
    ctx.exit(exit_status)


def _of_one(one: Chosen) -> _Found:
    target = one.target
    number = target.open_change()
    known = target.numbers() if number is None else []
    return _Found(target.status(number) if number else None, target.status(known[-1]) if known else None)


def _document(one: Chosen, now: _Found | AnchorError) -> HostStatus:
    if isinstance(now, AnchorError):
        return HostStatus(host=one.host, error=problem(now, one.host))
    return HostStatus(host=one.host, open=_now(one.host, now.open), last=_now(one.host, now.last))


def _rows(chosen: list[Chosen], found: list[_Found | AnchorError]) -> Iterator[list[str | Text]]:
    """A line for each host, also for one that does not answer."""
    for one, now in zip(chosen, found, strict=True):
        if isinstance(now, AnchorError):
            yield [styled(one.host, "bold"), "", styled("unknown", "bold yellow"), "", str(now)]
            continue
        status = now.open or now.last
        if status is None:
            yield [styled(one.host, "bold"), "", "never changed", "", ""]
            continue
        state = styled(states.shown(status.state), STYLES.get(status.state, "bold"))
        yield [styled(one.host, "bold"), status.number, state, status.interface, _what_now(now, status)]


def _what_now(now: _Found, status: ChangeStatus) -> str:
    if now.open is None:
        return printable(status.why)
    if status.state == states.STUCK or status.engine_gone:
        return "a person is needed; see below"
    if not status.guard_alive:
        return "no guard is running; see below"
    return countdown(status) if status.state == states.WAITING and status.left is not None else "under way"


def _now(host: str, status: ChangeStatus | None) -> Change | None:
    return None if status is None else change(host, status)


def _show_last(app: App, target: HostTarget, last: ChangeStatus) -> None:
    at_boot = " at boot; nothing has verified the network since" if last.rolled_back_at_boot else ""
    app.say(f"the last change, {last.number} on {last.interface}, is {states.shown(last.state)}{at_boot}")
    if last.closed_by:
        app.say(f"closed by {last.closed_by}", indent=2)
    if last.why:
        app.say(because(last), indent=2)
    if last.is_incomplete:
        app.say(incomplete(target, last.number), indent=2, style="bold yellow")


def _show_open(app: App, target: HostTarget, status: ChangeStatus) -> None:
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


def _say_what_to_type(app: App, target: HostTarget, status: ChangeStatus) -> None:
    number = status.number
    keep, back = (app.command_for(target, verb, number) for verb in ("confirm", "restore"))
    if status.state == states.STUCK:
        app.type("what is left to do by hand:  ", f"{target.record_folder(number)}/log")
        app.type("try once more:               ", back)
        app.type("accept what is there:        ", app.command_for(target, "close", number, "--because", "WHY"))
        return
    if status.engine_gone:
        app.say(status.engine_gone, indent=2, style="bold yellow")
        page = target.by_hand_page
        app.say(f"nothing rolls this change back by itself: roll it back by hand, as {page} says", indent=2)
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
        app.type("keep it without Python:  " if target.rights.has_tool else "keep it on the host itself:  ", plain)
