"""The documents of looking before anything is done: ``probe`` and ``check``."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from functools import cache
from typing import Literal

from msgspec import Struct

from fixed_anchor.core.errors import AnchorError
from fixed_anchor.core.findings import (
    Consulted,
    Evidence,
    Judgement,
    NotConsulted,
)
from fixed_anchor.core.times import time_in
from fixed_anchor.reporting.documents.parts import (
    CheckVerdict,
    Document,
    FoundFinding,
    Place,
    Problem,
    Time,
    found_finding,
    places_in,
    problem,
)
from fixed_anchor.workflow.probe import ProbedAddress, ProbeResult

ProbeVerdict = Literal["free", "taken", "undetermined"]


class Asked(Struct, frozen=True):
    """A source or vantage that was asked, and what it said, at a ``time`` or in ``places``; ``at`` has it in words."""

    source: str
    said: str
    at: str
    time: Time | None
    places: list[Place]


class NotAsked(Struct, frozen=True):
    """A source or vantage that could not be asked, and why."""

    source: str
    why: str


class Holder(Struct, frozen=True):
    """A machine that holds an address; the MAC is null beyond a router."""

    mac: str | None
    seen_by: str


class AddressProbed(Struct, frozen=True):
    """An address, whether it is free, who holds it, and what was asked."""

    host: str | None
    interface: str | None
    address: str
    verdict: ProbeVerdict
    holders: list[Holder]
    asked: list[Asked]
    not_asked: list[NotAsked]


class HostProbed(Struct, frozen=True, kw_only=True):
    """What was asked from one host."""

    host: str
    error: Problem | None = None
    verdict: ProbeVerdict | None = None
    addresses: list[AddressProbed] = []


class ProbeDocument(Document, kw_only=True):
    """What ``probe --json`` prints."""

    verdict: ProbeVerdict | None = None
    hosts: list[HostProbed] = []


class AddressChecked(Struct, frozen=True):
    """An address of the plan, what its findings amount to, and what was asked about it."""

    host: str | None
    interface: str | None
    address: str
    verdict: CheckVerdict
    asked: list[Asked]
    not_asked: list[NotAsked]


class HostChecked(Struct, frozen=True, kw_only=True):
    """A host of the plan: its findings, and its addresses."""

    host: str
    error: Problem | None = None
    verdict: CheckVerdict | None = None
    findings: list[FoundFinding] = []
    addresses: list[AddressChecked] = []


class CheckDocument(Document, kw_only=True):
    """What ``check --json`` prints; ``findings`` are those of no host that was checked."""

    plan: str | None = None
    verdict: CheckVerdict | None = None
    findings: list[FoundFinding] = []
    hosts: list[HostChecked] = []


def probed(result: ProbeResult, host: str) -> HostProbed:
    """What was asked from ``host``."""
    return HostProbed(host=host, verdict=result.verdict, addresses=[_probed(a, host) for a in result.addresses])  # type: ignore[arg-type]


def _probed(found: ProbedAddress, host: str) -> AddressProbed:
    return AddressProbed(
        host,
        found.interface,
        str(found.address),
        found.verdict,  # type: ignore[arg-type]
        [Holder(h.mac, h.seen_by) for h in found.holders],
        _asked(found.consulted),
        _not_asked(found.not_consulted),
    )


def hosts_checked(result: Judgement, names: Iterable[str], errors: Mapping[str, AnchorError]) -> list[HostChecked]:
    """The hosts with ``names``, each with its own findings and addresses; ``errors`` has those that did not answer."""
    evidence: dict[str | None, list[Evidence]] = {}
    for one in result.evidence:
        evidence.setdefault(one.host, []).append(one)
    return [
        HostChecked(
            host=name,
            error=problem(errors[name], name) if name in errors else None,
            verdict=result.verdict_of_host(name),  # type: ignore[arg-type]
            findings=[found_finding(f) for f in result.by_host.get(name, ())],
            addresses=[_checked(result, name, e) for e in evidence.get(name, ())],
        )
        for name in names
    ]


def _checked(result: Judgement, host: str, evidence: Evidence) -> AddressChecked:
    return AddressChecked(
        evidence.host,
        evidence.interface,
        evidence.address,
        result.verdict_of_address(host, evidence.address),  # type: ignore[arg-type]
        _asked(evidence.consulted),
        _not_asked(evidence.not_consulted),
    )


def _asked(consulted: Iterable[Consulted]) -> list[Asked]:
    return [_one_asked(c) for c in consulted]


@cache
def _one_asked(said: Consulted) -> Asked:
    """The same of one: most addresses of a large plan have been looked for in the same places, and found in none."""
    return Asked(said.source, said.said, said.at, time_in(said.at), places_in(said.at))


def _not_asked(missing: Iterable[NotConsulted]) -> list[NotAsked]:
    return [NotAsked(n.source, n.why) for n in missing]
