"""The data of one change of a Windows machine: everything ``engine.ps1`` reads, as files of its folder."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Iterable
from importlib import resources
from typing import Any

import msgspec

from fixed_anchor.change.acts import Act, Rename, SetNetbios, SetResolvers, SetSearch, SetSuffix
from fixed_anchor.change.change import Terms
from fixed_anchor.change.kept_lines import kept_lines
from fixed_anchor.change.settings import MachineSettings, SettingsContent
from fixed_anchor.core.errors import printable
from fixed_anchor.machines.windows import house_source
from fixed_anchor.machines.windows.windows_facts import WindowsFacts

#: In the order in which they are joined.
PARTS = ("words", "life", "house", "settings", "acts", "waits", "refusals", "tasks", "guard", "verbs")
#: How the file ends that lies in a change's folder.
ENDING = "ending"
#: Seconds that are waited for a DHCP server before an adapter is taken down and up again, and for a network to be
#: identified.
LEASE_PATIENCE, IDENTIFICATION = 60, 45
#: Seconds for which a network must keep its category: it is identified some seconds after its address, and again.
CATEGORY_STEADY = 15.0
#: Seconds for which it is looked at after the change is over.
CATEGORY_WATCH = 90
#: Seconds within which a call of Windows must come back.
CALL_LIMIT = 120

#: What can be set before the address, and must be: else there is no name service for a moment.
_BEFORE_ADDRESSES = (SetResolvers, SetSuffix, SetNetbios, SetSearch)


def part(name: str) -> str:
    """The text of one part of the engine."""
    if name == "house":
        return house_source()
    return resources.files(__package__).joinpath("windows_parts", f"{name}.ps1").read_text("ascii")


def engine_source() -> str:
    """The text of ``engine.ps1``."""
    return "".join(map(part, (*PARTS, ENDING)))


def as_windows_files(
    host: str, content: SettingsContent, terms: Terms, facts: WindowsFacts, held_seconds: int | None = None
) -> dict[str, tuple[bytes, int]]:
    """Every file of a change, by its path below the change's folder, with its mode bits.

    ``facts`` are what was so before. ``held_seconds`` is for how long at most what is held may stay.
    """
    change = json.dumps(change_data(host, content, terms, held_seconds), indent=1).encode("ascii")
    files = {
        "engine.ps1": engine_source().encode("ascii"),
        "change.json": change,
        # For a restore, which goes back behind it.
        "facts.json": msgspec.json.encode(facts),
        "digest": hashlib.sha256(change).hexdigest().encode() + b"\n",
        "interface": _lines(content.interfaces),
        "about": _lines(" ".join(line.split()) for line in terms.told),
        "about.json": json.dumps(terms.notes, indent=1).encode(),
    }
    if terms.judge.before is not None:
        files["before.json"] = msgspec.json.format(msgspec.json.encode(terms.judge.before), indent=1)
    return {name: (data, 0o600) for name, data in files.items()}


def undoing(content: SettingsContent) -> SettingsContent:
    """The change that goes back behind one that was kept; a name that needs a restart stays."""
    after = msgspec.structs.replace(content.before, machine=_machine(content))
    back = tuple(act for act in content.back if not isinstance(act, Rename))
    forth = tuple(act for act in content.acts if not isinstance(act, Rename))
    return SettingsContent(
        content.interfaces,
        content.after,
        after,
        back,
        back=forth,
        options_before=content.options_after,
        options_after=content.options_before,
    )


def _machine(content: SettingsContent) -> MachineSettings:
    return msgspec.structs.replace(content.before.machine, name=content.after.machine.name)


def change_data(host: str, content: SettingsContent, terms: Terms, held_seconds: int | None = None) -> dict[str, Any]:
    """What the engine reads of a change: the lines before, meanwhile and afterwards, and the acts in between."""
    acts = [act for act in content.acts if not isinstance(act, Rename)]
    first = next((n for n, act in enumerate(acts) if not isinstance(act, _BEFORE_ADDRESSES)), len(acts))
    return {
        "form": 1,
        "host": host,
        "adapters": [{"guid": a.guid, "name": a.name, "mac": a.mac} for a in content.before.adapters],
        "confirm_within": terms.confirm_within,
        "unattended": terms.unattended,
        "gateway_patience": terms.patience.gateway,
        "lease_patience": LEASE_PATIENCE,
        "identification": IDENTIFICATION,
        "category_steady": CATEGORY_STEADY,
        "category_watch": CATEGORY_WATCH,
        "call_limit": CALL_LIMIT,
        "was": kept_lines(content.before, content.options_before),
        "until_decided": kept_lines(content.until_decided, content.options_after),
        "wanted": kept_lines(content.after, content.options_after),
        "leave": _as_data(acts[:first]),
        "write": _as_data(acts[first:]),
        "drop": _as_data(content.drop),
        "back": _as_data(act for act in content.back if not isinstance(act, Rename)),
        "commit": _as_data(act for act in content.acts if isinstance(act, Rename)),
        "held": list(content.grace_facts),
        "held_seconds": held_seconds,
    }


def _as_data(acts: Iterable[Act]) -> list[dict[str, Any]]:
    """Each act with its words for the log."""
    return [{**msgspec.to_builtins(act), "shown": printable(act.shown)} for act in acts]


def _lines(texts: Iterable[str]) -> bytes:
    return "".join(f"{printable(text)}\n" for text in texts).encode()
