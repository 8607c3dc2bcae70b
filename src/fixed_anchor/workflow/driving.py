"""Carrying a run out: does what it asks for, on its targets, and tells it what has happened.

One member is worked on in the thread of whoever calls; of several, each in a thread of its own. Only the caller's
thread steps the run, and hears what happens.
"""

from __future__ import annotations

import heapq
import logging
import queue
import threading
import time
from collections.abc import Callable, Mapping

from fixed_anchor.change import states
from fixed_anchor.change.target import Target
from fixed_anchor.core.errors import AnchorError, ChangeOpen, Unreachable
from fixed_anchor.core.verification import AS_PLANNED, PASS, VerifyCheck, VerifyResult
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
    TakeBaseline,
    TooLate,
    Unanswered,
    Verified,
)
from fixed_anchor.workflow.notes import who
from fixed_anchor.workflow.run import Run

_log = logging.getLogger(__name__)

#: Seconds for the new address to answer a new connection, once all is as planned.
_TO_ANSWER = 15.0


class StillOpen(Event, frozen=True):
    """A verification under way waits for these checks, for so many seconds still. It moves nothing."""

    checks: tuple[VerifyCheck, ...]
    left: float


#: Hears every event, after the run was stepped by it.
Hears = Callable[[Event], None]
#: Drafts a member whose turn has come, on its terms.
MakesReady = Callable[[Member], Member]


def _as_it_is(member: Member) -> Member:
    return member


def drive(run: Run, targets: Mapping[str, Target], hears: Hears, makes_ready: MakesReady = _as_it_is) -> None:
    """Carries ``run`` out on ``targets``, by the names of its members, until it is over.

    ``makes_ready`` drafts those that have no draft yet, when their turn has come.

    Ctrl-C ends the watching, not the changes: the run is told, and this returns. If this process dies, the guards go
    on without it. What fails is the outcome of its member, and is not raised.
    """
    driver = _Driver(run, targets, hears, makes_ready)
    try:
        driver.go()
    except KeyboardInterrupt:
        event = Interrupted("", time.monotonic())
        run.step(event)
        hears(event)


class _Driver:
    def __init__(self, run: Run, targets: Mapping[str, Target], hears: Hears, makes_ready: MakesReady) -> None:
        self._run, self._targets, self._hears, self._makes_ready = run, targets, hears, makes_ready
        #: What is to be done, by its moment, and the order in which that was said.
        self._due: list[tuple[float, int, Action]] = []
        self._count = 0
        self._happened: queue.SimpleQueue[Event | BaseException] = queue.SimpleQueue()
        self._alone = len(run.names) == 1

    def go(self) -> None:
        self._plan(self._run.start(time.monotonic()))
        while not self._run.is_over:
            event = self._next()
            if not isinstance(event, StillOpen):
                self._plan(self._run.step(event))
                _log.debug("%s: %s; it is %s", event.name, type(event).__name__, self._run.state(event.name))
            self._hears(event)

    def _plan(self, actions: tuple[Action, ...]) -> None:
        for action in actions:
            self._count += 1
            heapq.heappush(self._due, (action.at if isinstance(action, Ask) else 0.0, self._count, action))

    def _next(self) -> Event:
        """The next event: what was due is done meanwhile, or has been begun."""
        if self._alone:
            at, _, action = heapq.heappop(self._due)
            time.sleep(max(0.0, at - time.monotonic()))
            return self._performed(action, self._hears)
        while True:
            now = time.monotonic()
            while self._due and self._due[0][0] <= now:
                threading.Thread(target=self._perform_beside, args=(heapq.heappop(self._due)[2],), daemon=True).start()
            try:
                happened = self._happened.get(timeout=max(0.01, self._due[0][0] - now) if self._due else None)
            except queue.Empty:
                continue
            if isinstance(happened, BaseException):
                raise happened
            return happened

    def _perform_beside(self, action: Action) -> None:
        try:
            self._happened.put(self._performed(action, self._happened.put))
        except BaseException as error:  # A bug of ours: it ends the command, not just this thread.
            self._happened.put(error)

    def _performed(self, action: Action, tells: Callable[[StillOpen], None]) -> Event:
        """Does what is asked; what came of it."""
        name = action.name
        try:
            made = self._perform(action, self._targets[name], self._run.member(name), tells)
        except Unreachable as error:
            return Unanswered(name, time.monotonic(), error)
        except AnchorError as error:
            return Failed(name, time.monotonic(), error)
        return made

    def _perform(self, action: Action, target: Target, member: Member, tells: Callable[[StillOpen], None]) -> Event:
        name = action.name
        if isinstance(action, MakeReady):
            made = self._makes_ready(member)
            return MadeReady(name, time.monotonic(), made)
        draft, terms = member.drafted, self._run.terms(name)
        if isinstance(action, TakeBaseline):
            assert member.survey is not None
            baseline = target.baseline(draft, member.survey)
            return BaselineTaken(name, time.monotonic(), baseline)
        if isinstance(action, Begin):
            _refuse_where_open(target)
            number = target.begin(draft, action.terms)
            return Begun(name, time.monotonic(), number)
        if isinstance(action, Ask):
            status = target.status(action.number)
            return Answered(name, time.monotonic(), status)

        def open_still(checks: tuple[VerifyCheck, ...], left: float) -> None:
            tells(StillOpen(name, time.monotonic(), checks, left))

        if isinstance(action, Look) and action.is_last:
            seen = target.verify(draft.host, draft.wanted, draft.hostname, terms, None, open_still)
            return Verified(name, time.monotonic(), seen)
        if isinstance(action, Look):
            seen = _looked_at(target, member, self._run, action.left or 0.0, open_still)
            return Verified(name, time.monotonic(), seen)
        # Where it was decided while we looked, the guard does not hear it any more.
        try:
            if isinstance(action, GiveVerdict):
                target.give_verdict(action.number, action.word, action.lines, action.against)
            else:
                assert isinstance(action, Keep)
                target.decide(action.number, states.KEEP, f"{who()}, unattended")
        except ChangeOpen:
            return TooLate(name, time.monotonic())
        return Heard(name, time.monotonic())


def _refuse_where_open(target: Target) -> None:
    """Raises :class:`ChangeOpen` where another change is open."""
    already = target.open_change()
    if already is None:
        return
    ways = f"`fixed-anchor confirm {already}` or `fixed-anchor restore {already}` first"
    if target.status(already).state == states.STUCK:
        ways = f"try once more with `fixed-anchor restore {already}`, or `fixed-anchor close` it as it is"
    raise ChangeOpen(f"change {already} is open on {target.name}", remedy=ways)


def _looked_at(
    target: Target,
    member: Member,
    run: Run,
    left: float,
    open_still: Callable[[tuple[VerifyCheck, ...], float], None],
) -> VerifyResult:
    """The verification of a change that waits: over a new connection where one is wanted, and by neighbours."""
    draft, terms, until = member.drafted, run.terms(member.name), time.monotonic() + left

    def answers(seconds: float) -> VerifyCheck:
        return target.answers_anew(draft.host, draft.interfaces[0], seconds)

    anew = answers(0.0) if terms.anew else None
    seen = target.verify(draft.host, draft.waiting, draft.hostname, terms, until - time.monotonic(), open_still)
    if not seen.checks or seen.verdict != AS_PLANNED:
        return seen
    if anew is not None and anew.outcome != PASS:
        # Switches and neighbours may have needed a moment.
        anew = answers(_TO_ANSWER)
    # Of what stays until the decision nobody need know any more.
    beside = target.from_elsewhere(draft.wanted)
    return VerifyResult((*seen.checks, *((anew,) if anew is not None else ()), *beside))
