"""The options that subcommands share, and their types."""

from __future__ import annotations

import difflib
from collections.abc import Callable
from pathlib import Path
from typing import Any, TypeVar

import click

from fixed_anchor.change.change import Patience
from fixed_anchor.commands import offers
from fixed_anchor.core.addresses import AddressRange, IPAddress, parse_address, parse_range
from fixed_anchor.core.findings import Acceptance
from fixed_anchor.workflow.reached.at_once import AT_ONCE as USUALLY

#: What an option is put before: a function, or a command.
FC = TypeVar("FC", bound=Callable[..., Any] | click.Command)


def patience_of(seconds: int | None) -> Patience:
    """The patience of a change: the usual one, or ``seconds`` for everything."""
    return Patience() if seconds is None else Patience(seconds, seconds, seconds)


def ending_in(*endings: str, also: tuple[str, ...] = ()) -> Callable[..., str | None]:
    """A callback for a file whose name must end in one of ``endings``, in any case, or in one ``also`` taken."""

    def demand(ctx: click.Context, param: click.Parameter, value: str | None) -> str | None:
        if value is not None and Path(value).suffix.lower() not in (*endings, *also):
            raise click.BadParameter(f"{value} must end in {' or '.join(endings)}")
        return value

    return demand


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
        try:
            return code_of(str(value))
        except ValueError as error:
            self.fail(str(error), param, ctx)


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
        try:
            code = code_of(code)
            return (code, None) if not colon else (code, str(parse_address(address)))
        except ValueError as error:
            self.fail(str(error), param, ctx)


def code_of(text: str) -> str:
    """The code of a finding that ``text`` is. Raises :class:`ValueError` where it is none, with the nearest one."""
    # The rules are loaded where somebody names one.
    from fixed_anchor.reporting.catalogue import CATALOGUE

    if text.lower() in CATALOGUE:
        return text.lower()
    near = difflib.get_close_matches(text.lower(), CATALOGUE, 1, 0.5)
    hint = f"; did you mean {near[0]}?" if near else "; `fixed-anchor explain` lists them"
    raise ValueError(f"{text!r} is not the code of a finding{hint}")


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


def _hosts(text: str) -> Callable[[FC], FC]:
    """The option that names hosts, several of them, with its help."""
    return click.option("--host", "hosts", multiple=True, metavar="NAME", shell_complete=offers.hosts, help=text)


PLAN = click.argument("plan", type=click.Path(readable=False))
HOSTS = _hosts("Only this host of the plan; repeatable.")
HOSTS_TO_REACH = _hosts("This host of the plan, or without one a host over SSH: ssh:[USER@]NAME[:PORT]; repeatable.")
CHANGE = click.argument("change", metavar="[CHANGE]", required=False, shell_complete=offers.changes)
OF_PLAN = click.option(
    "--plan",
    metavar="PLAN",
    type=click.Path(readable=False),
    help="Hosts that this plan reaches, instead of this machine.",
)
HOSTS_OF_PLAN = _hosts("With --plan: only this host; repeatable. A change of it can be named as HOST:NUMBER.")
ALL = click.option("--all", "every", is_flag=True, help="With --plan: every host that it reaches.")
AT_ONCE = click.option(
    "--at-once",
    type=click.IntRange(1, 200),
    default=USUALLY,
    show_default=True,
    metavar="NUMBER",
    help="How many hosts are asked at the same time.",
)
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
