"""The document of ``verify``."""

from __future__ import annotations

from collections.abc import Iterable

from msgspec import Struct

from fixed_anchor.core.verification import VerifyResult, verdict_of
from fixed_anchor.reporting.documents.parts import Document, MadeCheck, Problem, VerifyVerdict, made_check


class HostVerified(Struct, frozen=True, kw_only=True):
    """What was verified of a host."""

    host: str
    error: Problem | None = None
    verdict: VerifyVerdict | None = None
    checks: list[MadeCheck] = []


class VerifyDocument(Document, kw_only=True):
    """What ``verify --json`` prints."""

    plan: str | None = None
    verdict: VerifyVerdict | None = None
    hosts: list[HostVerified] = []


def hosts_verified(result: VerifyResult, names: Iterable[str]) -> list[HostVerified]:
    """Every host of ``names`` with its checks."""
    found = []
    for name in names:
        checks = [c for c in result.checks if c.host == name]
        verdict: VerifyVerdict = verdict_of(checks)  # type: ignore[assignment]
        found.append(HostVerified(host=name, verdict=verdict, checks=[made_check(c) for c in checks]))
    return found
