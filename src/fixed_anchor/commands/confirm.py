"""``fixed-anchor confirm``: keep the open change, or ask for more time."""

from __future__ import annotations

import click

from fixed_anchor.change import states
from fixed_anchor.commands.app import App
from fixed_anchor.commands.chosen import Chosen, say_failed, to_act_on
from fixed_anchor.commands.common import ALL, AT_ONCE, CHANGE, HOSTS_OF_PLAN, JSON, OF_PLAN, examples
from fixed_anchor.commands.standing import countdown, decided, give_back_from_seat, last_one
from fixed_anchor.core.errors import AnchorError, NothingOpen, Refused, worst
from fixed_anchor.reporting.documents.changes import ChangeDocument, HostChanged
from fixed_anchor.reporting.documents.parts import problem
from fixed_anchor.workflow.notes import who
from fixed_anchor.workflow.reached.at_once import at_once as each_at_once
from fixed_anchor.workflow.targets import HostTarget


@click.command(
    help="Keep the open change; with --more-time, postpone its automatic rollback instead.",
    epilog=examples(
        ("sudo fixed-anchor confirm", "keep the open change of this machine"),
        ("sudo fixed-anchor confirm --more-time 600", "decide 10 min later"),
        ("fixed-anchor confirm --plan plan.yaml tide-db:0001", "keep that of another host, over a new connection"),
    ),
)
@CHANGE
@OF_PLAN
@HOSTS_OF_PLAN
@ALL
@AT_ONCE
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
    ctx: click.Context,
    change: str | None,
    plan: str | None,
    hosts: tuple[str, ...],
    every: bool,
    at_once: int,
    more_time: int | None,
    over_old_address: bool,
    as_json: bool,
) -> None:
    app = App(ctx, as_json)
    site, chosen = to_act_on(app, plan, hosts, every, change, at_once, "confirm")
    if site is not None and more_time is None and not over_old_address:
        # What is to be kept is the new address, so it is kept over that one.
        for one in chosen:
            one.target.session.at_its_addresses()

    def keep(one: Chosen) -> str:
        return _keep(app, one, more_time, over_old_address)

    with app.status(f"asking {len(chosen)} hosts" if len(chosen) > 1 else "keeping it"):
        done = each_at_once(chosen, keep, at_once, app.told)
    if len(done) == 1 and isinstance(done[0], AnchorError):
        raise done[0]
    made: list[HostChanged] = []
    for one, number in zip(chosen, done, strict=True):
        if isinstance(number, AnchorError):
            say_failed(app, one.host, number)
            made.append(HostChanged(host=one.host, error=problem(number, one.host)))
            continue
        _say(app, one.target, number, more_time, f"{one.host}: " if len(chosen) > 1 else "")
        if as_json:
            made.append(decided(one.target, number, "the deadline was postponed" if more_time is not None else None))
    failed = [n for n in done if isinstance(n, AnchorError)]
    if every and len(failed) < len(done):
        # Of all hosts those without an open change are none that failed.
        failed = [error for error in failed if not isinstance(error, NothingOpen)]
    exit_status = worst(error.exit_status for error in failed)
    if as_json:
        app.print_document(ChangeDocument(command="confirm", plan=plan, hosts=made), exit_status)
    ctx.exit(exit_status)


def _keep(app: App, one: Chosen, more_time: int | None, over_old_address: bool) -> str:
    """Keeps the open change of a host, or puts its deadline off; returns its number."""
    target, change = one.target, one.change
    if change is None:
        change = target.open_change()
        if change is None:
            none = target.never_begun() or f"no change is open on {target.name}"
            raise NothingOpen(none, remedy=last_one(target) or "there is nothing to confirm")
    number = target.number(change)
    if more_time is not None:
        target.more_time(number, more_time)
        return number
    try:
        target.decide(number, states.KEEP, who(), over_old_address)
    except Refused as refused:
        words = app.command_for(target, "confirm", number, "--over-old-address")
        raise Refused(refused.what, remedy=f"override it if there is no other way: {words}") from None
    return number


def _say(app: App, target: HostTarget, number: str, more_time: int | None, host: str) -> None:
    if app.as_json:
        return
    if more_time is not None:
        app.say(f"{host}change {number}: {countdown(target.status(number))}")
        return
    app.say(f"{host}change {number}: {states.CONFIRMED}")
    give_back_from_seat(app, target, number)
    app.type("to go back:  ", app.command_for(target, "restore", number))
