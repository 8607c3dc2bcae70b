"""What every subcommand begins with: the global options, and what is made from them."""

from __future__ import annotations

import contextlib
import shlex
import sys
from collections.abc import Iterator
from functools import cached_property
from typing import TYPE_CHECKING, Any, NoReturn

import click

from fixed_anchor.commands import logs
from fixed_anchor.commands.password import AskPassword
from fixed_anchor.workflow.reached.at_once import AT_ONCE
from fixed_anchor.workflow.reached.site import Site
from fixed_anchor.workflow.reaching import Reach
from fixed_anchor.workflow.targets import HostTarget

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

    @property
    def can_ask(self) -> bool:
        """Whether somebody is at a terminal who can be asked; a stream that is closed is ``None``."""
        return not self.as_json and sys.stdin is not None and sys.stdin.isatty() and sys.stderr.isatty()

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
    def reach(self) -> Reach:
        """Everything that is reached from here; its connections end with the command."""
        reach = Reach(self.state_dir, AskPassword(self._quiet), self.told)
        self._ctx.call_on_close(self._leave)
        return reach

    def _leave(self) -> None:
        """Ends the connections, and tells what was noted."""
        remarks = self.reach.close()
        if not remarks:
            return
        from fixed_anchor.reporting.terminal.paper import put_whole

        for text, lines in remarks.items():
            self.remark(text, style="yellow")
            for where, line in lines:
                self.remark(f"{where}:", indent=2)
                put_whole(self.err, line, indent=6)

    def site(self, plan: str, at_once: int = AT_ONCE) -> Site:
        """The plan in the file ``plan``, whose hosts are asked ``at_once`` at a time. Raises ``InputError``."""
        return self.reach.site(plan, at_once)

    def seat_of(self, target: HostTarget) -> str | None:
        """The name of this machine, where ``target`` is another one that is reached from it."""
        return None if target.rights.has_tool else self.reach.here().name

    def command_for(self, target: HostTarget, verb: str, change: str, *more: str) -> str:
        """The exact command line for ``verb`` and a change of ``target``."""
        if target.of_plan is not None:
            plan, host = target.of_plan
            return shlex.join(["fixed-anchor", verb, "--plan", plan, f"{host}:{change}", *more])
        return shlex.join(["fixed-anchor", *target.rights.words, verb, change, *more])
