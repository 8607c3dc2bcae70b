"""Carrying a change out: lay down its data, let the guard work, verify, and wait for the decision."""

from __future__ import annotations

import json
import os
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import msgspec

from fixed_anchor.core.config import InterfaceConfig
from fixed_anchor.core.errors import (
    EXIT_DONE,
    EXIT_PUT_BACK,
    EXIT_STUCK,
    AnchorError,
    ChangeOpen,
    InputError,
    Refused,
    Undetermined,
)
from fixed_anchor.core.findings import Acceptance, CheckResult
from fixed_anchor.core.verification import AS_PLANNED, NOT_AS_PLANNED
from fixed_anchor.dialects import DIALECTS
from fixed_anchor.dialects.protocol import FileEdit, FileText, Steps, apply_edits
from fixed_anchor.engine import driver
from fixed_anchor.engine.data import Change
from fixed_anchor.machines.protocol import Machine
from fixed_anchor.observe.stocktaking import dialect_files, take_stock
from fixed_anchor.vantages.protocol import Place
from fixed_anchor.workflow.draft import HostDraft, extra_steps, joined_steps
from fixed_anchor.workflow.site import place_of
from fixed_anchor.workflow.verify import VerifyResult, verify_when_settled

#: Seconds that a stack has after activation until its state is judged.
PATIENCE = 20.0

#: Told what goes on: the state, seconds left, and the verification once there is one.
Progress = Callable[[driver.ChangeStatus, VerifyResult | None], None]


class Outcome(msgspec.Struct, frozen=True):
    """How a change ended: its final state, and the verification that was made of it."""

    number: str
    state: str
    verified: VerifyResult | None

    @property
    def exit_status(self) -> int:
        return {"confirmed": EXIT_DONE, "put-back": EXIT_PUT_BACK}.get(self.state, EXIT_STUCK)


def refuse_unless_accepted(result: CheckResult, accepted: tuple[Acceptance, ...]) -> list[Acceptance]:
    """Raises :class:`Refused` or :class:`Undetermined` unless every finding that stops a change is accepted.

    Returns the acceptances that were used.
    """
    used: list[Acceptance] = []
    standing = []
    for found in result.findings:
        if not found.stops:
            continue
        covering = [a for a in accepted if a.covers(found)]
        if covering:
            used += covering
        else:
            standing.append(found)
    if standing:
        blockers = [f for f in standing if not f.undetermined]
        codes = ", ".join(dict.fromkeys(f.code for f in blockers or standing))
        if blockers:
            raise Refused(f"the change is refused: {codes}", remedy="see the findings above; nothing was changed")
        raise Undetermined(
            f"the change is refused while this is undetermined: {codes}",
            remedy="see the findings above; nothing was changed",
        )
    unused = [a for a in accepted if a not in used]
    if unused:
        raise InputError(
            f"--accept {unused[0].code}: no such finding stands against this change",
            remedy="accept only what the check names",
        )
    return list(dict.fromkeys(used))


def about(kind: str, plan_file: str | None, draft: HostDraft, accepted: list[Acceptance]) -> dict[str, Any]:
    """What the history keeps of a change: who, when, what, and what was accepted."""
    digest = None
    if plan_file is not None:
        import hashlib

        digest = hashlib.sha256(Path(plan_file).read_bytes()).hexdigest()
    return {
        "format": 1,
        "kind": kind,
        "host": draft.host,
        "stack": draft.stack,
        "interfaces": [config.interface for config in draft.wanted],
        "begun": time.strftime("%Y-%m-%dT%H:%M:%SZ", time.gmtime()),
        "by": os.environ.get("SUDO_USER") or os.environ.get("USER") or str(os.getuid()),
        "plan": plan_file and os.path.abspath(plan_file),
        "plan_sha256": digest,
        "accepted": [msgspec.to_builtins(a) for a in accepted],
    }


def carry_out(
    machine: Machine,
    draft: HostDraft,
    vantages: dict[str, Place | str],
    confirm_within: int,
    unattended: bool,
    notes: dict[str, Any],
    progress: Progress,
) -> Outcome:
    """Carries out a drafted change to its end: confirmed, put back, or stuck.

    Returns when the guard has decided. If this process dies meanwhile, the guard goes on
    without it. Raises :class:`ChangeOpen`, :class:`Refused` and :class:`NoAccess` before
    anything was changed.
    """
    already = driver.open_change(machine)
    if already is not None:
        raise ChangeOpen(
            f"change {already} is open on {machine.name}",
            remedy=f"`fixed-anchor confirm {already}` or `fixed-anchor restore {already}` first",
        )
    change = Change(
        interfaces=tuple(config.interface for config in draft.wanted),
        edits=draft.edits,
        steps=draft.steps,
        confirm_within=confirm_within,
        unattended=unattended,
        about=json.dumps(notes, indent=1).encode(),
    )
    number = driver.lay_down(machine, change)
    driver.start(machine, number)
    verified: VerifyResult | None = None
    while True:
        now = driver.status(machine, number)
        progress(now, verified)
        if now.state in (*driver.FINAL, "stuck"):
            return Outcome(number, now.state, verified)
        if now.state == "waiting" and verified is None and now.decision is None:
            patience = min(PATIENCE, max(1.0, (now.left or 0) / 2))
            verified = verify_when_settled(draft.host, machine, draft.wanted, vantages, patience, draft.hostname)
            word = {AS_PLANNED: "as-planned", NOT_AS_PLANNED: "not-as-planned"}.get(verified.verdict, "undetermined")
            try:
                driver.give_verdict(machine, number, word)
            except ChangeOpen:
                # Decided while we looked: the loop tells how.
                continue
            continue
        time.sleep(0.2)


def restore_draft(machine: Machine, number: str) -> HostDraft:
    """The change that brings back the files which change ``number`` replaced.

    Raises :class:`ChangeOpen` if it was never in force, :class:`Refused` if the files
    were edited since.
    """
    folder = driver.folder_of(machine, number)
    state = driver.status(machine, number).state
    if state != "confirmed":
        raise ChangeOpen(f"change {number} is {state}; only a confirmed change can be restored")
    notes = _notes(machine, folder)
    edits: list[FileEdit] = []
    manifest = machine.read(f"{folder}/manifest")
    for line in manifest.text.splitlines() if manifest else ():
        entry, kind, _, _, _, path = line.split(" ", 5)
        live = machine.read(path)
        new = machine.read(f"{folder}/new/{entry}")
        if (live.text if live else None) != (new.text if new else None):
            raise Refused(
                f"{path} was edited since change {number}",
                remedy=f"compare it with {folder}/saved/{entry}, and put it back by hand if that is meant",
            )
        saved = None
        if kind != "create":
            kept = machine.read(f"{folder}/saved/{entry}")
            if kept is None:
                raise InputError("the saved copy is gone", file=f"{folder}/saved/{entry}")
            saved = FileText(path, kept.text, kept.mode, kept.uid, kept.gid)
        edits.append(FileEdit(path, live, saved))
    survey = take_stock(machine)
    wanted: list[InterfaceConfig] = []
    steps: list[Steps] = []
    stacks: list[str] = []
    for name in notes.get("interfaces", ()):
        found = survey.interface(str(name))
        if found is None:
            raise InputError(f"{machine.name} has no interface {name} any more")
        if found.stack is None:
            raise InputError(f"no supported network stack declares {name} any more")
        dialect = DIALECTS[found.stack]
        before = dialect_files(machine, found.stack)
        after = apply_edits(before, tuple(edits))
        declared = dialect.read(after, (found.link,))
        if declared:
            wanted.append(declared[0].config)
        steps.append(dialect.steps(before, after, found.link))
        stacks.append(found.stack)
    both = (extra_steps(edits), *steps)
    host = str(notes.get("host", machine.name))
    return HostDraft(host, ", ".join(dict.fromkeys(stacks)), tuple(wanted), tuple(edits), joined_steps(both))


def _notes(machine: Machine, folder: str) -> dict[str, Any]:
    file = machine.read(f"{folder}/about.json")
    try:
        notes = json.loads(file.text) if file else {}
    except ValueError:
        notes = {}
    if not isinstance(notes, dict):
        raise AnchorError("the notes of the change are broken", file=f"{folder}/about.json")
    return notes


def own_vantage(machine: Machine, interface: str) -> Place | str:
    """A vantage on the machine's own interface, for a change without a plan."""
    found = take_stock(machine).interface(interface)
    return place_of(machine, found) if found is not None else f"{machine.name} has no interface {interface}"
