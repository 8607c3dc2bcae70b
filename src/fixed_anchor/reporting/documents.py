"""The JSON documents of the commands. Scripts rely on these shapes; they only ever grow."""

from __future__ import annotations

import json
from typing import TYPE_CHECKING, Any

import msgspec

from fixed_anchor.change import states
from fixed_anchor.change.steps import argv_of
from fixed_anchor.core.rules.survey import survey_findings
from fixed_anchor.core.secrets import masked

if TYPE_CHECKING:
    from fixed_anchor.change.change import ChangeStatus, Draft
    from fixed_anchor.core.findings import CheckResult, Finding
    from fixed_anchor.core.survey import HostSurvey
    from fixed_anchor.core.verification import VerifyCheck, VerifyResult
    from fixed_anchor.workflow.dhcp_server import ServerDraft
    from fixed_anchor.workflow.probe import ProbeResult

FORMAT = 1

#: Up to this many bytes a document is indented; a larger one only a program reads.
_FOR_PEOPLE = 1_000_000


def as_text(document: dict[str, Any]) -> str:
    """The document as JSON in ASCII: nothing in it can move a terminal's cursor."""
    encoded = msgspec.json.encode(document)
    if len(encoded) < _FOR_PEOPLE:
        encoded = msgspec.json.format(encoded, indent=2)
    # Writing everything as ASCII is ten times slower, and seldom needed.
    if encoded.isascii():
        return encoded.decode()
    return json.dumps(msgspec.to_builtins(document), indent=2, ensure_ascii=True)


def survey_document(survey: HostSurvey) -> dict[str, Any]:
    """The survey, as ``survey --json`` prints it."""
    return {
        "format": FORMAT,
        "host": survey.host,
        "stack": survey.stack,
        "stack_evidence": list(survey.stack_evidence),
        "interfaces": [
            {
                "name": i.name,
                "mac": i.link.permanent_mac or i.link.mac,
                "kind": i.link.kind,
                "state": i.state,
                "addresses": [
                    {"address": str(a.address), "origin": a.origin, "seconds_left": a.seconds_left} for a in i.addresses
                ],
                "gateways": [str(r.next_hop) for r in i.routes if r.is_default and r.next_hop],
                "resolvers": [str(r) for r in i.resolvers],
                "search": list(i.search),
                "lease": None
                if i.lease is None
                else {
                    "address": str(i.lease.address),
                    "server": None if i.lease.server is None else str(i.lease.server),
                    "seconds_left": i.lease.seconds_left,
                    "resolvers": [str(r) for r in i.lease.resolvers],
                    "search": list(i.lease.search),
                },
                "announced": None
                if i.announced is None
                else {
                    "resolvers": [str(r) for r in i.announced.resolvers],
                    "search": list(i.announced.search),
                    "mtu": i.announced.mtu,
                    "routes": [
                        {"destination": str(r.destination), "next_hop": str(r.next_hop)} for r in i.announced.routes
                    ],
                    "prefixes": [str(p) for p in i.announced.prefixes],
                },
                "declared": None
                if i.declared is None
                else {
                    "ipv4": i.declared.ipv4,
                    "ipv6": i.declared.ipv6,
                    "hears_routers": i.declared.hears_routers,
                    "addresses": [str(a) for a in i.declared.addresses],
                    "gateways": [str(r.next_hop) for r in i.declared.default_routes() if r.next_hop],
                },
                "declared_in": [{"file": p.file, "line": p.line} for p in i.declared_in],
            }
            for i in survey.interfaces
        ],
        "findings": [finding_document(f) for f in survey_findings(survey)],
    }


def finding_document(found: Finding) -> dict[str, Any]:
    """One finding."""
    return msgspec.to_builtins(found)  # type: ignore[no-any-return]


def check_document(result: CheckResult) -> dict[str, Any]:
    """The outcome of a check, as ``check --json`` prints it."""
    return {
        "format": FORMAT,
        "verdict": result.verdict,
        "findings": list(result.findings),
        "evidence": list(result.evidence),
    }


def probe_document(result: ProbeResult) -> dict[str, Any]:
    """The outcome of a probe, as ``probe --json`` prints it."""
    return {
        "format": FORMAT,
        "verdict": result.verdict,
        "addresses": [
            {
                "address": str(a.address),
                "verdict": a.verdict,
                "holders": [{"mac": h.mac, "seen_by": h.seen_by} for h in a.holders],
                "consulted": [msgspec.to_builtins(c) for c in a.consulted],
                "not_consulted": [msgspec.to_builtins(n) for n in a.not_consulted],
            }
            for a in result.addresses
        ],
    }


def verify_document(result: VerifyResult) -> dict[str, Any]:
    """The outcome of a verification, as ``verify --json`` prints it."""
    return {
        "format": FORMAT,
        "verdict": result.verdict,
        "checks": [verify_check_document(c) for c in result.checks],
    }


def verify_check_document(check: VerifyCheck) -> dict[str, Any]:
    """One check of it."""
    return {
        "code": check.code,
        "required": check.required,
        "host": check.host,
        "interface": check.interface,
        "from": check.seen_from,
        "expected": check.expected,
        "observed": check.observed,
        "outcome": check.outcome,
        "why": check.why,
        "as_before": check.as_before,
        "seconds": check.seconds,
    }


def draft_document(drafts: list[Draft], servers: list[ServerDraft], about: tuple[Finding, ...]) -> dict[str, Any]:
    """The drafts, as ``draft --json`` prints them, without the secrets of their files.

    ``about`` is what speaks against the files that they make.
    """
    return {
        "format": FORMAT,
        "findings": list(about),
        "dhcp_servers": [
            {
                "source": s.label,
                "path": s.edit and s.edit.path,
                "before": s.edit and s.edit.before and masked(s.edit.before.text),
                "after": s.edit and s.edit.after and masked(s.edit.after.text),
                "why_not": s.why_not,
            }
            for s in servers
        ],
        "hosts": [
            {
                "host": d.host,
                "stack": d.stack,
                "files": [
                    {
                        "path": e.path,
                        "before": e.before and masked(e.before.text),
                        "after": e.after and masked(e.after.text),
                        "mode": None if e.after is None else f"{e.after.mode:04o}",
                    }
                    for e in d.content.edits
                ],
                "activate": [list(argv_of(step)) for step in (*d.content.steps.leave, *d.content.steps.activate)],
            }
            for d in drafts
        ],
    }


def status_document(status: ChangeStatus | None, last: ChangeStatus | None, ends: str | None) -> dict[str, Any]:
    """The open change, as ``status --json`` prints it, or the ``last`` one; ``ends`` is a time of day."""
    return {
        "format": FORMAT,
        "open": None
        if status is None
        else {
            "change": status.number,
            "state": states.shown(status.state),
            "interface": status.interface,
            "seconds_left": status.left,
            "ends": ends,
            "guard_alive": status.guard_alive,
            "verification": status.verdict,
            "why": status.why or None,
            "engine_gone": bool(status.engine_gone),
        },
        "last": None
        if last is None
        else {
            "change": last.number,
            "state": states.shown(last.state),
            "interface": last.interface,
            "complete": not last.is_incomplete,
            "why": last.why or None,
            "closed_by": last.closed_by or None,
            "rolled_back_at_boot": last.rolled_back_at_boot,
        },
    }
