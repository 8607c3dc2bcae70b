"""Watching a change from the terminal: each state once, then the countdown."""

from __future__ import annotations

import time

from rich.console import Console
from rich.status import Status
from rich.text import Text

from fixed_anchor.commands.common import App
from fixed_anchor.core.errors import EXIT_INTERRUPTED, printable
from fixed_anchor.engine import driver
from fixed_anchor.engine.driver import ChangeStatus
from fixed_anchor.machines.protocol import Machine
from fixed_anchor.reporting.terminal import STYLES, show_diff, show_verify
from fixed_anchor.workflow.carry_out import DraftOutdated, Outcome, carry_out, own_vantage
from fixed_anchor.workflow.draft import HostDraft
from fixed_anchor.workflow.verify import VerifyResult

WHAT_GOES_ON = {
    "prepared": "copies are saved, the guard is armed",
    "leaving": "the old state is being left",
    "writing": "the files are being written",
    "activating": "the network stack is being told",
    "waiting": "in force; it is being verified",
    "committing": "decided: it is kept",
    "putting-back": "the former files are being put back",
}


def end_of(status: ChangeStatus) -> str:
    """The end of the wait as a time of day."""
    return time.strftime("%H:%M:%S", time.localtime(time.time() + max(status.left or 0, 0)))


class Watcher:
    """Prints the progress of one change."""

    def __init__(self, app: App, machine: Machine, unattended: bool) -> None:
        self.app = app
        self.machine = machine
        self.unattended = unattended
        self.out: Console = app.out
        self._state = ""
        self._told_verified = False
        self._number = ""
        self._countdown: Status | None = None

    def __call__(self, status: ChangeStatus, verified: VerifyResult | None) -> None:
        self._number = status.number
        if status.state != self._state:
            self._state = status.state
            self._say_state(status)
        if verified is not None and not self._told_verified:
            self._told_verified = True
            show_verify(self.out, verified)
        if status.state == "waiting" and self._told_verified and not self.unattended and status.decision is None:
            self._say_how_to_keep(status)

    def _say_state(self, status: ChangeStatus) -> None:
        if status.state in WHAT_GOES_ON:
            line = Text().append(time.strftime("%H:%M:%S  "), style="dim")
            line.append(f"{status.state:<13}", style="bold").append(WHAT_GOES_ON[status.state])
            self.out.print(line)

    def _say_how_to_keep(self, status: ChangeStatus) -> None:
        text = f"put back at {end_of(status)}, in {status.left} s, unless it is confirmed"
        if self._countdown is None:
            keep = self.app.command_for(self.machine, f"confirm {status.number}")
            back = self.app.command_for(self.machine, f"restore {status.number}")
            self.out.print(Text(f"change {status.number} is in force. It is {text}.", style="bold"))
            for fact in status.held:
                self.out.print(f"  held until then as well:      {printable(fact)}")
            self.out.print(f"  keep it, from a new session:  {keep}", soft_wrap=True)
            self.out.print(f"  more time:                    {keep} --more-time 600", soft_wrap=True)
            self.out.print(f"  go back at once:              {back}", soft_wrap=True)
            self._countdown = self.app.err.status(text)
            if self.app.err.is_terminal:
                self._countdown.start()
        else:
            self._countdown.update(text)

    def stop(self) -> None:
        if self._countdown is not None:
            self._countdown.stop()

    def interrupted(self) -> None:
        """Ctrl-C ends the watching, not the change."""
        self.stop()
        if not self._number:
            return
        status = driver.status(self.machine, self._number)
        if status.is_open:
            keep = self.app.command_for(self.machine, f"confirm {status.number}")
            self.app.err.print(
                f"change {status.number} goes on without this terminal: put back at {end_of(status)} "
                f"unless it is confirmed with: {keep}",
                soft_wrap=True,
            )


def watch(
    app: App,
    machine: Machine,
    draft: HostDraft,
    confirm_within: int,
    unattended: bool,
    notes: dict[str, object],
) -> int:
    """Carries a change out under the eyes of the operator; returns the exit status."""
    watcher = Watcher(app, machine, unattended)
    vantages = {config.interface: own_vantage(machine, config.interface) for config in draft.wanted}
    try:
        outcome = carry_out(machine, draft, vantages, confirm_within, unattended, notes, watcher)
    except DraftOutdated as outdated:
        for edit in outdated.edits:
            show_diff(app.out, edit)
        raise
    except KeyboardInterrupt:
        watcher.interrupted()
        return EXIT_INTERRUPTED
    finally:
        watcher.stop()
    if outcome.verified is not None and outcome.state == "confirmed" and draft.held:
        app.out.print("the old address has gone; looked at once more:")
        show_verify(app.out, outcome.verified)
    say_outcome(app, machine, outcome)
    return outcome.exit_status


def say_outcome(app: App, machine: Machine, outcome: Outcome) -> None:
    number = outcome.number
    line = Text(f"change {number}: ").append(outcome.state, style=STYLES.get(outcome.state, "bold"))
    if outcome.state == "confirmed":
        back = app.command_for(machine, f"restore {number}")
        line.append(f"   to go back: {back}", style="default")
    elif outcome.state == "put-back":
        line.append("   the state is as it was before", style="default")
    else:
        log = f"{driver.changes_folder(machine)}/{number}/log"
        line.append(f"   it could not be put back; the log says what is left to do: {log}", style="default")
    app.out.print(line, soft_wrap=True)
