"""Carrying a change out: lay down its data, let the guard work, verify, and wait for the decision."""

from __future__ import annotations

import json
import os
import time
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import msgspec

from fixed_anchor.core.config import InterfaceConfig
from fixed_anchor.core.errors import (
    EXIT_AGAINST,
    EXIT_DONE,
    EXIT_PUT_BACK,
    EXIT_STUCK,
    ChangeOpen,
    InputError,
    Refused,
    Undetermined,
    printable,
)
from fixed_anchor.core.findings import Acceptance, CheckResult
from fixed_anchor.core.verification import AS_PLANNED, NOT_AS_PLANNED
from fixed_anchor.dialects.protocol import FileEdit
from fixed_anchor.engine import driver
from fixed_anchor.engine.data import Change
from fixed_anchor.machines.protocol import Machine
from fixed_anchor.observe import kernel
from fixed_anchor.observe.session import session_peer
from fixed_anchor.observe.stocktaking import take_stock
from fixed_anchor.vantages.protocol import Place
from fixed_anchor.workflow.draft import HostDraft
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
        if self.state == "confirmed" and self.verified is not None and self.verified.verdict == NOT_AS_PLANNED:
            # A person kept it, or the second activation of the held address went wrong.
            return EXIT_AGAINST
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
    """What the history keeps of a change: who, when, from where, what, and what was accepted."""
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
        "by": who(),
        "from": str(session_peer() or "this machine"),
        "plan": plan_file and os.path.abspath(plan_file),
        "plan_sha256": digest,
        "accepted": [msgspec.to_builtins(a) for a in accepted],
    }


def who() -> str:
    """The person at the keyboard, as far as the environment tells."""
    return os.environ.get("SUDO_USER") or os.environ.get("USER") or f"user {os.getuid()}"


def told(notes: dict[str, Any], draft: HostDraft) -> tuple[str, ...]:
    """The lines by which the log of a change begins."""
    lines = [
        f"{notes['kind']} of {', '.join(notes['interfaces'])} on {notes['host']} ({notes['stack']}), "
        f"by {notes['by']}, from {notes['from']}"
    ]
    if notes.get("plan"):
        lines.append(f"plan: {notes['plan']}, sha256 {notes['plan_sha256']}")
    if notes.get("undoes"):
        lines.append(f"restores change {notes['restores']}; undone with it: {', '.join(notes['undoes'])}")
    elif notes.get("restores"):
        lines.append(f"restores change {notes['restores']}")
    for accepted in notes["accepted"]:
        address = f":{accepted['address']}" if accepted["address"] else ""
        lines.append(f"accepted: {accepted['code']}{address}, because {accepted['because']}")
    lines += [f"held until the decision: {h.address} on {h.interface}" for h in draft.held]
    return tuple(printable(line) for line in lines)


def change_of(
    draft: HostDraft, confirm_within: int, unattended: bool, notes: dict[str, Any], held_until: int | None = None
) -> Change:
    """The data of the change that ``draft`` makes."""
    return Change(
        interfaces=tuple(config.interface for config in draft.wanted),
        edits=draft.edits,
        steps=draft.steps,
        confirm_within=confirm_within,
        unattended=unattended,
        about=json.dumps(notes, indent=1).encode(),
        told=told(notes, draft),
        finals=draft.finals,
        held=tuple(f"address {h.address} fixed on {h.interface}" for h in draft.held),
        held_until=held_until,
        expect=tuple(expected_facts(draft.waiting)),
    )


def expected_facts(configs: tuple[InterfaceConfig, ...]) -> Iterator[str]:
    """What must be so afterwards, in the words in which the engine observes it."""
    for config in configs:
        for address in config.addresses:
            yield f"address {address} fixed on {config.interface}"
        for route in config.default_routes(4):
            yield f"gateway {route.next_hop} on {config.interface}"


def _held_until(machine: Machine, draft: HostDraft) -> int | None:
    """The uptime of the machine at which the first lease of a held address ends; ``None`` if none does."""
    if not draft.held:
        return None
    addresses = {h.address.ip for h in draft.held}
    left = [a.seconds_left for link in kernel.links(machine) for a in link.addresses if a.address.ip in addresses]
    ends = [seconds for seconds in left if seconds is not None]
    return int(kernel.uptime(machine)) + min(ends) if ends else None


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
    anything was changed; :class:`DraftOutdated` where files are no longer what was drafted from.
    """
    already = driver.open_change(machine)
    if already is not None:
        raise ChangeOpen(
            f"change {already} is open on {machine.name}",
            remedy=f"`fixed-anchor confirm {already}` or `fixed-anchor restore {already}` first",
        )
    change = change_of(draft, confirm_within, unattended, notes, _held_until(machine, draft))
    number = driver.lay_down(machine, change)
    try:
        driver.start(machine, number)
    except Refused as refused:
        raise _with_diff(machine, draft, refused) from None
    verified: VerifyResult | None = None
    while True:
        now = driver.status(machine, number)
        progress(now, verified)
        if now.state in (*driver.FINAL, "stuck"):
            if now.state == "confirmed" and draft.held:
                # The old address has gone meanwhile: what is in force now has not been looked at yet.
                verified = verify_when_settled(draft.host, machine, draft.wanted, vantages, PATIENCE, draft.hostname)
            return Outcome(number, now.state, verified)
        if now.state == "waiting" and verified is None and now.decision is None:
            patience = min(PATIENCE, max(1.0, (now.left or 0) / 2))
            verified = verify_when_settled(draft.host, machine, draft.waiting, vantages, patience, draft.hostname)
            word = {AS_PLANNED: "as-planned", NOT_AS_PLANNED: "not-as-planned"}.get(verified.verdict, "undetermined")
            try:
                driver.give_verdict(machine, number, word, tuple(verified.lines()))
            except ChangeOpen:
                # Decided while we looked: the loop tells how.
                continue
            continue
        time.sleep(0.2)


class DraftOutdated(Refused):
    """Files of the host are no longer what the draft was made from; ``edits`` show how they differ."""

    def __init__(self, what: str, edits: tuple[FileEdit, ...]) -> None:
        super().__init__(what, remedy="draft again, and look at what has changed")
        self.edits = edits


def _with_diff(machine: Machine, draft: HostDraft, refused: Refused) -> Refused:
    """The refusal, with the difference where somebody has edited a file since the draft."""
    changed = []
    for edit in draft.edits:
        live = machine.read(edit.path)
        if (live.text if live else None) != (edit.before.text if edit.before else None):
            changed.append(FileEdit(edit.path, edit.before, live))
    return DraftOutdated(refused.what, tuple(changed)) if changed else refused


def own_vantage(machine: Machine, interface: str) -> Place | str:
    """A vantage on the machine's own interface, for a change without a plan."""
    found = take_stock(machine).interface(interface)
    return place_of(machine, found) if found is not None else f"{machine.name} has no interface {interface}"
