"""What the subcommands share: consoles, the machine, and option types."""

from __future__ import annotations

import contextlib
import difflib
import shlex
import sys
from contextlib import AbstractContextManager
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, Any, NoReturn

import click

from fixed_anchor.change.change import Patience
from fixed_anchor.commands import logs, offers
from fixed_anchor.core.addresses import AddressRange, IPAddress, parse_address, parse_range
from fixed_anchor.core.catalogue import CATALOGUE
from fixed_anchor.core.errors import InputError
from fixed_anchor.core.findings import Acceptance
from fixed_anchor.core.survey import HostSurvey
from fixed_anchor.machines import at_state_dir
from fixed_anchor.machines.here import STATE_DIR, Here
from fixed_anchor.machines.not_linux import NotLinux, is_linux
from fixed_anchor.machines.protocol import Machine
from fixed_anchor.planfile.reader import read_plan
from fixed_anchor.workflow.linux_host import LinuxHost
from fixed_anchor.workflow.site import Site

if TYPE_CHECKING:
    from rich.console import Console
    from rich.text import Text

    from fixed_anchor.reporting.documents.parts import Document


class App:
    """The global options, and what is made from them."""

    def __init__(self, ctx: click.Context, as_json: bool = False) -> None:
        options: dict[str, Any] = ctx.obj
        self.color: str = options["color"]
        self.state_dir: str | None = options["state_dir"]
        self.as_json = as_json
        self._ctx = ctx
        logs.begin(options["log_level"])

    @cached_property
    def out(self) -> Console:
        """Standard output; with ``--json``, where that has the document alone, standard error.

        Made when it is first used: JSON needs no terminal.
        """
        from fixed_anchor.reporting.terminal.paper import console

        return self.err if self.as_json else console(self.color)

    @cached_property
    def err(self) -> Console:
        """Standard error, for progress and warnings."""
        from fixed_anchor.reporting.terminal.paper import console

        return console(self.color, stderr=True)

    def say(self, text: str | Text, *, indent: int = 0, style: str = "") -> None:
        """Prints a sentence; where it must be broken, the rest stands further in."""
        from fixed_anchor.reporting.terminal.paper import put

        put(self.out, text, indent=indent, style=style)

    def remark(self, text: str | Text, *, indent: int = 0, style: str = "") -> None:
        """The same on standard error: what is told beside the result."""
        from fixed_anchor.reporting.terminal.paper import put

        put(self.err, text, indent=indent, style=style)

    def type(self, label: str, command: str, indent: int = 2) -> None:
        """Prints a command to be typed, behind its label."""
        from fixed_anchor.reporting.terminal.paper import put_command

        put_command(self.out, label, command, indent)

    def print_document(self, document: Document, exit_status: int = 0) -> NoReturn:
        """Prints the document of ``--json`` and ends the command with ``exit_status``."""
        from fixed_anchor.reporting.documents import as_text

        document.exit_status = exit_status
        click.echo(as_text(document))
        self._ctx.exit(exit_status)

    def status(self, text: str) -> AbstractContextManager[object]:
        """Says on a terminal what goes on while it lasts."""
        # Its turning mark is of ASCII, for every terminal.
        return self.err.status(text, spinner="line") if sys.stderr.isatty() else contextlib.nullcontext()

    def here(self) -> Here:
        """This machine, with the state folder of ``--state-dir``."""
        return (Here if is_linux() else NotLinux)(str(Path(self.state_dir or STATE_DIR).absolute()))

    def machine(self) -> Machine:
        """This machine, or the one whose state folder ``--state-dir`` names. Raises why there is nothing to look at."""
        other = at_state_dir(Path(self.state_dir)) if self.state_dir is not None else None
        if other is not None:
            return other
        here = self.here()
        refusal = here.why_no_change()
        if not here.running and refusal is not None:
            raise refusal
        return here

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


class AddressType(click.ParamType[IPAddress]):
    """One IP address, without a prefix."""

    name = "address"

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> IPAddress:
        try:
            return parse_address(str(value))
        except ValueError as error:
            self.fail(f"{error}; one address at a time, without a prefix", param, ctx)


class CodeType(click.ParamType[str]):
    """The code of a finding."""

    name = "code"

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> str:
        code = str(value).lower()
        if code not in CATALOGUE:
            self.fail(not_a_code(str(value)), param, ctx)
        return code


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
        code = code.lower()
        if code not in CATALOGUE:
            self.fail(not_a_code(code), param, ctx)
        if not colon:
            return code, None
        try:
            return code, str(parse_address(address))
        except ValueError as error:
            self.fail(str(error), param, ctx)


def not_a_code(text: str) -> str:
    """The sentence that ``text`` is no code of a finding, with the nearest one."""
    near = difflib.get_close_matches(text.lower(), CATALOGUE, 1, 0.5)
    hint = f"; did you mean {near[0]}?" if near else "; `fixed-anchor explain` lists them"
    return f"{text!r} is not the code of a finding{hint}"


def acceptances(accepted: tuple[tuple[str, str | None], ...], because: str | None) -> tuple[Acceptance, ...]:
    """The acceptances of the command line; a reason is demanded. Raises a usage error."""
    if accepted and not (because or "").strip():
        raise click.UsageError("--accept needs a reason: --because TEXT")
    if because is not None and not accepted:
        raise click.UsageError("--because goes with --accept CODE[:ADDRESS]")
    return tuple(Acceptance(code, address, str(because)) for code, address in accepted)


def examples(*rows: tuple[str, str]) -> str:
    """The end of a command's help: lines that can be typed, each with what it is for."""
    return "\b\nExamples:\n" + "\n".join(f"  {line}\n      {what}" for line, what in rows)


PLAN = click.argument("plan", type=click.Path(readable=False))
HOSTS = click.option(
    "--host",
    "hosts",
    multiple=True,
    metavar="NAME",
    shell_complete=offers.hosts,
    help="Only this host of the plan; repeatable.",
)
HOST = click.option(
    "--host",
    metavar="NAME",
    shell_complete=offers.hosts,
    help="The host of the plan; needed where the plan reaches it.",
)
CHANGE = click.argument("change", metavar="[CHANGE]", required=False, shell_complete=offers.changes)
CODES = click.option(
    "--code",
    "codes",
    multiple=True,
    type=CodeType(),
    shell_complete=offers.codes,
    help="Show only findings of this kind; repeatable.",
)
POOLS = click.option(
    "--pool", "pools", multiple=True, type=RangeType(), help="A DHCP pool, FIRST-LAST, that the plan does not name."
)
JSON = click.option("--json", "as_json", is_flag=True, help="Print one JSON document; its schema is in docs/schemas.")
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
