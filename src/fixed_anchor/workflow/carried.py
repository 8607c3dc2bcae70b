"""A drafted change as a runbook: for a host that has no Python, or no network."""

from __future__ import annotations

import msgspec

from fixed_anchor.core.findings import Finding
from fixed_anchor.core.survey import HostSurvey
from fixed_anchor.engine.runbook import runbook
from fixed_anchor.workflow.carry_out import about, change_of
from fixed_anchor.workflow.draft import HostDraft


def runbook_of(
    plan_file: str, draft: HostDraft, survey: HostSurvey, confirm_within: int, open_questions: tuple[Finding, ...]
) -> bytes:
    """The script. ``open_questions`` is what was undetermined when it was made; its log says so.

    Giving a lease back takes Python, so it is left out: the lease runs out by itself.
    """
    steps = msgspec.structs.replace(draft.steps, commit=())
    notes = about("runbook", plan_file, draft, [])
    change = change_of(msgspec.structs.replace(draft, steps=steps), confirm_within, False, notes)
    questions = tuple(f"not looked at when this was drafted: {f.code}: {f.message}" for f in open_questions)
    change = msgspec.structs.replace(change, told=(*change.told, *questions))
    macs = {}
    for config in draft.wanted:
        found = survey.interface(config.interface)
        macs[config.interface] = found.link.mac if found is not None else None
    return runbook(change, macs)
