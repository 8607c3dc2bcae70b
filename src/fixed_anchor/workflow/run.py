"""The order of one change, or of many at once: what is done next, and when, whatever happens meanwhile.

A run knows no input, output, clock or thread. It is stepped by what has happened (an :class:`Event`) and answers with
what is to be done (:class:`Action`); :mod:`fixed_anchor.workflow.driving` does it, a test plays it from a table.
Seconds are those of a clock that nobody sets (:func:`time.monotonic`).

Each member is in one of these states; its moves are those of the table, and no others:

============  ====================================  ==========================================================
state         what goes on                          left by
============  ====================================  ==========================================================
``planned``   its turn has not come                 its wave begins -> ``ready``, ``recorded``; or ``held``
``ready``     it is looked at anew, and drafted       a draft -> ``recorded``; an error -> ``failed``
``recorded``  what is there before is looked at     a baseline -> ``begun``; an error -> ``failed``
``begun``     its guard is started                  a number -> ``watched``; an error -> ``failed``
``watched``   its engine is asked how it is         a status -> the same, ``looked at``, or ``ended``
``looked at`` it is verified while it waits         a verification -> ``told``
``told``      its guard hears the verdict           heard -> ``kept`` or ``watched``; too late -> ``watched``
``kept``      it is decided from here, once         decided, or too late -> ``watched``
``seen off``  it is looked at after its grace       a verification -> ``ended``
``ended``     over: confirmed, rolled back, stuck
``failed``    over: nothing was begun, or it was not seen again
``left``      nobody watches any more; its guard goes on
``held``      over: it was not begun, since others before it did not end well
============  ====================================  ==========================================================

The rules on which others rely:

1. The guard of a target decides; a run decides only for a member whose terms say so (``anew``), and only what it has
   verified itself since it last heard that nothing is decided.
2. A member that does not answer is asked again as long as its guard may need to end it. Nothing is concluded from
   silence but that.
3. What comes late (a verification after the decision, an answer of a member that is over) moves nothing.
4. A wave begins when every member of the one before is over. Once more members than are tolerated have not ended well,
   and of those that one waits for any, nothing new is begun; what is under way goes on to its end.
"""

from __future__ import annotations

from collections import Counter, deque
from collections.abc import Iterable, Sequence

import msgspec

from fixed_anchor.change import states
from fixed_anchor.change.change import ChangeStatus, Terms
from fixed_anchor.core.errors import (
    AnchorError,
    Unreachable,
)
from fixed_anchor.core.indexed_claims import few
from fixed_anchor.core.verification import AS_PLANNED, NOT_AS_PLANNED, VerifyResult
from fixed_anchor.workflow.events import (
    Action,
    Answered,
    Ask,
    BaselineTaken,
    Begin,
    Begun,
    Event,
    Failed,
    GiveVerdict,
    Heard,
    Interrupted,
    Keep,
    Look,
    MadeReady,
    MakeReady,
    Member,
    Outcome,
    TakeBaseline,
    TooLate,
    Unanswered,
    Verified,
)

PLANNED, RECORDED, BEGUN, WATCHED, LOOKED_AT = "planned", "recorded", "begun", "watched", "looked at"
TOLD, KEPT, SEEN_OFF, ENDED, FAILED, LEFT = "told", "kept", "seen off", "ended", "failed", "left"
READY, HELD = "ready", "held"

#: To which states a member goes from each: the moves of the table above.
MOVES: dict[str, tuple[str, ...]] = {
    PLANNED: (READY, RECORDED, BEGUN, HELD, LEFT),
    READY: (RECORDED, FAILED, LEFT),
    RECORDED: (BEGUN, FAILED, LEFT),
    BEGUN: (WATCHED, FAILED, LEFT),
    WATCHED: (LOOKED_AT, SEEN_OFF, ENDED, FAILED, LEFT),
    LOOKED_AT: (TOLD, WATCHED, FAILED, LEFT),
    TOLD: (KEPT, WATCHED, FAILED, LEFT),
    KEPT: (WATCHED, FAILED, LEFT),
    SEEN_OFF: (ENDED, LEFT),
    ENDED: (),
    FAILED: (),
    LEFT: (),
    HELD: (),
}
#: In which a member is over.
OVER = tuple(state for state, moves in MOVES.items() if not moves)

#: Seconds between two looks at a change, and until one is looked for that did not answer.
PAUSE, LOST_PAUSE = 0.2, 1.0
#: Seconds that a guard may need to roll back, after its deadline, before its target is given up for lost.
TO_ROLL_BACK = 120.0


class _Tally:
    """How many members are where: an event costs the same whether there are three members or three thousand."""

    def __init__(self, members: Sequence[Member]) -> None:
        #: Those that are under way; those that are not over, of all and by wave.
        self.under_way = 0
        self.open = len(members)
        self.open_in = Counter(member.wave for member in members)
        #: Those whose turn has not come, by wave, in their order; and those that have ended badly since it was asked.
        self.planned: dict[int, deque[str]] = {wave: deque() for wave in sorted(self.open_in)}
        for member in members:
            self.planned[member.wave].append(member.name)
        self.turned_bad: list[str] = []


class _Progress:
    """Where one member is."""

    def __init__(self, member: Member, tally: _Tally) -> None:
        self.member = member
        self._tally = tally
        self.terms = member.terms
        self.state = PLANNED
        self.number = ""
        self.last: ChangeStatus | None = None
        self.verified: VerifyResult | None = None
        self.outcome: Outcome | None = None
        self.left = float(member.terms.confirm_within)
        self.lost_since: float | None = None
        #: Whether its guard has not heard yet what was seen of it.
        self.must_look = True
        #: Whether a decision was sent of which no answer came.
        self.may_be_kept = False

    def goes(self, state: str) -> None:
        assert state in MOVES[self.state], f"{self.member.name}: {self.state} -> {state}"
        self._tally.under_way += (state not in OVER) - (self.state != PLANNED)
        if state in OVER:
            self._tally.open -= 1
            self._tally.open_in[self.member.wave] -= 1
        self.state = state

    def ends(self, outcome: Outcome, state: str = ENDED) -> tuple[Action, ...]:
        self.goes(state)
        self.outcome = outcome
        if not outcome.is_good:
            self._tally.turned_bad.append(self.member.name)
        return ()


class Run:
    """One or more changes, carried out together. :meth:`start` and :meth:`step` return what is to be done next.

    At most ``at_once`` members are under way at the same time, wave by wave, in the order in which they are given. So
    many of them as are to ``tolerate`` may end otherwise than well before nothing more is begun. Nothing is begun that
    might not have ended ``until`` a moment, by its own deadline.
    """

    def __init__(
        self, members: Sequence[Member], at_once: int = 1, tolerate: int = 0, until: float | None = None
    ) -> None:
        self._tally = _Tally(members)
        self._members = {member.name: _Progress(member, self._tally) for member in members}
        assert len(self._members) == len(members), "two members of one name"
        self._at_once = at_once
        self._tolerate = tolerate
        self._until = until
        #: Those that did not end well, and those of them that were begun.
        self._bad: set[str] = set()
        self._failed: list[str] = []

    @property
    def is_over(self) -> bool:
        """Whether nothing more is to be done."""
        return not self._tally.open

    @property
    def names(self) -> tuple[str, ...]:
        """The members, in their order."""
        return tuple(self._members)

    def member(self, name: str) -> Member:
        """A member as it was given, or as it was made ready."""
        return self._members[name].member

    def state(self, name: str) -> str:
        """Where a member is: a key of :data:`MOVES`."""
        return self._members[name].state

    def verified(self, name: str) -> VerifyResult | None:
        """The verification of a member that its guard was told of."""
        return self._members[name].verified

    def number(self, name: str) -> str:
        """The change that a member began, as it is numbered there; empty while that is not known."""
        return self._members[name].number

    def terms(self, name: str) -> Terms:
        """The terms of a member, with what was before once that is known."""
        return self._members[name].terms

    def last(self, name: str) -> ChangeStatus | None:
        """How the change of a member was when it last answered."""
        return self._members[name].last

    def outcome(self, name: str) -> Outcome | None:
        """How a member ended; nothing while it goes on."""
        return self._members[name].outcome

    def looked_for(self, name: str, now: float) -> float | None:
        """For how many seconds a member that does not answer is looked for still; nothing where it does."""
        one = self._members[name]
        return one.lost_since + one.left + TO_ROLL_BACK - now if one.lost_since is not None else None

    def start(self, now: float = 0.0) -> tuple[Action, ...]:
        """What is to be done first."""
        return self._next_ones(now)

    def step(self, event: Event) -> tuple[Action, ...]:
        """What is to be done after ``event``."""
        if isinstance(event, Interrupted):
            for one in self._members.values():
                if one.state not in OVER:
                    state = one.last.state if one.last is not None else states.NOT_BEGUN
                    one.ends(Outcome(one.number, state, one.verified, is_left=True), LEFT)
            return ()
        one = self._members[event.name]
        if one.state in (PLANNED, *OVER):
            return ()
        if isinstance(event, Unanswered):
            return self._and_next(self._unanswered(one, event), event.at)
        if isinstance(event, Failed):
            return self._and_next(_fails(one, event.error), event.at)
        moves = _STEPS.get(one.state)
        return self._and_next(moves(one, event) if moves is not None else (), event.at)

    def _and_next(self, actions: Iterable[Action], now: float) -> tuple[Action, ...]:
        return (*actions, *self._next_ones(now))

    def _next_ones(self, now: float) -> tuple[Action, ...]:
        """The beginnings of those whose turn has come."""
        begun: list[Action] = []
        for wave, planned in list(self._tally.planned.items()):
            self._hold_back()
            while planned and self._tally.under_way < self._at_once:
                one = self._members[planned.popleft()]
                if one.state != PLANNED:
                    continue
                if self._until is not None and now + one.terms.confirm_within + TO_ROLL_BACK > self._until:
                    self._hold(one, "it might not have ended within the window")
                    self._hold_back()
                else:
                    begun.append(_begins(one))
            if self._tally.open_in[wave]:
                break
            del self._tally.planned[wave]
        return tuple(begun)

    def _hold_back(self) -> None:
        """Ends those that are not to be begun any more, since others did not end well."""
        while self._tally.turned_bad:
            turned, self._tally.turned_bad = self._tally.turned_bad, []
            self._bad.update(turned)
            self._failed += [name for name in turned if self._members[name].state != HELD]
            for name in [name for wave in self._tally.planned.values() for name in wave]:
                one = self._members[name]
                awaited = [other for other in one.member.after if other in self._bad]
                if one.state == PLANNED and (awaited or len(self._failed) > self._tolerate):
                    did_not = f"{few(self._failed)} did not end well"
                    self._hold(one, f"it waits for {', '.join(awaited)}" if awaited else did_not)

    @staticmethod
    def _hold(one: _Progress, why: str) -> None:
        one.ends(Outcome("", states.NOT_BEGUN, None, why=why, is_held=True), HELD)

    def _unanswered(self, one: _Progress, event: Unanswered) -> Iterable[Action]:
        """It is asked again; after the time that its guard may need, it is given up."""
        if one.state in (READY, RECORDED, BEGUN):
            return _fails(one, event.error)
        if one.state == SEEN_OFF:
            # It is kept, and cannot be looked at once more.
            return _over(one)
        if one.state == KEPT:
            # Where the answer is lost nobody here knows whether that still arrived.
            one.may_be_kept = one.must_look = True
        if one.lost_since is None:
            one.lost_since = event.at
        if one.lost_since + one.left + TO_ROLL_BACK - event.at <= 0:
            gone = Unreachable(
                f"change {one.number} of {event.name}: {_by_now(one)}; not seen again: {event.error.what}",
                remedy="look at its console, and ask again with `status`",
            )
            return _fails(one, gone)
        if one.state != WATCHED:
            one.goes(WATCHED)
        return (Ask(event.name, one.number, event.at + LOST_PAUSE),)


def _begins(one: _Progress) -> Action:
    """The first action of a member whose turn has come."""
    name = one.member.name
    if one.member.draft is None:
        one.goes(READY)
        return MakeReady(name)
    if one.member.survey is not None:
        one.goes(RECORDED)
        return TakeBaseline(name)
    one.goes(BEGUN)
    return Begin(name, one.terms)


def _by_now(one: _Progress) -> str:
    """What has become of the change of a member that was not seen again, as far as it can be known from here."""
    if not one.terms.unattended:
        return "rolled back by its guard, unless somebody has confirmed it"
    if one.terms.anew:
        return "kept, or rolled back by its guard" if one.may_be_kept else "rolled back by its guard"
    return "kept or rolled back by its guard"


def _fails(one: _Progress, error: AnchorError) -> tuple[Action, ...]:
    state = one.last.state if one.last is not None else states.NOT_BEGUN
    if one.state == SEEN_OFF:
        return _over(one)
    return one.ends(Outcome(one.number, state, one.verified, error=error), FAILED)


def _over(one: _Progress) -> tuple[Action, ...]:
    """The end of a change that its guard has ended."""
    now = one.last
    assert now is not None
    unheard: tuple[str, ...] = ()
    if now.state == states.ROLLED_BACK and one.verified is not None and now.gateway_answered is True:
        unheard = one.verified.unheard
    return one.ends(Outcome(one.number, now.state, one.verified, now.is_incomplete, now.why, unheard))


def _made_ready(one: _Progress, event: Event) -> tuple[Action, ...]:
    if not isinstance(event, MadeReady):
        return ()
    one.member, one.terms = event.member, event.member.terms
    one.left = float(one.terms.confirm_within)
    one.goes(RECORDED)
    return (TakeBaseline(event.name),)


def _recorded(one: _Progress, event: Event) -> tuple[Action, ...]:
    if not isinstance(event, BaselineTaken):
        return ()
    judge = msgspec.structs.replace(one.terms.judge, before=event.baseline)
    one.terms = msgspec.structs.replace(one.terms, judge=judge)
    one.goes(BEGUN)
    return (Begin(event.name, one.terms),)


def _begun(one: _Progress, event: Event) -> tuple[Action, ...]:
    if not isinstance(event, Begun):
        return ()
    one.number = event.number
    one.goes(WATCHED)
    return (Ask(event.name, one.number, event.at),)


def _watched(one: _Progress, event: Event) -> tuple[Action, ...]:
    if not isinstance(event, Answered):
        return ()
    now = event.status
    one.last, one.lost_since = now, None
    one.left = float(now.left) if now.left is not None and now.left > 0 else one.left
    if not now.is_open or now.state == states.STUCK:
        if now.state == states.CONFIRMED and one.member.drafted.grace:
            # The old address has gone meanwhile: what is in force now has not been looked at yet.
            one.goes(SEEN_OFF)
            return (Look(event.name, one.number, None, is_last=True),)
        return _over(one)
    if now.state == states.WAITING and one.must_look and now.decision is None:
        one.goes(LOOKED_AT)
        return (Look(event.name, one.number, float(now.left or 0)),)
    return (Ask(event.name, one.number, event.at + PAUSE),)


def _looked_at(one: _Progress, event: Event) -> tuple[Action, ...]:
    if not isinstance(event, Verified):
        return ()
    seen = event.result
    word = {AS_PLANNED: "as-planned", NOT_AS_PLANNED: "not-as-planned"}.get(seen.verdict, "undetermined")
    # Of nothing that was looked at nothing can be said.
    word = word if seen.checks else "undetermined"
    one.verified = seen
    one.goes(TOLD)
    return (GiveVerdict(event.name, one.number, word, tuple(seen.lines()), seen.against),)


def _told(one: _Progress, event: Event) -> tuple[Action, ...]:
    if not isinstance(event, Heard | TooLate):
        return ()
    seen, one.must_look = one.verified, False
    if isinstance(event, Heard) and one.terms.anew and seen is not None and seen.checks and seen.verdict == AS_PLANNED:
        one.goes(KEPT)
        return (Keep(event.name, one.number),)
    one.goes(WATCHED)
    return (Ask(event.name, one.number, event.at),)


def _kept(one: _Progress, event: Event) -> tuple[Action, ...]:
    if not isinstance(event, Heard | TooLate):
        return ()
    one.goes(WATCHED)
    return (Ask(event.name, one.number, event.at),)


def _seen_off(one: _Progress, event: Event) -> tuple[Action, ...]:
    if not isinstance(event, Verified):
        return ()
    one.verified = event.result
    return _over(one)


#: What each state makes of an event; what is none of its own moves nothing.
_STEPS = {
    READY: _made_ready,
    RECORDED: _recorded,
    BEGUN: _begun,
    WATCHED: _watched,
    LOOKED_AT: _looked_at,
    TOLD: _told,
    KEPT: _kept,
    SEEN_OFF: _seen_off,
}
