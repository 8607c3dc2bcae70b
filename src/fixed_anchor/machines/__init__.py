"""Where a host's files and commands are reached. A new kind is a new module and one line in :data:`MACHINES`."""

from __future__ import annotations

import json
import os
from importlib import import_module
from pathlib import Path
from types import ModuleType

from fixed_anchor.core.addresses import IPAddress
from fixed_anchor.core.errors import InputError, located
from fixed_anchor.core.plan import HostPlan, Plan
from fixed_anchor.disk.durable import needs_root
from fixed_anchor.machines.protocol import Machine
from fixed_anchor.machines.seat import OtherPlaces, Seat, Way, nowhere_else

#: What stands before the colon of a plan's ``reach:``, and the module that reaches such a machine.
#: Each has a function ``reach(way)``; modules are loaded when they are needed.
MACHINES: dict[str, str] = {
    "tree": "fixed_anchor.machines.tree",
    "collected": "fixed_anchor.machines.collected",
    "standin": "fixed_anchor.standins.reaching",
    "ssh": "fixed_anchor.machines.ssh",
}

#: The file in a state folder that says which machine it belongs to, where that is not this one.
MARKER = "machine.json"


def _module(kind: str) -> ModuleType:
    return import_module(MACHINES[kind])


def reach(plan: Plan, host: HostPlan, seat: Seat, elsewhere: OtherPlaces = nowhere_else) -> Machine | None:
    """The machine that ``host`` is reached by from the ``seat``; ``None`` where only from itself.

    ``elsewhere`` tells where else it may be than by its name and at its addresses. Raises :class:`InputError` with
    the place in the plan.
    """
    if host.reach is None:
        return None
    addresses = tuple(a for i in host.interfaces for a in i.every_address)
    macs = frozenset(i.mac for i in host.interfaces if i.mac is not None)
    with located(plan.file, host.line):
        return reach_by(host.reach, Path(plan.file).parent, seat, host.name, addresses, macs, elsewhere)


def reach_by(
    text: str,
    folder: Path,
    seat: Seat,
    name: str = "",
    addresses: tuple[IPAddress, ...] = (),
    macs: frozenset[str] = frozenset(),
    elsewhere: OtherPlaces = nowhere_else,
) -> Machine:
    """The machine that is reached by ``text``, as ``reach:`` has it, seen from ``folder``.

    ``name`` is the host's in the plan, ``addresses`` and ``macs`` are those that it has there, ``elsewhere`` tells of
    others. Raises :class:`InputError`.
    """
    kind, _, rest = text.partition(":")
    if kind not in MACHINES or not rest:
        expected = " or ".join(f"{known}:..." for known in MACHINES)
        raise InputError(f"{name or 'a host'} is reached by {text!r}", expected=expected)
    machine: Machine = _module(kind).reach(Way(folder, rest, seat, name, addresses, macs, elsewhere))
    return machine


def seen_from(reach_text: str, base: Path, folder: Path) -> str:
    """The same ``reach:`` for a plan in ``folder`` that one in ``base`` has; paths count from the plan's folder."""
    kind, _, rest = reach_text.partition(":")
    if kind == "ssh" or Path(rest).is_absolute():
        return reach_text
    return f"{kind}:{os.path.relpath(base / rest, folder)}"


def made_absolute(reach_text: str, base: Path) -> str:
    """The same ``reach:`` for a plan anywhere that one in ``base`` has."""
    kind, _, rest = reach_text.partition(":")
    return reach_text if kind == "ssh" else f"{kind}:{os.path.abspath(base / rest)}"


def at_state_dir(state_dir: Path) -> Machine | None:
    """The machine that a state folder belongs to; ``None`` where that is this one. Raises :class:`InputError`."""
    marker = state_dir / MARKER
    try:
        said = json.loads(marker.read_text())
        module = _module(said["reach"])
    except FileNotFoundError:
        return None
    except PermissionError:
        raise needs_root("reading this", str(marker)) from None
    except (OSError, ValueError, KeyError, TypeError):
        raise InputError("this state folder does not say which machine it belongs to", file=str(marker)) from None
    machine: Machine = module.at_state_dir(state_dir, said)
    return machine
