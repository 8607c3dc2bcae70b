"""A drafted change as a runbook: for a host that has no Python, or no network."""

from __future__ import annotations

import msgspec

from fixed_anchor.change.change import Draft, Terms
from fixed_anchor.change.content import files_in, settings_in
from fixed_anchor.core.findings import Finding
from fixed_anchor.core.survey import HostSurvey
from fixed_anchor.engine.runbook import runbook
from fixed_anchor.engine.windows_runbook import windows_runbook
from fixed_anchor.workflow.notes import about, told
from fixed_anchor.workflow.reached.site import Site


class Runbook(msgspec.Struct, frozen=True):
    """A script for one host: the name of its file, its bytes, and the words behind which that name is typed there."""

    file: str
    data: bytes
    runs: str


def runbook_for(
    site: Site, draft: Draft, survey: HostSurvey, confirm_within: int, open_questions: tuple[Finding, ...]
) -> Runbook:
    """The runbook of a drafted change. ``open_questions`` is what was undetermined then; its log says so."""
    machine = site.machine(site.plan.hosts[draft.host])
    facts = machine.windows if machine is not None else None
    if facts is None:
        data = runbook_of(site.plan.file, draft, survey, confirm_within, open_questions)
        return Runbook(f"{draft.host}-runbook.sh", data, "sh")
    terms = _terms(site.plan.file, draft, confirm_within, open_questions)
    data = windows_runbook(draft.host, settings_in(draft.content), terms, facts)
    return Runbook(f"{draft.host}-runbook.ps1", data, "powershell -ExecutionPolicy Bypass -File")


def _terms(plan_file: str, draft: Draft, confirm_within: int, open_questions: tuple[Finding, ...]) -> Terms:
    notes = about("runbook", plan_file, draft, [])
    questions = tuple(f"not looked at when this was drafted: {f.code}: {f.message}" for f in open_questions)
    return Terms(confirm_within, False, notes, (*told(notes, draft), *questions))


def runbook_of(
    plan_file: str, draft: Draft, survey: HostSurvey, confirm_within: int, open_questions: tuple[Finding, ...]
) -> bytes:
    """The script for a Linux host; see :func:`runbook_for`.

    Giving a lease back takes Python, so it is left out: the lease runs out by itself. What is announced is
    announced by what the host has.
    """
    files = files_in(draft.content)
    steps = msgspec.structs.replace(files.steps, commit=(), announce=())
    content = msgspec.structs.replace(files, steps=steps)
    terms = _terms(plan_file, draft, confirm_within, open_questions)
    macs = {}
    for interface in draft.interfaces:
        found = survey.interface(interface)
        macs[interface] = found.link.mac if found is not None else None
    return runbook(content, terms, macs)
