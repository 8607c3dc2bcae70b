"""How a change stands or ended, in words: for every command that tells of one, whether it watched it or not."""

from __future__ import annotations

import time

from fixed_anchor.change import states
from fixed_anchor.change.change import ChangeStatus
from fixed_anchor.commands.app import App
from fixed_anchor.core.errors import printable
from fixed_anchor.reporting.documents.changes import HostChanged, change
from fixed_anchor.workflow.targets import HostTarget


def end_of(status: ChangeStatus) -> str:
    """The end of the wait as a time of day."""
    return time.strftime("%H:%M:%S", time.localtime(time.time() + max(status.left or 0, 0)))


def countdown(status: ChangeStatus) -> str:
    """What happens when nobody decides, and when."""
    return f"automatic rollback at {end_of(status)}, in {status.left} s, unless you confirm"


def decided(target: HostTarget, number: str, done: str | None = None) -> HostChanged:
    """The change ``number`` as it is now, as a part of a document; ``done`` says what else was done."""
    return HostChanged(host=target.name, done=done, change=change(target.name, target.status(number)))


#: What was decided, as the reason for it is told.
_DECIDED = {states.CONFIRMED: "kept", states.ROLLED_BACK: "rolled back", states.ROLLING_BACK: "being rolled back"}


def because(status: ChangeStatus) -> str:
    """What was decided and why, for people."""
    what = _DECIDED.get(status.state, "it was to be rolled back")
    return f"{what}, because {printable(status.why)}" if status.why else f"{what}; its log says why"


def last_one(target: HostTarget) -> str:
    """How the last change ended, for whoever asks for something that it does not allow any more; empty without one."""
    known = target.numbers()
    if not known:
        return ""
    last = target.status(known[-1])
    why = f", closed by {printable(last.closed_by)}" if last.closed_by else f": {because(last)}" if last.why else ""
    return f"the last change, {last.number}, is {states.shown(last.state)}{why}"


def incomplete(target: HostTarget, number: str) -> str:
    """What is to be said of a change that is kept without all of its final files."""
    log = f"{target.record_folder(number)}/log"
    return f"kept, but not every file of its final state could be written: {log} says which, and what to do"


def give_back_from_seat(app: App, target: HostTarget, number: str) -> None:
    """Gives the lease of a change that is kept back from here, where the host's own guard could not."""
    for said in target.give_back(number):
        app.say(said, indent=2)
