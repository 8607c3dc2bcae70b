"""A drafted change as a runbook: for a host that has no Python, or no network."""

from __future__ import annotations

import msgspec

from fixed_anchor.change.change import Draft, Terms
from fixed_anchor.change.content import files_in, settings_in
from fixed_anchor.core.findings import Finding
from fixed_anchor.core.survey import HostSurvey
from fixed_anchor.engine.runbook import runbook
from fixed_anchor.engine.windows_runbook import windows_runbook
from fixed_anchor.machines.windows.facts import Facts
from fixed_anchor.workflow.notes import about, told


def windows_runbook_of(
    plan_file: str, draft: Draft, facts: Facts, confirm_within: int, open_questions: tuple[Finding, ...]
) -> bytes:
    """The script for a Windows machine; the arguments are those of :func:`runbook_of`."""
    return windows_runbook(
        draft.host, settings_in(draft.content), _terms(plan_file, draft, confirm_within, open_questions), facts
    )


def _terms(plan_file: str, draft: Draft, confirm_within: int, open_questions: tuple[Finding, ...]) -> Terms:
    notes = about("runbook", plan_file, draft, [])
    questions = tuple(f"not looked at when this was drafted: {f.code}: {f.message}" for f in open_questions)
    return Terms(confirm_within, False, notes, (*told(notes, draft), *questions))


def runbook_of(
    plan_file: str, draft: Draft, survey: HostSurvey, confirm_within: int, open_questions: tuple[Finding, ...]
) -> bytes:
    """The script. ``open_questions`` is what was undetermined when it was made; its log says so.

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
