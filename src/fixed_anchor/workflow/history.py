"""The changes of a machine, from what the engine and the tool kept of them."""

from __future__ import annotations

import json
from typing import Any

import msgspec

from fixed_anchor.engine import driver
from fixed_anchor.machines.protocol import Machine


class Past(msgspec.Struct, frozen=True):
    """One change. ``begun`` is UTC, ``by`` the user, ``log`` the engine's lines, ``accepted`` findings let pass."""

    number: str
    state: str
    kind: str
    interfaces: tuple[str, ...]
    begun: str
    by: str
    plan_sha256: str | None
    accepted: tuple[str, ...]
    log: tuple[str, ...]


def history(machine: Machine) -> list[Past]:
    """All changes of ``machine``, oldest first."""
    found = []
    for number in driver.numbers(machine):
        folder = f"{driver.changes_folder(machine)}/{number}"
        notes = _notes(machine, f"{folder}/about.json")
        log = machine.read(f"{folder}/log")
        accepted = tuple(
            f"{a.get('code')}{':' + str(a['address']) if a.get('address') else ''} because {a.get('because')}"
            for a in notes.get("accepted", ())
            if isinstance(a, dict)
        )
        found.append(
            Past(
                number,
                driver.status(machine, number).state,
                str(notes.get("kind", "?")),
                tuple(str(i) for i in notes.get("interfaces", ())),
                str(notes.get("begun", "?")),
                str(notes.get("by", "?")),
                notes.get("plan_sha256"),
                accepted,
                tuple(log.text.splitlines()) if log else (),
            )
        )
    return found


def _notes(machine: Machine, path: str) -> dict[str, Any]:
    file = machine.read(path)
    try:
        notes = json.loads(file.text) if file else {}
    except ValueError:
        return {}
    return notes if isinstance(notes, dict) else {}
