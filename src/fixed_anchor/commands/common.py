"""What the subcommands share: consoles, the machine, and option types."""

from __future__ import annotations

import contextlib
import shlex
import sys
from contextlib import AbstractContextManager
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from fixed_anchor.change.change import Patience
from fixed_anchor.commands import logs
from fixed_anchor.core.addresses import AddressRange, IPAddress, parse_address, parse_range
from fixed_anchor.core.catalogue import CATALOGUE
from fixed_anchor.core.errors import InputError
from fixed_anchor.core.findings import Acceptance
from fixed_anchor.core.survey import HostSurvey
from fixed_anchor.machines import at_state_dir
from fixed_anchor.machines.here import STATE_DIR, Here
from fixed_anchor.machines.protocol import Machine
from fixed_anchor.planfile.reader import read_plan
from fixed_anchor.workflow.linux_host import LinuxHost
from fixed_anchor.workflow.site import Site

if TYPE_CHECKING:
    from rich.console import Console


class App:
    """The global options, and what is made from them."""

    def __init__(self, ctx: click.Context) -> None:
        options: dict[str, Any] = ctx.obj
        self.color: str = options["color"]
        self.state_dir: str | None = options["state_dir"]
        logs.begin(options["log_level"])

    @cached_property
    def out(self) -> Console:
        """Standard output. Made when it is first used: JSON needs no terminal."""
        from fixed_anchor.reporting.terminal import console

        return console(self.color)

    @cached_property
    def err(self) -> Console:
        """Standard error, for progress and warnings."""
        from fixed_anchor.reporting.terminal import console

        return console(self.color, stderr=True)

    def status(self, text: str) -> AbstractContextManager[object]:
        """Says on a terminal what goes on while it lasts."""
        return self.err.status(text) if sys.stderr.isatty() else contextlib.nullcontext()

    def here(self) -> Here:
        """This machine, with the state folder of ``--state-dir``."""
        return Here(str(Path(self.state_dir or STATE_DIR).absolute()))

    def machine(self) -> Machine:
        """This machine, or the one whose state folder ``--state-dir`` names."""
        other = at_state_dir(Path(self.state_dir)) if self.state_dir is not None else None
        return other if other is not None else self.here()

    def target(self) -> LinuxHost:
        """The same as a target of changes."""
        return LinuxHost(self.machine())

    def kept_target(self) -> LinuxHost:
        """The same for a command about changes that are there. Raises ``InputError`` for a state folder that is not."""
        target = self.target()
        if self.state_dir is not None and target.never_begun():
            raise InputError(
                "there is no such state folder", file=self.state_dir, expected="the one that `cutover` was given"
            )
        return target

    def site(self, plan: str) -> Site:
        """The plan in the file ``plan``, and what is reached of it. Raises ``InputError``."""
        return Site(read_plan(Path(plan)), self.here())

    def command_for(self, machine: Machine, words: str) -> str:
        """The exact command line for ``words`` on ``machine``."""
        return shlex.join(["fixed-anchor", *machine.words, *words.split()])


def addresses_to_hold(grace: bool | None, machine: Machine, survey: HostSurvey) -> frozenset[IPAddress]:
    """Today's addresses that shall stay until a change is decided: that of the session, or with ``--grace`` all."""
    if grace is False:
        return frozenset()
    if grace:
        return frozenset(a.ip for i in survey.interfaces for a in i.link.in_kernel)
    session = machine.session()
    return frozenset() if session is None else frozenset((session,))


def patience_of(seconds: int | None) -> Patience:
    """The patience of a change: the usual one, or ``seconds`` for everything."""
    return Patience() if seconds is None else Patience(seconds, seconds, seconds)


class RangeType(click.ParamType[AddressRange]):
    """``FIRST-LAST``, as an :class:`~fixed_anchor.core.addresses.AddressRange`."""

    name = "range"

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> AddressRange:
        if isinstance(value, AddressRange):
            return value
        try:
            return parse_range(value)
        except ValueError as error:
            self.fail(f"{error}; write FIRST-LAST, such as 203.0.113.100-203.0.113.199", param, ctx)


class AcceptType(click.ParamType[tuple[str, str | None]]):
    """``CODE[:ADDRESS]``, as a pair; the address is ``None`` where none is named."""

    name = "code[:address]"

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> tuple[str, str | None]:
        if isinstance(value, tuple):
            return value
        code, colon, address = str(value).partition(":")
        if code not in CATALOGUE:
            self.fail(f"{code!r} is not the code of a finding", param, ctx)
        if not colon:
            return code, None
        try:
            return code, str(parse_address(address))
        except ValueError as error:
            self.fail(str(error), param, ctx)


def acceptances(accepted: tuple[tuple[str, str | None], ...], because: str | None) -> tuple[Acceptance, ...]:
    """The acceptances of the command line; a reason is demanded. Raises a usage error."""
    if accepted and not (because or "").strip():
        raise click.UsageError("--accept needs a reason: --because TEXT")
    if because is not None and not accepted:
        raise click.UsageError("--because goes with --accept CODE[:ADDRESS]")
    return tuple(Acceptance(code, address, str(because)) for code, address in accepted)


PLAN = click.argument("plan", type=click.Path(readable=False))
HOSTS = click.option("--host", "hosts", multiple=True, metavar="NAME", help="Only this host of the plan; repeatable.")
POOLS = click.option(
    "--pool", "pools", multiple=True, type=RangeType(), help="A DHCP pool, FIRST-LAST, that the plan does not name."
)
JSON = click.option("--json", "as_json", is_flag=True, help="Print one JSON object.")
CONFIRM_WITHIN = click.option(
    "--confirm-within",
    type=click.IntRange(5, 86400),
    default=600,
    show_default=True,
    metavar="SECONDS",
    help="Roll the change back unless it is confirmed by then.",
)
GRACE = click.option(
    "--grace/--no-grace",
    default=None,
    help="Keep the old address beside the new one until the change is decided; by default if your session uses it.",
)
NOTE = click.option("--note", metavar="TEXT", help="Kept with the change, such as the number of a ticket.")
PATIENCE = click.option(
    "--patience",
    type=click.IntRange(1, 3600),
    metavar="SECONDS",
    help="How long to wait for the required checks.  [default: 20 after activation, 45 after a change of carrier]",
)
UNATTENDED = click.option(
    "--unattended", is_flag=True, help="Confirm by itself if, and only if, every required check passed."
)
