"""The document of ``history --runs``: the runs of a seat with their turns."""

from __future__ import annotations

from msgspec import Struct

from fixed_anchor.core.errors import printable
from fixed_anchor.reporting.documents.parts import Document
from fixed_anchor.workflow.run_records import RunRecord


class RunLeftOut(Struct, frozen=True):
    """A host that a sitting did not change, and why."""

    host: str
    why: str


class RunSitting(Struct, frozen=True):
    """One command of a run, with UTC times; ``ended`` is null while it goes on, or where its seat has gone."""

    begun: str
    ended: str | None
    by: str
    note: str | None
    left_out: list[RunLeftOut]


class RunTurn(Struct, frozen=True):
    """One change of a run. ``change`` and ``begun`` are null where none began, ``ended`` where nobody saw the end."""

    wave: int
    sitting: int
    host: str
    turn: str
    change: str | None
    state: str | None
    words: str | None
    begun: str | None
    ended: str | None
    after: list[str]
    why: list[str]


class RunHistory(Struct, frozen=True):
    """One run. ``under_way`` says whether a command carries it out now."""

    number: str
    kind: str
    plan: str
    under_way: bool
    restores: str | None
    restored_by: str | None
    sittings: list[RunSitting]
    turns: list[RunTurn]


class RunsDocument(Document, kw_only=True):
    """What ``history --runs`` prints with ``--json``."""

    command: str = "history"
    runs: list[RunHistory] = []


def run_history(run: RunRecord, under_way: bool) -> RunHistory:
    """A run as a part of the document."""
    sittings = [
        RunSitting(
            one.begun,
            one.ended,
            printable(one.by),
            printable(one.note) if one.note else None,
            [RunLeftOut(printable(left.host), printable(left.why)) for left in one.left_out],
        )
        for one in run.sittings
    ]
    turns = [
        RunTurn(
            turn.wave,
            turn.sitting,
            printable(turn.host),
            printable(turn.name),
            turn.change or None,
            turn.state or None,
            printable(turn.words) or None,
            turn.begun,
            turn.ended,
            list(turn.after),
            [printable(why) for why in turn.why],
        )
        for turn in sorted(run.turns, key=lambda one: one.place)
    ]
    return RunHistory(
        run.number, run.kind, printable(run.plan), under_way, run.restores, run.restored_by, sittings, turns
    )
