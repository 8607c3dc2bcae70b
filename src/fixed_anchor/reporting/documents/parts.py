"""What the documents share: places, times, errors, findings and checks, each in one form."""

from __future__ import annotations

import re
from typing import Annotated, Literal

import msgspec
from msgspec import Meta, Struct

from fixed_anchor.core.errors import AnchorError, InputErrors, printable
from fixed_anchor.core.findings import Finding
from fixed_anchor.core.secrets import masked_line
from fixed_anchor.core.times import time_in, utc
from fixed_anchor.core.verification import VerifyCheck

Time = Annotated[str, Meta(description="UTC, as 2026-11-28T19:23:09Z")]
Severity = Literal["blocker", "undetermined", "warning", "note"]
CheckVerdict = Literal["clear", "blocked", "undetermined"]
VerifyVerdict = Literal["as planned", "not as planned", "undetermined"]

#: ``FILE:LINE`` or ``FILE:LINE:COLUMN``, as findings and evidence name places.
_PLACE = re.compile(r"(?P<file>[^\s:,][^:,]*):(?P<line>\d+)(?::(?P<column>\d+))?")


class Place(Struct, frozen=True):
    """A place in a file; line and column are counted from 1, and null where they are not known."""

    file: str
    line: int | None = None
    column: int | None = None


def places_in(text: str) -> list[Place]:
    """The places that ``text`` names: ``FILE:LINE``, several behind commas; empty for a vantage or the like."""
    found = [_PLACE.fullmatch(part.strip()) for part in text.split(",")]
    return [Place(m["file"], int(m["line"]), int(m["column"]) if m["column"] else None) for m in found if m]


class Problem(Struct, frozen=True):
    """Why something could not be done. The exit status is that which it alone would have ended the command with."""

    message: str
    exit_status: int
    host: str | None = None
    interface: str | None = None
    place: Place | None = None
    expected: str | None = None
    remedy: str | None = None


def problem(error: AnchorError, host: str | None = None) -> Problem:
    """An error of ours as a part of a document."""
    place = None if error.file is None else Place(error.file, error.line, error.column)
    said = (None if t is None else masked_line(printable(t)) for t in (error.what, error.expected, error.remedy))
    what, expected, remedy = said
    return Problem(what or "", error.exit_status, host, None, place, expected, remedy)


def problems(error: AnchorError) -> list[Problem]:
    """The same of an error that may be several."""
    return [problem(one) for one in (error.errors if isinstance(error, InputErrors) else (error,))]


class Document(Struct, kw_only=True):
    """What every document begins with. ``errors`` are those of no single host."""

    format: Literal[2] = 2
    command: str
    time: Time = msgspec.field(default_factory=utc)
    exit_status: int = 0
    errors: list[Problem] = []


class FoundFinding(Struct, frozen=True):
    """A finding: what speaks against a plan, or a remark. ``places`` are those that ``seen_in`` names.

    One of no host concerns every host of its ``segment``, or of the plan where it names none.
    """

    code: str
    severity: Severity
    host: str | None
    interface: str | None
    address: str | None
    message: str
    seen_in: str
    places: list[Place]
    remedy: str
    segment: str | None


def found_finding(found: Finding) -> FoundFinding:
    """A finding as a part of a document."""
    return FoundFinding(
        found.code,
        found.shown_severity,  # type: ignore[arg-type]
        found.host,
        found.interface,
        found.address,
        found.message,
        found.seen_in,
        places_in(found.seen_in),
        found.remedy,
        found.segment,
    )


class MadeCheck(Struct, frozen=True):
    """A check of a verification. The verdict depends on it where it is required, and was not so before."""

    code: str
    outcome: Literal["pass", "fail", "skipped"]
    host: str
    interface: str | None
    seen_from: str
    expected: str
    observed: str
    required: bool
    as_before: bool
    why: str | None
    seconds: float


def made_check(check: VerifyCheck) -> MadeCheck:
    """A check as a part of a document."""
    return MadeCheck(
        check.code,
        check.outcome,  # type: ignore[arg-type]
        check.host,
        check.interface or None,
        check.seen_from,
        check.expected,
        check.observed,
        check.required,
        check.as_before,
        check.why,
        check.seconds,
    )


class LogLine(Struct, frozen=True):
    """A line of a log."""

    time: Time | None
    text: str


def log_line(line: str) -> LogLine:
    """A line of an engine's log, which begins with its time, as a part of a document."""
    at = time_in(line)
    return LogLine(at, line if at is None else line[len(at) :].strip())
