"""``fixed-anchor cutover --at``, ``--keep`` and ``--pick``: the plan of one host, made on the way."""

from __future__ import annotations

import time
from pathlib import Path

import click
import msgspec

from fixed_anchor.commands.app import App
from fixed_anchor.commands.given import given_hosts, vantage_of
from fixed_anchor.core.addresses import AddressRange, IPAddress, IPNetwork, parse_range
from fixed_anchor.core.errors import InputError, printable
from fixed_anchor.disk.durable import write_beside
from fixed_anchor.planfile.reader import plan_from_text
from fixed_anchor.planfile.writer import plan_text
from fixed_anchor.workflow.propose import propose, with_pick
from fixed_anchor.workflow.reached.site import Site
from fixed_anchor.workflow.reaching import way_from_anywhere
from fixed_anchor.workflow.seat_folder import seat_folder


class Wish(msgspec.Struct, frozen=True):
    """What somebody wants of one host: the address ``at`` (with its prefix), today's, or one that is picked.

    ``host`` is how it is reached, ``None`` for this machine. ``pools`` are ``None`` where nobody has said. ``output``
    is the plan to write; ``yes`` answers the question before the change.
    """

    at: tuple[IPAddress, int | None] | None
    picks: bool
    host: str | None
    interface: str | None
    pools: tuple[AddressRange, ...] | None
    output: str | None
    yes: bool


class OnePlan:
    """The plan of one host: its text, the file that it will be, and the site that it makes."""

    def __init__(self, app: App, wish: Wish) -> None:
        self._app, self._wish = app, wish
        if wish.output is not None and Path(wish.output).exists():
            raise InputError("the file exists already", file=wish.output, remedy=f"Use it: `cutover {wish.output}`.")
        folder = Path(wish.output).absolute().parent if wish.output is not None else seat_folder() / "plans"
        with app.status("taking stock"):
            (given,) = given_hosts(app, None, (wish.host,) if wish.host is not None else (), 1, None, folder)
        # Of a plan that lies in the state folder it is the same host, wherever that is used from.
        reach = given.reach if wish.output is not None else way_from_anywhere(None, given.name, wish.host)
        address, prefix = wish.at if wish.at is not None else (None, None)
        proposed = propose(msgspec.to_builtins(given.stock), wish.interface, address, wish.pools, prefix)
        if wish.pools is None and app.can_ask:
            proposed = msgspec.structs.replace(proposed, pools=_asked_pools(app, proposed.subnet))
        proposed = msgspec.structs.replace(proposed, host=given.name, reach=reach)
        if wish.picks:
            with app.status("probing the segment for a free address, about 7 s"):
                proposed = with_pick(proposed, None, folder, vantage_of(given, proposed.interface))
        self.text = plan_text([proposed])
        name = f"{given.name}-{time.strftime('%Y%m%dT%H%M%S')}.yaml"
        self.file = wish.output if wish.output is not None else str(folder / name)
        self.host = given.name if wish.host is not None else None
        app.say(f"the plan ({self.file})", style="bold")
        for line in self.text.splitlines():
            app.say(printable(line), indent=2)
        app.say("")

    def site(self) -> Site:
        """The site of this plan, with its one host."""
        return self._app.reach.site_of(plan_from_text(self.text, self.file))

    def may_begin(self, what: str) -> bool:
        """Asks the person at the terminal once, and writes the plan where the answer is yes."""
        if not self._wish.yes and not _confirmed(self._app, f"Begin the change of {what}?"):
            self._app.say("nothing was changed")
            return False
        write_beside(Path(self.file), self.text.encode(), 0o600 if self._wish.output is None else 0o644)
        return True


def refuse_unasked(app: App, yes: bool, dry_run: bool) -> None:
    """Raises a usage error where a change would wait for an answer that nobody can give."""
    if not (yes or dry_run or app.can_ask):
        raise click.UsageError("without a terminal nobody can be asked before the change: say --yes")


def _confirmed(app: App, question: str) -> bool:
    try:
        return click.confirm(question, default=False, err=True)
    except click.Abort:
        raise _interrupted(app) from None


def _asked_pools(app: App, subnet: IPNetwork) -> tuple[AddressRange, ...] | None:
    """The pools of a subnet, as a person at the terminal knows them; ``None`` where they do not."""
    app.remark(
        f"Which addresses of {subnet} does its DHCP server hand out? This host cannot see that, and an address inside "
        "such a pool is given to somebody else one day. Type FIRST-LAST, several with commas, `none` where there is no "
        "DHCP server, or nothing if you do not know: then the check says undetermined, and the change is refused."
    )
    while True:
        try:
            answer = str(click.prompt("DHCP pools", default="", show_default=False, err=True)).strip()
        except click.Abort:
            raise _interrupted(app) from None
        if answer.lower() == "none":
            return ()
        if not answer:
            return None
        try:
            ranges = tuple(parse_range(part.strip()) for part in answer.split(",") if part.strip())
        except ValueError as error:
            app.remark(printable(str(error)), style="yellow")
            continue
        outside = [str(one) for one in ranges if not all(end in subnet for end in one.ends)]
        if not outside:
            return ranges
        app.remark(f"{', '.join(outside)} is not in {subnet}", style="yellow")


def _interrupted(app: App) -> click.Abort:
    app.say("")
    app.say("nothing was changed")
    return click.Abort()
