"""What the history keeps of a change, and how its log begins."""

from __future__ import annotations

import os
from collections.abc import Iterable, Iterator, Mapping
from pathlib import Path
from typing import Any

import msgspec

from fixed_anchor.change.change import Draft
from fixed_anchor.core.config import InterfaceConfig
from fixed_anchor.core.errors import printable
from fixed_anchor.core.findings import Acceptance, Finding
from fixed_anchor.core.times import utc
from fixed_anchor.machines.session import session_peer


def about(
    kind: str,
    plan_file: str | None,
    draft: Draft,
    accepted: list[Acceptance],
    note: str | None = None,
    seat: str | None = None,
    findings: Iterable[Finding] = (),
) -> dict[str, Any]:
    """What the history keeps of a change: who, when, from where, what, what was accepted, and a free ``note``.

    For a report that is made afterwards it keeps the diff, with secrets masked, what each interface was to have, and
    the ``findings`` that stood when it began. ``seat`` is the name of the machine from which the host is reached, where
    it is another one.
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
        "after": {config.interface: list(_words(config)) for config in draft.wanted},
        "diff": draft.content.shown().diff(),
        "findings": [msgspec.to_builtins(found) for found in findings],
        "leases": [msgspec.to_builtins(lease) for lease in draft.leaving],
    }


def _words(config: InterfaceConfig) -> Iterator[str]:
    """What an interface is to have, a line for each IP version, and one for its resolvers."""
    yield from (config.in_words(version) for version in (4, 6) if config.touches(version))
    if config.resolvers:
        yield "DNS " + ", ".join(map(str, config.resolvers))


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


def overridden(accepted: Mapping[str, Any]) -> str:
    """The finding that notes say was accepted: its code, with its address where one was named."""
    address = f":{accepted['address']}" if accepted.get("address") else ""
    return f"{accepted.get('code')}{address}"


def told(notes: dict[str, Any], draft: Draft) -> tuple[str, ...]:
    """The lines by which the log of a change begins."""
    lines = [
        f"{notes['kind']} of {', '.join(notes['interfaces'])} on {notes['host']} ({notes['stack']}), "
        f"by {notes['by']}, from {notes['from']}"
    ]
    if notes.get("plan"):
        lines.append(f"plan: {notes['plan']}, sha256 {notes['plan_sha256']}")
    if notes.get("run"):
        lines.append(f"part of run {notes['run_number']} ({notes['run']}), as {notes['turn']}")
    if notes.get("undoes"):
        lines.append(f"restores change {notes['restores']}; undone with it: {', '.join(notes['undoes'])}")
    elif notes.get("restores"):
        lines.append(f"restores change {notes['restores']}")
    for accepted in notes["accepted"]:
        lines.append(f"accepted: {overridden(accepted)}, because {accepted['because']}")
    if notes.get("note"):
        lines.append(f"note: {notes['note']}")
    evidence = notes.get("evidence")
    if evidence:
        lines.append(f"evidence: {evidence['path']}, {evidence['age']}, sha256 {evidence['sha256']}")
    lines += [f"stays until the decision: {h.address} on {h.interface}" for h in draft.grace]
    if draft.stack.startswith("Windows"):
        lines += [f"Windows may have given the lease of {one.address} back to its server" for one in draft.leaving]
    return tuple(printable(line) for line in lines)
