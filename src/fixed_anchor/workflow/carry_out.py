"""Carrying a change out: begin it, let the guard work, verify, and wait for the decision."""

from __future__ import annotations

import logging
import os
import time
from collections.abc import Callable
from contextlib import suppress
from pathlib import Path
from typing import Any

import msgspec

from fixed_anchor.change import states
from fixed_anchor.change.change import ChangeStatus, Draft, Terms
from fixed_anchor.change.target import Target, Waiting
from fixed_anchor.core.errors import (
    EXIT_AGAINST,
    EXIT_DONE,
    EXIT_ROLLED_BACK,
    EXIT_STUCK,
    ChangeOpen,
    InputError,
    Refused,
    Undetermined,
    Unreachable,
    printable,
)
from fixed_anchor.core.findings import Acceptance, CheckResult
from fixed_anchor.core.times import utc
from fixed_anchor.core.verification import AS_PLANNED, NOT_AS_PLANNED, PASS, VerifyCheck, VerifyResult
from fixed_anchor.machines.session import session_peer

_log = logging.getLogger(__name__)

#: Told what goes on: the state, seconds left, and the verification once there is one.
Progress = Callable[[ChangeStatus, VerifyResult | None], None]


class Outcome(msgspec.Struct, frozen=True):
    """How a change ended: its final state, and the verification that was made of it.

    ``is_incomplete`` says that it is kept, and not every file of its final state could be written; ``why`` is
    what decided it. ``unheard`` are the checks by which it was rolled back, although all was as planned on the host:
    nobody on the segment, where the gateway had answered before, answered its new address.
    """

    number: str
    state: str
    verified: VerifyResult | None
    is_incomplete: bool = False
    why: str = ""
    unheard: tuple[str, ...] = ()

    @property
    def exit_status(self) -> int:
        """The exit status that a command ends with."""
        if self.is_incomplete:
            return EXIT_STUCK
        if self.state == states.CONFIRMED and self.verified is not None and self.verified.verdict == NOT_AS_PLANNED:
            # A person kept it, or the second activation of the held address went wrong.
            return EXIT_AGAINST
        return {states.CONFIRMED: EXIT_DONE, states.ROLLED_BACK: EXIT_ROLLED_BACK}.get(self.state, EXIT_STUCK)


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
            f"the change is refused because this is undetermined: {codes}",
            remedy="see the findings above; nothing was changed",
        )
    unused = [a for a in accepted if a not in used]
    if unused:
        raise InputError(
            f"--accept {unused[0].code}: the check did not find this",
            remedy="accept only what the check names",
        )
    return list(dict.fromkeys(used))


def about(
    kind: str,
    plan_file: str | None,
    draft: Draft,
    accepted: list[Acceptance],
    note: str | None = None,
    seat: str | None = None,
) -> dict[str, Any]:
    """What the history keeps of a change: who, when, from where, what, what was accepted, and a free ``note``.

    ``seat`` is the name of the machine from which the host is reached, where it is another one.
    """
    digest = None
    if plan_file is not None:
        import hashlib

        digest = hashlib.sha256(Path(plan_file).read_bytes()).hexdigest()
    return {
        "format": 1,
        "kind": kind,
        "host": draft.host,
        "stack": draft.stack,
        "interfaces": list(draft.interfaces),
        "begun": utc(),
        "by": who(),
        "from": f"{seat} over SSH" if seat is not None else str(session_peer() or "this machine"),
        "plan": plan_file and os.path.abspath(plan_file),
        "plan_sha256": digest,
        "accepted": [msgspec.to_builtins(a) for a in accepted],
        "note": " ".join(note.split()) if note else None,
        "leases": [msgspec.to_builtins(lease) for lease in draft.leaving],
    }


def who() -> str:
    """The person at the keyboard, as far as the environment tells."""
    told = os.environ.get("SUDO_USER") or os.environ.get("USER")
    if told:
        return told
    import pwd

    try:
        return pwd.getpwuid(os.getuid()).pw_name
    except KeyError:
        return f"user {os.getuid()}"


def told(notes: dict[str, Any], draft: Draft) -> tuple[str, ...]:
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
    if notes.get("note"):
        lines.append(f"note: {notes['note']}")
    evidence = notes.get("evidence")
    if evidence:
        lines.append(f"evidence: {evidence['path']}, {evidence['age']}, sha256 {evidence['sha256']}")
    lines += [f"stays until the decision: {h.address} on {h.interface}" for h in draft.grace]
    if draft.stack.startswith("Windows"):
        lines += [f"Windows may have given the lease of {one.address} back to its server" for one in draft.leaving]
    return tuple(printable(line) for line in lines)


#: Told that the target does not answer, and until when, in seconds, it is looked for.
Lost = Callable[[Unreachable, float], None]

#: Seconds that a guard may need to roll back, after its deadline, before its target is given up for lost.
_TO_ROLL_BACK = 120.0


class _Line:
    """The way to a target while it is changed, which may be gone for a time, and longer than that."""

    def __init__(self, name: str, number: str, terms: Terms, told: Lost | None) -> None:
        self._name, self._number, self._told = name, number, told
        self._left = float(terms.confirm_within)
        #: What has become of the change by then, as far as it can be known from here.
        self.by_now = "rolled back by its guard, unless somebody has confirmed it"
        if terms.unattended:
            self.by_now = "rolled back by its guard" if terms.anew else "kept or rolled back by its guard"
        self._since: float | None = None

    def is_there(self, now: ChangeStatus) -> None:
        """The target has answered."""
        self._since = None
        self._left = float(now.left) if now.left is not None and now.left > 0 else self._left

    def is_lost(self, error: Unreachable) -> None:
        """It did not; waits a little. Raises :class:`Unreachable` where its guard must have decided long ago."""
        now = time.monotonic()
        self._since = self._since if self._since is not None else now
        left = self._since + self._left + _TO_ROLL_BACK - now
        if left <= 0:
            raise Unreachable(
                f"change {self._number} of {self._name}: {self.by_now}; not seen again: {error.what}",
                remedy="look at its console, and ask again with `status`",
            )
        if self._told is not None:
            self._told(error, left)
        time.sleep(1.0)


#: Seconds for the new address to answer a new connection, once all is as planned.
_TO_ANSWER = 15.0


def _looked_at(target: Target, draft: Draft, terms: Terms, left: float, waiting: Waiting | None) -> VerifyResult:
    """The verification of a change that waits: over a new connection where one is wanted, and by neighbours."""
    until = time.monotonic() + left

    def answers(seconds: float) -> VerifyCheck:
        return target.answers_anew(draft.host, draft.interfaces[0], seconds)

    anew = answers(0.0) if terms.anew else None
    seen = target.verify(draft.host, draft.waiting, draft.hostname, terms, until - time.monotonic(), waiting)
    if not seen.checks or seen.verdict != AS_PLANNED:
        return seen
    if anew is not None and anew.outcome != PASS:
        # Switches and neighbours may have needed a moment.
        anew = answers(_TO_ANSWER)
    # Of what stays until the decision nobody need know any more.
    beside = target.from_elsewhere(draft.wanted)
    return VerifyResult((*seen.checks, *((anew,) if anew is not None else ()), *beside))


def carry_out(
    target: Target,
    draft: Draft,
    terms: Terms,
    progress: Progress,
    waiting: Waiting | None = None,
    lost: Lost | None = None,
) -> Outcome:
    """Carries out a drafted change to its end: confirmed, rolled back, or stuck.

    ``waiting`` hears what a verification still waits for, ``lost`` that the target does not answer. Returns when the
    guard has decided. If this process dies meanwhile, the guard goes on without it. Raises :class:`ChangeOpen`,
    :class:`Refused` and :class:`NoAccess` before anything was changed, and :class:`Unreachable` for a target that was
    not seen again.
    """
    already = target.open_change()
    if already is not None:
        ways = f"`fixed-anchor confirm {already}` or `fixed-anchor restore {already}` first"
        if target.status(already).state == states.STUCK:
            ways = f"try once more with `fixed-anchor restore {already}`, or `fixed-anchor close` it as it is"
        raise ChangeOpen(f"change {already} is open on {target.name}", remedy=ways)
    number = target.begin(draft, terms)
    verified: VerifyResult | None = None
    line = _Line(target.name, number, terms, lost)
    while True:
        try:
            now = target.status(number)
        except Unreachable as error:
            line.is_lost(error)
            continue
        line.is_there(now)
        _log.debug("change %s of %s is %s, %s s left", number, target.name, now.state, now.left)
        progress(now, verified)
        if not now.is_open or now.state == states.STUCK:
            if now.state == states.CONFIRMED and draft.grace:
                # The old address has gone meanwhile: what is in force now has not been looked at yet.
                with suppress(Unreachable):
                    verified = target.verify(draft.host, draft.wanted, draft.hostname, terms, None, waiting)
            silent = now.state == states.ROLLED_BACK and verified is not None and now.gateway_answered is True
            unheard = verified.unheard if silent and verified is not None else ()
            return Outcome(number, now.state, verified, now.is_incomplete, now.why, unheard)
        if now.state == states.WAITING and verified is None and now.decision is None:
            left = float(now.left or 0)
            try:
                seen = _looked_at(target, draft, terms, left, waiting)
                word = {AS_PLANNED: "as-planned", NOT_AS_PLANNED: "not-as-planned"}.get(seen.verdict, "undetermined")
                # Of nothing that was looked at nothing can be said.
                word = word if seen.checks else "undetermined"
                # Where it was decided while we looked, the loop tells how.
                with suppress(ChangeOpen):
                    target.give_verdict(number, word, tuple(seen.lines()), seen.against)
                    if terms.anew and word == "as-planned":
                        # Where the answer is lost nobody here knows whether that still arrived.
                        line.by_now = "kept, or rolled back by its guard"
                        target.decide(number, states.KEEP, f"{who()}, unattended")
                verified = seen
            except Unreachable as error:
                # It is looked at again from the beginning, as long as there is time.
                line.is_lost(error)
            continue
        time.sleep(0.2)
