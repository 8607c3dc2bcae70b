"""The changes of a target, from what its engine and the tool kept of them."""

from __future__ import annotations

import msgspec

from fixed_anchor.change import states
from fixed_anchor.change.target import Target
from fixed_anchor.workflow.notes import overridden


class Past(msgspec.Struct, frozen=True):
    """One change. ``begun`` is UTC, ``by`` the user, ``log`` the engine's lines, ``accepted`` findings let pass.

    ``why`` says why it ended as it did, ``note`` is what whoever began it wrote, ``evidence`` what evidence was
    carried to it. ``is_incomplete`` says that it is kept without all of its final files; ``closed_by`` by whom and
    why what was there was accepted.
    """

    number: str
    state: str
    kind: str
    interfaces: tuple[str, ...]
    begun: str
    by: str
    plan_sha256: str | None
    accepted: tuple[str, ...]
    log: tuple[str, ...]
    why: str = ""
    note: str = ""
    evidence: str = ""
    closed_by: str = ""
    is_incomplete: bool = False


def history(target: Target) -> list[Past]:
    """All changes of ``target``, oldest first."""
    found = []
    for number in target.numbers():
        record, status = target.record(number), target.status(number)
        accepted = tuple(
            f"{overridden(a)} by {record.notes.get('by', '?')}, because {a.get('because')}"
            for a in record.notes.get("accepted", ())
            if isinstance(a, dict)
        )
        found.append(
            Past(
                number,
                states.shown(status.state),
                str(record.notes.get("kind", "?")),
                tuple(str(i) for i in record.notes.get("interfaces", ())),
                str(record.notes.get("begun", "?")),
                str(record.notes.get("by", "?")),
                record.notes.get("plan_sha256"),
                accepted,
                record.log,
                status.why,
                str(record.notes.get("note") or ""),
                _evidence(record.notes.get("evidence")),
                status.closed_by,
                status.is_incomplete,
            )
        )
    return found


def _evidence(told: object) -> str:
    """The evidence of a change, as its notes have it, in words."""
    if not isinstance(told, dict):
        return ""
    return f"{told.get('path')}, {told.get('age')}, sha256 {told.get('sha256')}"
