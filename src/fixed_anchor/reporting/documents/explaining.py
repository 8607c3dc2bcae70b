"""The document of ``explain``."""

from __future__ import annotations

from msgspec import Struct

from fixed_anchor.reporting.documents.parts import Document, Severity


class ExplainedFinding(Struct, frozen=True):
    """What a finding means."""

    code: str
    severity: Severity
    title: str
    why: str
    do: str


class ExplainedCheck(Struct, frozen=True):
    """What a check of a verification asks, what passes and fails it, and when a failure is excused."""

    code: str
    asks: str
    passes: str
    fails: str
    excused: str | None


class ExplainedStatus(Struct, frozen=True):
    """What an exit status means."""

    exit_status: int
    meaning: str


class ExplainedKey(Struct, frozen=True):
    """A key of a plan: where it belongs, and what it says."""

    key: str
    belongs_to: str
    meaning: str


class ExplainDocument(Document, kw_only=True):
    """What ``explain --json`` prints."""

    findings: list[ExplainedFinding] = []
    checks: list[ExplainedCheck] = []
    exit_statuses: list[ExplainedStatus] = []
    plan_keys: list[ExplainedKey] = []
