"""What a run is made of, asks for, and hears: its members, the actions, the events, and how each member ends."""

from __future__ import annotations

import msgspec

from fixed_anchor.change import states
from fixed_anchor.change.change import ChangeStatus, Draft, Terms
from fixed_anchor.core.baseline import Baseline
from fixed_anchor.core.errors import (
    EXIT_AGAINST,
    EXIT_DONE,
    EXIT_INTERRUPTED,
    EXIT_ROLLED_BACK,
    EXIT_STUCK,
    AnchorError,
    Unreachable,
)
from fixed_anchor.core.survey import HostSurvey
from fixed_anchor.core.verification import NOT_AS_PLANNED, VerifyResult


class Member(msgspec.Struct, frozen=True):
    """One change of a run: its target's name, what is done, and how it is guarded.

    ``survey`` is what its draft was made from, given where what answers before is not known yet: it is looked at then,
    and belongs to the terms. One of many has no ``draft`` until its turn has come, and is made ready. It belongs to a
    ``wave``, and waits for the good end of those that it comes ``after``.
    """

    name: str
    draft: Draft | None
    terms: Terms
    survey: HostSurvey | None = None
    wave: int = 0
    after: tuple[str, ...] = ()

    @property
    def drafted(self) -> Draft:
        """Its draft, once it has one."""
        assert self.draft is not None, f"{self.name} is not drafted"
        return self.draft


# --- what is to be done -------------------------------------------------------------------------------


class Action(msgspec.Struct, frozen=True):
    """Something to be done for the member ``name``."""

    name: str


class MakeReady(Action, frozen=True):
    """Look whether what it needs is there, and draft it where it is not drafted yet."""


class TakeBaseline(Action, frozen=True):
    """Look what is in force and answers before the change."""


class Begin(Action, frozen=True):
    """Begin the change on these terms."""

    terms: Terms


class Ask(Action, frozen=True):
    """Ask how the change is, not before ``at``."""

    number: str
    at: float


class Look(Action, frozen=True):
    """Verify the change: while it waits, for ``left`` seconds at most; or what is in force after its grace."""

    number: str
    left: float | None
    is_last: bool = False


class GiveVerdict(Action, frozen=True):
    """Tell the guard how the verification ended."""

    number: str
    word: str
    lines: tuple[str, ...]
    against: str


class Keep(Action, frozen=True):
    """Decide that the change is kept."""

    number: str


# --- what has happened ---------------------------------------------------------------------------------


class Event(msgspec.Struct, frozen=True):
    """Something that has happened to the member ``name``, ``at`` a moment."""

    name: str
    at: float


class MadeReady(Event, frozen=True):
    """It is drafted, on these terms."""

    member: Member


class BaselineTaken(Event, frozen=True):
    """What was before is known."""

    baseline: Baseline


class Begun(Event, frozen=True):
    """A guard carries the change out, which has this number."""

    number: str


class Answered(Event, frozen=True):
    """Its engine says how the change is."""

    status: ChangeStatus


class Verified(Event, frozen=True):
    """It was verified."""

    result: VerifyResult


class Heard(Event, frozen=True):
    """The guard has heard the verdict, or the decision."""


class TooLate(Event, frozen=True):
    """The guard would not hear it any more: it was decided meanwhile."""


class Unanswered(Event, frozen=True):
    """The target did not answer what it was last asked."""

    error: Unreachable


class Failed(Event, frozen=True):
    """What was to be done cannot be done."""

    error: AnchorError


class Interrupted(Event, frozen=True):
    """Whoever watches goes away; the guards go on. It is about every member."""


# --- how it ends ---------------------------------------------------------------------------------------


class Outcome(msgspec.Struct, frozen=True):
    """How a member ended: its final state, and the verification that was made of it.

    ``is_incomplete`` says that it is kept, and not every file of its final state could be written; ``why`` is
    what decided it. ``unheard`` are the checks by which it was rolled back, although all was as planned on the host:
    nobody on the segment, where the gateway had answered before, answered its new address. ``error`` is why nothing
    was begun, or why it was not seen again; ``is_left`` that nobody watched it to its end, ``is_held`` that it was not
    begun since others did not end well, which ``why`` names.
    """

    number: str
    state: str
    verified: VerifyResult | None
    is_incomplete: bool = False
    why: str = ""
    unheard: tuple[str, ...] = ()
    error: AnchorError | None = None
    is_left: bool = False
    is_held: bool = False

    @property
    def is_good(self) -> bool:
        """Whether others may rely on it: it is kept, as a whole, and was as planned when it was last looked at."""
        return self.state == states.CONFIRMED and not self.is_incomplete and not self._was_seen_wrong

    @property
    def reason(self) -> str:
        """Why it ended as it did, in words; empty where nobody said."""
        return str(self.error) if self.error is not None else self.why

    @property
    def _was_seen_wrong(self) -> bool:
        return self.verified is not None and self.verified.verdict == NOT_AS_PLANNED

    @property
    def exit_status(self) -> int:
        """The exit status that a command ends with."""
        if self.is_left:
            return EXIT_INTERRUPTED
        if self.is_held:
            return EXIT_AGAINST
        if self.error is not None:
            return self.error.exit_status
        if self.is_incomplete:
            return EXIT_STUCK
        if self.state == states.CONFIRMED and self._was_seen_wrong:
            # A person kept it, or the second activation of the held address went wrong.
            return EXIT_AGAINST
        return {states.CONFIRMED: EXIT_DONE, states.ROLLED_BACK: EXIT_ROLLED_BACK}.get(self.state, EXIT_STUCK)
