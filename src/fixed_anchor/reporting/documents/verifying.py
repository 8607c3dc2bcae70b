"""The document of ``verify``."""

from __future__ import annotations

from collections.abc import Iterable, Mapping

from msgspec import Struct

from fixed_anchor.core.errors import AnchorError
from fixed_anchor.core.verification import VerifyResult, verdict_of
from fixed_anchor.reporting.documents.parts import (
    Document,
    MadeCheck,
    Problem,
    VerifyVerdict,
    made_check,
    problem,
)


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


def hosts_verified(result: VerifyResult, names: Iterable[str], errors: Mapping[str, AnchorError]) -> list[HostVerified]:
    """Every host of ``names`` with its checks; ``errors`` has those that did not answer."""
    found = []
    for name in names:
        checks = [c for c in result.checks if c.host == name]
        verdict: VerifyVerdict = verdict_of(checks)  # type: ignore[assignment]
        error = problem(errors[name], name) if name in errors else None
        found.append(HostVerified(host=name, error=error, verdict=verdict, checks=[made_check(c) for c in checks]))
    return found
