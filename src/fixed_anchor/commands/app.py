"""What every subcommand begins with: the global options, and what is made from them."""

from __future__ import annotations

import contextlib
import shlex
import sys
from collections.abc import Iterator
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, Any, NoReturn

import click

from fixed_anchor.commands import logs
from fixed_anchor.commands.password import AskPassword
from fixed_anchor.core.errors import InputError
from fixed_anchor.core.plan import HostPlan
from fixed_anchor.machines import at_state_dir
from fixed_anchor.machines.here import STATE_DIR, Here
from fixed_anchor.machines.not_linux import NotLinux, is_linux
from fixed_anchor.machines.protocol import Machine
from fixed_anchor.machines.seat import Seat
from fixed_anchor.planfile.reader import read_plan
from fixed_anchor.workflow.at_once import AT_ONCE
from fixed_anchor.workflow.site import Site
from fixed_anchor.workflow.targets import HostTarget, target_of

if TYPE_CHECKING:
    from rich.console import Console
    from rich.status import Status
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
        self._shown: Status | None = None
        #: Plan and host of targets that were reached by one.
        self._of_plan: dict[int, tuple[str, str]] = {}
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

    @contextlib.contextmanager
    def status(self, text: str) -> Iterator[Status | None]:
        """Says on a terminal what goes on while it lasts."""
        if not sys.stderr.isatty():
            yield None
            return
        # Its turning mark is of ASCII, for every terminal.
        with self.err.status(text, spinner="line") as shown:
            self._shown = shown
            try:
                yield shown
            finally:
                self._shown = None

    @contextlib.contextmanager
    def _quiet(self) -> Iterator[None]:
        """Nothing moves on the terminal while it lasts."""
        shown = self._shown
        if shown is not None:
            shown.stop()
        yield
        if shown is not None:
            shown.start()

    def told(self, count: int, of: int) -> None:
        """Tells on a terminal how many hosts have answered."""
        if self._shown is not None and of > 1:
            self._shown.update(f"{count} of {of} hosts have answered")

    @cached_property
    def seat(self) -> Seat:
        """What is common to all connections of this run; it is closed when the command ends."""
        ask = AskPassword(self._quiet)
        seat = Seat(ask)
        seat.opened(ask)
        self._ctx.call_on_close(self._leave)
        return seat

    def _leave(self) -> None:
        """Ends the connections, and tells what was noted."""
        self.seat.close()
        if not self.seat.remarks:
            return
        from fixed_anchor.reporting.terminal.paper import put_whole

        for text, lines in self.seat.remarks.items():
            self.remark(text, style="yellow")
            for where, line in lines:
                self.remark(f"{where}:", indent=2)
                put_whole(self.err, line, indent=6)

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

    def target(self) -> HostTarget:
        """The same as a target of changes."""
        return target_of(self.machine())

    def kept_target(self) -> HostTarget:
        """The same for a command about changes that are there. Raises ``InputError`` for a state folder that is not."""
        target = self.target()
        if self.state_dir is not None and target.never_begun():
            raise InputError(
                "there is no such state folder", file=self.state_dir, expected="the one that `cutover` was given"
            )
        return target

    def site(self, plan: str, at_once: int = AT_ONCE) -> Site:
        """The plan in the file ``plan``, whose hosts are asked ``at_once`` at a time. Raises ``InputError``."""
        site = Site(read_plan(Path(plan)), self.here(), self.seat)
        site.at_once, site.told = at_once, self.told
        return site

    def target_of(self, site: Site, host: HostPlan, machine: Machine) -> HostTarget:
        """A host of a plan as a target of changes; the commands that are shown for it name the plan."""
        machine.recognise()
        target = target_of(machine)
        if machine is not site.here:
            self._of_plan[id(target)] = (site.plan.file, host.name)
        return target

    def seat_of(self, target: HostTarget) -> str | None:
        """The name of this machine, where ``target`` is another one that is reached from it."""
        return None if target.has_tool else self.here().name

    def command_for(self, target: HostTarget, verb: str, change: str, *more: str) -> str:
        """The exact command line for ``verb`` and a change of ``target``."""
        plan = self._of_plan.get(id(target))
        if plan is not None:
            return shlex.join(["fixed-anchor", verb, "--plan", plan[0], f"{plan[1]}:{change}", *more])
        return shlex.join(["fixed-anchor", *target.words, verb, change, *more])
