"""Watching a change from the terminal: each state once, then the countdown."""

from __future__ import annotations

import time
from collections.abc import Iterable

import msgspec
from rich.console import Console
from rich.status import Status
from rich.text import Text

from fixed_anchor.change import states
from fixed_anchor.change.change import ChangeStatus
from fixed_anchor.commands.app import App
from fixed_anchor.commands.standing import countdown, end_of, give_back_from_seat, incomplete
from fixed_anchor.core.errors import Unreachable, printable
from fixed_anchor.core.findings import Finding
from fixed_anchor.core.verification import VerifyCheck
from fixed_anchor.reporting.documents.changes import HostChanged, change, checks
from fixed_anchor.reporting.documents.drafting import host_drafted
from fixed_anchor.reporting.documents.parts import found_finding
from fixed_anchor.reporting.terminal.draft import show_diff
from fixed_anchor.reporting.terminal.paper import STYLES, styled
from fixed_anchor.reporting.terminal.verify import show_verify
from fixed_anchor.workflow.driving import StillOpen, drive
from fixed_anchor.workflow.events import Answered, Event, Interrupted, Member, Outcome, Unanswered
from fixed_anchor.workflow.linux.linux_host import DraftOutdated
from fixed_anchor.workflow.run import Run
from fixed_anchor.workflow.targets import HostTarget


class Watcher:
    """Prints what happens to the change of one target, as its run is stepped."""

    def __init__(self, app: App, run: Run, target: HostTarget) -> None:
        self.app = app
        self.run = run
        self.target = target
        self._name = target.name
        self.unattended = run.terms(self._name).unattended
        self.out: Console = app.out
        self._state = ""
        self._told_verified = False
        self._is_lost = False
        self._countdown: Status | None = None
        self._waits: Status | None = None

    def __call__(self, event: Event) -> None:
        if isinstance(event, Answered):
            self._answered(event.status)
        elif isinstance(event, StillOpen):
            self._open_still(event.checks, event.left)
        elif isinstance(event, Unanswered):
            self._lost(event)
        elif isinstance(event, Interrupted):
            self._interrupted()

    def _answered(self, status: ChangeStatus) -> None:
        self._end_waiting()
        if self._is_lost:
            self._is_lost = False
            self.app.remark(f"{self._name} answers again")
        if status.state != self._state:
            self._state = status.state
            self._say_state(status)
        verified = self.run.verified(self._name)
        if verified is not None and not self._told_verified:
            self._told_verified = True
            show_verify(self.out, verified)
        if status.state == states.WAITING and self._told_verified and not self.unattended and status.decision is None:
            self._say_how_to_keep(status)

    def _say_state(self, status: ChangeStatus) -> None:
        row = states.STATES.get(status.state)
        if row is not None and status.is_open and status.state not in (states.NOT_BEGUN, states.STUCK):
            line = Text().append(time.strftime("%H:%M:%S  "), style="dim")
            line.append(f"{status.state:<13}", style="bold").append(row.goes_on)
            self.app.say(line)

    def _say_how_to_keep(self, status: ChangeStatus) -> None:
        text = countdown(status)
        if self._countdown is None:
            keep = self.app.command_for(self.target, "confirm", status.number)
            back = self.app.command_for(self.target, "restore", status.number)
            self.app.say(styled(f"change {status.number} is in force: {text}.", "bold"))
            for fact in status.grace_facts:
                self.app.say(f"stays until then as well:     {fact}", indent=2)
            self.app.type("keep it, from a new session:  ", keep)
            self.app.type("more time:                    ", f"{keep} --more-time 600")
            self.app.type("go back at once:              ", back)
            self._countdown = self.app.err.status(text, spinner="line")
            if self.app.err.is_terminal:
                self._countdown.start()
        else:
            self._countdown.update(text)

    def _open_still(self, checks: tuple[VerifyCheck, ...], left: float) -> None:
        """What the verification still waits for."""
        first = checks[0]
        more = f" and {len(checks) - 1} more" if len(checks) > 1 else ""
        about = first.target or first.interface
        self.wait(f"not passed yet: {first.code} {printable(about)}{more}; waiting for another {left:.0f} s")

    def _lost(self, event: Unanswered) -> None:
        """The host does not answer: that is told once, and then how long it is looked for."""
        self._end_waiting()
        left = self.run.looked_for(self._name, event.at)
        if left is None or left <= 0:
            return
        if not self._is_lost:
            self._is_lost = True
            self.app.remark(f"{event.error.what}; its guard goes on, and it is looked for", style="yellow")
        self.wait(f"not reached; looked for for another {left:.0f} s")

    def wait(self, text: str) -> None:
        """Shows on a terminal what is waited for."""
        if self._waits is None:
            self._waits = self.app.err.status(text, spinner="line")
            if self.app.err.is_terminal:
                self._waits.start()
        else:
            self._waits.update(text)

    def _end_waiting(self) -> None:
        if self._waits is not None:
            self._waits.stop()
            self._waits = None

    def stop(self) -> None:
        """Ends the countdowns on the terminal."""
        self._end_waiting()
        if self._countdown is not None:
            self._countdown.stop()

    def _interrupted(self) -> None:
        """Ctrl-C ends the watching, not the change."""
        self.stop()
        last = self.run.last(self._name)
        if last is None:
            return
        try:
            status = self.target.status(last.number)
        except Unreachable as error:
            self.app.remark(f"change {last.number} goes on without this terminal; {error}")
            return
        if status.is_open:
            keep = self.app.command_for(self.target, "confirm", status.number)
            self.app.remark(
                f"change {status.number} goes on without this terminal: automatic rollback at {end_of(status)} "
                f"unless you confirm: {keep}"
            )


class Watched(msgspec.Struct, frozen=True):
    """How a change ended that was watched; ``made`` is nothing where somebody interrupted the watching."""

    exit_status: int
    made: HostChanged | None = None


def watch(app: App, target: HostTarget, member: Member, findings: Iterable[Finding] = ()) -> Watched:
    """Carries a change out under the eyes of the operator. ``findings`` are what its check found.

    Raises why it was not begun, and :class:`Unreachable` for a target that was not seen again.
    """
    run = Run((member,))
    watcher = Watcher(app, run, target)
    if member.survey is not None:
        watcher.wait("looking at what answers today")
    try:
        drive(run, {member.name: target}, watcher)
    finally:
        watcher.stop()
    outcome = run.outcome(member.name)
    assert outcome is not None
    if outcome.error is not None:
        if isinstance(outcome.error, DraftOutdated):
            for edit in outcome.error.edits:
                show_diff(app.out, edit)
        raise outcome.error
    if outcome.is_left:
        return Watched(outcome.exit_status)
    if outcome.verified is not None and outcome.state == states.CONFIRMED and member.drafted.grace:
        app.say("the old address has gone; looked at once more:")
        show_verify(app.out, outcome.verified)
    give_back_from_seat(app, target, outcome.number)
    if not app.as_json:
        say_outcome(app, target, outcome)
    made = HostChanged(
        host=target.name,
        change=change(target.name, _now(target, run, outcome.number)),
        findings=[found_finding(f) for f in findings],
        draft=host_drafted(member.drafted),
        checks=checks(outcome.verified),
    )
    return Watched(outcome.exit_status, made)


def _now(target: HostTarget, run: Run, number: str) -> ChangeStatus:
    """How a change is now; of a host that does not answer any more as it was when it last did."""
    try:
        return target.status(number)
    except Unreachable:
        last = run.last(target.name)
        if last is None:
            raise
        return last


#: What is worth a look where only the network disagrees.
UNHEARD = (
    "On the host all was as planned, and its gateway answered before; but nobody on the segment answers the "
    "new address ({checks}). Look at the switch (DHCP snooping, ARP inspection, source guard) or at the hypervisor's "
    "filter."
)


def say_outcome(app: App, target: HostTarget, outcome: Outcome) -> None:
    """Prints how a change ended, and what to type next."""
    number = outcome.number
    line = Text(f"change {number}: ").append(outcome.state, style=STYLES.get(outcome.state, "bold"))
    if outcome.is_incomplete:
        app.say(line.append(f"   {incomplete(target, number)}", style="bold yellow"))
    elif outcome.state == states.CONFIRMED:
        app.say(line)
        app.type("to go back:  ", app.command_for(target, "restore", number))
    elif outcome.state == states.ROLLED_BACK:
        why = f"because {printable(outcome.why)}; " if outcome.why else ""
        app.say(line.append(f"   {why}the state is as it was before", style="default"))
    else:
        log = f"{target.record_folder(number)}/log"
        why = f"{printable(outcome.why)}; " if outcome.why else ""
        left = f"   it could not be rolled back: {why}the log says what is left to do: {log}"
        app.say(line.append(left, style="default"))
    if outcome.unheard:
        app.say(UNHEARD.format(checks=", ".join(outcome.unheard)), indent=2)
