"""What a report hands over: of each host what was, what is, what was found, changed, and proven, as one value.

It is made of facts, their judgement, and what hosts and seat have kept; nothing in here is formatted.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Mapping, Sequence
from typing import Any

import msgspec

from fixed_anchor.change import states
from fixed_anchor.change.target import Target
from fixed_anchor.core.errors import AnchorError
from fixed_anchor.core.facts import Facts
from fixed_anchor.core.findings import Evidence, Finding, Judgement
from fixed_anchor.core.plan import HostPlan
from fixed_anchor.core.segment_map import SegmentMap, segment_map
from fixed_anchor.core.survey import HostSurvey
from fixed_anchor.workflow.notes import overridden
from fixed_anchor.workflow.reached.at_once import at_once as each_at_once
from fixed_anchor.workflow.run_records import RunRecord

#: A line of an engine's log that is a check: its time, outcome, code, interface, and what was seen.
_CHECK = re.compile(r"(?P<at>\S+) check: (?P<outcome>\w+): (?P<code>[\w-]+) on (?P<interface>[^:]+): (?P<words>.*)")


class CheckLine(msgspec.Struct, frozen=True):
    """A check of a verification, as the log of the change has it."""

    outcome: str
    code: str
    interface: str
    words: str


class ChangePage(msgspec.Struct, frozen=True):
    """One change, as its host has kept it. ``before`` and ``after`` are lines by interface; ``log`` has no checks."""

    number: str
    state: str
    kind: str
    begun: str
    by: str
    seat: str
    why: str
    note: str
    closed_by: str
    before: Mapping[str, Sequence[str]]
    after: Mapping[str, Sequence[str]]
    diff: Sequence[str]
    findings: Sequence[Finding]
    accepted: Sequence[str]
    checks: Sequence[CheckLine]
    log: Sequence[str]
    verdict: str = ""
    is_open: bool = False
    can_go_back: bool = False


class InterfacePage(msgspec.Struct, frozen=True):
    """An interface of the plan: what it shall hold, and what it holds now; ``None`` where nobody could look."""

    name: str
    segment: str
    mac: str
    planned: Sequence[str]
    now: Sequence[str] | None


class HostPage(msgspec.Struct, frozen=True):
    """One host; ``why_not`` says why it, or its history, could not be read.

    ``earlier`` and ``later`` are how many changes it has had before and after those that are shown.
    """

    name: str
    stack: str
    interfaces: Sequence[InterfacePage]
    verdict: str
    findings: Sequence[Finding]
    evidence: Sequence[Evidence]
    changes: Sequence[ChangePage] = ()
    earlier: int = 0
    later: int = 0
    why_not: str = ""


class Handover(msgspec.Struct, frozen=True):
    """The whole report; ``findings`` are those of no single host, ``run`` the run that it is about."""

    plan: str
    site: str
    verdict: str
    hosts: Sequence[HostPage]
    findings: Sequence[Finding]
    maps: Sequence[SegmentMap]
    run: RunRecord | None = None


def handover(
    facts: Facts,
    judgement: Judgement,
    targets: Mapping[str, Callable[[], Target]],
    wanted: Mapping[str, Sequence[str]],
    run: RunRecord | None,
    at_once: int,
) -> Handover:
    """The report of all hosts that were checked.

    ``targets`` are those that are reached; ``wanted`` the changes of each host that it is about, by its name: of a host
    that is not in it the last one. Hosts are asked ``at_once`` at a time.
    """
    names = [host.name for host in facts.hosts if host.name in targets]
    read = each_at_once(names, lambda name: _changes(targets[name](), wanted.get(name)), at_once)
    kept = dict(zip(names, read, strict=True))
    evidence: dict[str, list[Evidence]] = {}
    for one in judgement.evidence:
        evidence.setdefault(one.host or "", []).append(one)
    pages = [_host(facts, judgement, host, kept.get(host.name), evidence.get(host.name, ())) for host in facts.hosts]
    segments = [segment for name, segment in facts.plan.segments.items() if name in facts.segments]
    return Handover(
        facts.plan.file,
        facts.plan.site or "",
        judgement.verdict,
        pages,
        judgement.elsewhere,
        [segment_map(facts, judgement, one) for one in segments],
        run,
    )


def _host(
    facts: Facts,
    judgement: Judgement,
    host: HostPlan,
    kept: tuple[list[ChangePage], int, int] | AnchorError | None,
    evidence: Sequence[Evidence],
) -> HostPage:
    survey = facts.surveys.get(host.name)
    found = judgement.by_host.get(host.name, [])
    unreached = facts.unreached.get(host.name)
    problem = unreached or (kept if isinstance(kept, AnchorError) else None)
    changes, earlier, later = kept if isinstance(kept, tuple) else ([], 0, 0)
    why_not = str(problem) if problem is not None else "" if survey is not None else "it is not reached from here"
    return HostPage(
        host.name,
        (survey.stack if survey is not None else None) or "",
        [_interface(host, number, survey) for number in range(len(host.interfaces))],
        judgement.verdict_of_host(host.name),
        found,
        evidence,
        changes,
        earlier,
        later,
        why_not,
    )


def _interface(host: HostPlan, number: int, survey: HostSurvey | None) -> InterfacePage:
    planned = host.interfaces[number]
    found = survey.interface(planned.name) if survey is not None else None
    now = None
    if found is not None:
        now = [f"{a.address} ({a.origin})" for a in found.addresses if a.origin != "link-local"]
        now += [f"gateway {r.next_hop}" for v in (4, 6) for r in found.default_routes(v) if r.next_hop is not None]
    mac = planned.mac or (found.link.mac if found is not None else None) or ""
    return InterfacePage(planned.name, planned.segment, mac, [str(a) for a in planned.every_address], now)


def _changes(target: Target, wanted: Sequence[str] | None) -> tuple[list[ChangePage], int, int]:
    """The changes of a target that are wanted, or its last one; and how many it had before and after them."""
    numbers = target.numbers()
    chosen = [target.number(one) for one in wanted] if wanted is not None else numbers[-1:]
    earlier = numbers.index(chosen[0]) if chosen else 0
    later = len(numbers) - numbers.index(chosen[-1]) - 1 if chosen else 0
    return [_change(target, number) for number in chosen], earlier, later


def _change(target: Target, number: str) -> ChangePage:
    record, status, before = target.record(number), target.status(number), target.recorded_baseline(number)
    notes = record.notes
    lines = [(line, _CHECK.match(line)) for line in record.log]
    checks = [CheckLine(m["outcome"], m["code"], m["interface"], m["words"]) for _, m in lines if m]
    was: dict[str, list[str]] = {}
    for one in before.interfaces if before is not None else ():
        for version, family in ((4, one.ipv4), (6, one.ipv6)):
            held = [*family.fixed, *(f"an address by {origin}" for origin in family.given)]
            if held:
                gateways = [f"gateway {', '.join(family.gateways)}"] if family.gateways else []
                was.setdefault(one.interface, []).append(f"IPv{version} " + ", ".join([*held, *gateways]))
        if one.resolvers:
            was.setdefault(one.interface, []).append("DNS " + ", ".join(one.resolvers))
    for lease in notes.get("leases", ()):
        was.setdefault(str(lease.get("interface")), []).append(
            f"{lease.get('address')} was leased by {lease.get('server')}"
        )
    return ChangePage(
        number,
        states.shown(status.state),
        _text(notes, "kind"),
        _text(notes, "begun"),
        _text(notes, "by"),
        _text(notes, "from"),
        status.why,
        _text(notes, "note"),
        status.closed_by,
        was,
        notes.get("after") or {},
        notes.get("diff") or (),
        _findings(notes.get("findings") or ()),
        [
            f"{overridden(one)}, because {one.get('because')}"
            for one in notes.get("accepted") or ()
            if isinstance(one, dict)
        ],
        checks,
        [line for line, check in lines if not check],
        (status.verdict or "").replace("-", " "),
        status.is_open,
        status.state == states.CONFIRMED and notes.get("kind") == "cutover",
    )


def _text(notes: Mapping[str, Any], key: str) -> str:
    return str(notes.get(key) or "")


def _findings(kept: Iterable[Any]) -> list[Finding]:
    try:
        return [msgspec.convert(one, Finding) for one in kept]
    except msgspec.ValidationError:
        return []
