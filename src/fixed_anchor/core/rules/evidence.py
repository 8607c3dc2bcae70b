"""Rules about evidence that somebody carried here: how old it is, and what rests on nothing else."""

from __future__ import annotations

from collections.abc import Iterable, Iterator

from fixed_anchor.core.findings import BLOCKER, NOTE, Finding, FindingKind, finding
from fixed_anchor.core.rules.case import SiteCase

EVIDENCE_CARRIED_ONLY = FindingKind(
    "evidence-carried-only",
    "knowledge",
    BLOCKER,
    "only evidence that was carried here clears it",
    "A file can be old, of another site, or made up: nothing that can be looked at from here says the same.",
    "Look at the evidence, and accept this with a reason: --accept evidence-carried-only --because TEXT.",
)
EVIDENCE_OLD = FindingKind(
    "evidence-old",
    "knowledge",
    NOTE,
    "the evidence is old",
    "Leases and reservations change every hour; what was so a day ago may not be so now.",
    "Save it again where the sources can be seen, with `check --evidence`.",
    undetermined=True,
)


def age_findings(case: SiteCase) -> Iterator[Finding]:
    """Evidence that is older than it can be relied on, for each host."""
    carried = case.facts.carried
    for host in case.facts.hosts if carried is not None and carried.limit is not None else ():
        assert carried is not None
        yield finding(
            EVIDENCE_OLD,
            f"the evidence is {carried.age}, and after {carried.limit} h it is no longer relied on",
            host=host.name,
            seen_in=carried.path,
        )


def rests_on_evidence(path: str, without: Iterable[Finding], with_it: Iterable[Finding]) -> Iterator[Finding]:
    """What stops a change here, and no longer does so once the carried claims are believed; one for each address."""
    stands = {_of(f) for f in with_it if f.stops}
    cleared: dict[tuple[str | None, str | None, str | None], list[str]] = {}
    for found in without:
        if found.stops and _of(found) not in stands:
            cleared.setdefault((found.host, found.interface, found.address), []).append(found.code)
    for (host, interface, address), codes in cleared.items():
        yield finding(
            EVIDENCE_CARRIED_ONLY,
            f"only the evidence clears this: {', '.join(dict.fromkeys(codes))}",
            host=host,
            interface=interface,
            address=address,
            seen_in=path,
        )


def _of(found: Finding) -> tuple[str, str | None, str | None, str | None]:
    return (found.code, found.host, found.interface, found.address)
