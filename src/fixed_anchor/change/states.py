"""The states of a change: one table of what goes on in each, who may move it, and what a power cut means.

The rules that everything else relies on:

1. A change moves only as :data:`STATES` says. The engines keep the same table by hand; a test
   reads their moves against this one, and the log of every change that a test makes.
2. Only the guard moves a change on. A person's request is a decision that the guard then carries
   out; the one exception is a change that is stuck, whose guard has gone: asking again starts one,
   and closing it accepts what is there.
   Whatever boots the host moves what the machine left open when it went down.
3. The state is on disk before the step that it names.
4. There is one decision, made once: to keep the change, or to roll it back. Unconfirmed is rolled back.
5. A change in a final state is over: nothing moves it any more, and the next one may begin.
"""

from __future__ import annotations

import msgspec

#: No state is on disk yet: the data was laid down, and nothing has begun.
NOT_BEGUN = ""

PREPARED = "prepared"
LEAVING = "leaving"
WRITING = "writing"
ACTIVATING = "activating"
WAITING = "waiting"
COMMITTING = "committing"
CONFIRMED = "confirmed"
ROLLING_BACK = "rolling-back"
ROLLED_BACK = "rolled-back"
STUCK = "stuck"
CLOSED = "closed"

#: The two decisions.
KEEP, ROLL_BACK = "keep", "roll-back"


class State(msgspec.Struct, frozen=True):
    """One row of the table.

    ``goes_on`` says to an operator what goes on. ``by_guard``, ``by_request`` and ``at_boot`` are
    the states that the guard, a person's request, and the boot after a power cut may move a change
    to from here; a boot that moves it goes on until it is final, or stuck.
    ``after_power_cut`` says in words what the boot then makes of it.
    """

    name: str
    goes_on: str
    by_guard: tuple[str, ...] = ()
    by_request: tuple[str, ...] = ()
    at_boot: tuple[str, ...] = ()
    after_power_cut: str = ""

    @property
    def is_final(self) -> bool:
        """Whether nothing moves a change from here any more."""
        return not (self.by_guard or self.by_request)


_ROWS = (
    State(
        NOT_BEGUN,
        "its data is laid down; nothing has begun",
        by_guard=(PREPARED, ROLLED_BACK),
        at_boot=(ROLLED_BACK,),
        after_power_cut="nothing had changed",
    ),
    State(
        PREPARED,
        "copies are saved, the guard is armed",
        by_guard=(LEAVING, ROLLED_BACK),
        at_boot=(ROLLED_BACK,),
        after_power_cut="nothing had changed",
    ),
    State(
        LEAVING,
        "the old state is being left: steps that need the former configuration",
        by_guard=(WRITING, ROLLING_BACK),
        at_boot=(ROLLING_BACK,),
        after_power_cut="rolled back",
    ),
    State(
        WRITING,
        "the new configuration is being written",
        by_guard=(ACTIVATING, ROLLING_BACK),
        at_boot=(ROLLING_BACK,),
        after_power_cut="rolled back",
    ),
    State(
        ACTIVATING,
        "the network stack is being told",
        by_guard=(WAITING, ROLLING_BACK),
        at_boot=(ROLLING_BACK,),
        after_power_cut="rolled back",
    ),
    State(
        WAITING,
        "in force; it is being verified, and waits for its confirmation",
        by_guard=(COMMITTING, ROLLING_BACK),
        at_boot=(ROLLING_BACK,),
        after_power_cut="rolled back",
    ),
    State(
        COMMITTING,
        "decided: it is kept; the old address goes",
        by_guard=(COMMITTING, CONFIRMED),
        at_boot=(CONFIRMED,),
        after_power_cut="finished",
    ),
    State(CONFIRMED, "kept"),
    State(
        ROLLING_BACK,
        "the former configuration is coming back",
        by_guard=(ROLLING_BACK, ROLLED_BACK, STUCK),
        at_boot=(ROLLING_BACK, ROLLED_BACK, STUCK),
        after_power_cut="rolled back",
    ),
    State(ROLLED_BACK, "as it was before"),
    State(
        STUCK,
        "the former state was not reached: the log says what is left to do",
        by_request=(ROLLING_BACK, CLOSED),
        at_boot=(ROLLING_BACK,),
        after_power_cut="rolled back, but for files that somebody made since",
    ),
    State(CLOSED, "a person accepted what was there"),
)

#: The table, by the names of the states.
STATES: dict[str, State] = {row.name: row for row in _ROWS}

#: The states in which a change is over.
FINAL = tuple(row.name for row in _ROWS if row.is_final)


def shown(state: str) -> str:
    """A state as operators read it."""
    return state or "not begun"
