"""The document of one event of a run: a line of JSON for each, as ``cutover --all --events`` writes them."""

from __future__ import annotations

from typing import Literal

from fixed_anchor.change.target import Target
from fixed_anchor.core.errors import printable
from fixed_anchor.reporting.documents.parts import Document
from fixed_anchor.workflow.driving import StillOpen
from fixed_anchor.workflow.events import (
    Answered,
    BaselineTaken,
    Begun,
    Event,
    Failed,
    Heard,
    Interrupted,
    MadeReady,
    TooLate,
    Unanswered,
    Verified,
)
from fixed_anchor.workflow.run import Run

Happened = Literal[
    "made-ready",
    "baseline-taken",
    "begun",
    "answered",
    "waiting-for-checks",
    "verified",
    "heard",
    "too-late",
    "unanswered",
    "failed",
    "interrupted",
]

_HAPPENED: dict[type[Event], Happened] = {
    MadeReady: "made-ready",
    BaselineTaken: "baseline-taken",
    Begun: "begun",
    Answered: "answered",
    StillOpen: "waiting-for-checks",
    Verified: "verified",
    Heard: "heard",
    TooLate: "too-late",
    Unanswered: "unanswered",
    Failed: "failed",
    Interrupted: "interrupted",
}


class RunEvent(Document, kw_only=True):
    """What has happened to one host of a run, and where its turn is since.

    ``turn`` is the host, and which of its changes that is where there are two. ``progress`` is the state of the turn in
    the run, ``state`` that of its change as its engine told it last. ``words`` say what was wrong, or what decided it.
    An ``interrupted`` is about all.
    """

    event: Happened
    host: str | None = None
    turn: str | None = None
    wave: int | None = None
    progress: str | None = None
    change: str | None = None
    state: str | None = None
    verdict: str | None = None
    words: str | None = None


def run_event(run: Run, target: Target | None, event: Event) -> RunEvent:
    """The document of an event by which ``run`` has been stepped."""
    made = RunEvent(command="cutover", event=_HAPPENED[type(event)])
    if target is None:
        return made
    last, outcome = run.last(event.name), run.outcome(event.name)
    made.host, made.turn = target.name, event.name
    made.wave, made.progress = run.member(event.name).wave + 1, run.state(event.name)
    made.change = event.number if isinstance(event, Begun) else last.number if last is not None else None
    made.state = last.state if last is not None else None
    if isinstance(event, Verified):
        made.verdict, made.words = event.result.verdict, printable(event.result.against) or None
    elif isinstance(event, Failed | Unanswered):
        made.words = printable(str(event.error))
    elif isinstance(event, Answered) and outcome is not None:
        made.words = printable(outcome.why) or None
    return made
