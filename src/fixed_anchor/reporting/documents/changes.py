"""The documents of changes: what was done, what is open, and what was."""

from __future__ import annotations

import time
from collections.abc import Iterable

from msgspec import Struct

from fixed_anchor.change import states
from fixed_anchor.change.change import ChangeStatus
from fixed_anchor.core.errors import printable
from fixed_anchor.core.times import utc
from fixed_anchor.core.verification import VerifyResult
from fixed_anchor.reporting.documents.drafting import HostDrafted
from fixed_anchor.reporting.documents.ordering import LeftOutHost, OrderedTurn
from fixed_anchor.reporting.documents.parts import (
    Document,
    FoundFinding,
    LogLine,
    MadeCheck,
    Problem,
    Time,
    VerifyVerdict,
    log_line,
    made_check,
)
from fixed_anchor.workflow.history import Past


class Change(Struct, frozen=True, kw_only=True):
    """A change as its engine tells of it now. ``verdict`` is that of its verification.

    ``deadline`` is when it is rolled back unless somebody confirms it; ``complete`` is false where it is kept
    without all of its final files; ``engine_gone`` where nothing can carry it out any more.
    """

    host: str
    interface: str | None
    change: str
    state: str
    open: bool
    deadline: Time | None
    seconds_left: int | None
    guard_alive: bool
    verdict: VerifyVerdict | None
    why: str | None
    complete: bool
    closed_by: str | None
    rolled_back_at_boot: bool
    engine_gone: bool


class HostChanged(Struct, frozen=True, kw_only=True):
    """What was done to a host: the change, how it was drafted, and how it was verified.

    ``change`` is null where there was nothing to do, or where nothing was done: then ``done`` says so.
    """

    host: str
    error: Problem | None = None
    done: str | None = None
    change: Change | None = None
    findings: list[FoundFinding] = []
    draft: HostDrafted | None = None
    checks: list[MadeCheck] = []


class ChangeDocument(Document, kw_only=True):
    """What ``cutover``, ``restore``, ``confirm`` and ``close`` print with ``--json``.

    With ``--all`` there is the ``order`` of the turns, who is ``left_out``, and who is ``settled``: as planned already.
    ``run`` is the number of the run: the one that was carried out, or with ``restore --run`` taken back.
    """

    plan: str | None = None
    run: str | None = None
    hosts: list[HostChanged] = []
    order: list[OrderedTurn] = []
    left_out: list[LeftOutHost] = []
    settled: list[str] = []


class HostStatus(Struct, frozen=True, kw_only=True):
    """The open change of a host, or the last one; both null where there was none."""

    host: str
    error: Problem | None = None
    open: Change | None = None
    last: Change | None = None


class StatusDocument(Document, kw_only=True):
    """What ``status --json`` prints."""

    hosts: list[HostStatus] = []


class PastChange(Struct, frozen=True):
    """A change of the history."""

    host: str
    interface: str | None
    change: str
    state: str
    complete: bool
    kind: str
    interfaces: list[str]
    begun: Time | None
    by: str
    plan_sha256: str | None
    accepted: list[str]
    why: str | None
    closed_by: str | None
    note: str | None
    evidence: str | None
    log: list[LogLine]


class HostHistory(Struct, frozen=True, kw_only=True):
    """The changes of a host, oldest first."""

    host: str
    error: Problem | None = None
    changes: list[PastChange] = []


class HistoryDocument(Document, kw_only=True):
    """What ``history --json`` prints."""

    hosts: list[HostHistory] = []


def change(host: str, status: ChangeStatus) -> Change:
    """A change as a part of a document."""
    waits = status.left is not None and status.is_open
    verdict: VerifyVerdict | None = status.verdict.replace("-", " ") if status.verdict else None  # type: ignore[assignment]
    return Change(
        host=host,
        interface=status.interface or None,
        change=status.number,
        state=states.shown(status.state),
        open=status.is_open,
        deadline=utc(time.time() + max(status.left or 0, 0)) if waits else None,
        seconds_left=status.left if waits else None,
        guard_alive=status.guard_alive,
        verdict=verdict,
        why=printable(status.why) or None,
        complete=not status.is_incomplete,
        closed_by=printable(status.closed_by) or None,
        rolled_back_at_boot=status.rolled_back_at_boot,
        engine_gone=bool(status.engine_gone),
    )


def checks(result: VerifyResult | None) -> list[MadeCheck]:
    """The checks of a verification, where one was made."""
    return [made_check(c) for c in result.checks] if result is not None else []


def host_history(host: str, past: Iterable[Past]) -> HostHistory:
    """The history of a host as a part of a document."""
    return HostHistory(host=host, changes=[_past(host, p) for p in past])


def _past(host: str, past: Past) -> PastChange:
    return PastChange(
        host=host,
        interface=past.interfaces[0] if past.interfaces else None,
        change=past.number,
        state=past.state,
        complete=not past.is_incomplete,
        kind=past.kind,
        interfaces=list(past.interfaces),
        begun=past.begun if past.begun != "?" else None,
        by=past.by,
        plan_sha256=past.plan_sha256,
        accepted=list(past.accepted),
        why=past.why or None,
        closed_by=past.closed_by or None,
        note=past.note or None,
        evidence=past.evidence or None,
        log=[log_line(line) for line in past.log],
    )
