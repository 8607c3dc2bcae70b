"""Where a host's files and commands are reached. A new kind is a new module and one line in :data:`MACHINES`."""

from __future__ import annotations

import json
from importlib import import_module
from pathlib import Path
from types import ModuleType

from fixed_anchor.core.errors import InputError, located
from fixed_anchor.core.plan import HostPlan, Plan
from fixed_anchor.machines.files import needs_root
from fixed_anchor.machines.protocol import Machine

#: What stands before the colon of a plan's ``reach:``, and the module that reaches such a machine.
#: Each has a function ``reach(folder, rest)``; modules are loaded when they are needed.
MACHINES: dict[str, str] = {
    "tree": "fixed_anchor.machines.tree",
    "collected": "fixed_anchor.machines.collected",
    "standin": "fixed_anchor.standins.machine",
    "ssh": "fixed_anchor.machines.ssh",
}

#: The file in a state folder that says which machine it belongs to, where that is not this one.
MARKER = "machine.json"


def _module(kind: str) -> ModuleType:
    return import_module(MACHINES[kind])


def reach(plan: Plan, host: HostPlan) -> Machine | None:
    """The machine that ``host`` is reached by from here; ``None`` where only from itself.

    Raises :class:`InputError` with the place in the plan.
    """
    if host.reach is None:
        return None
    kind, _, rest = host.reach.partition(":")
    with located(plan.file, host.line):
        if kind not in MACHINES or not rest:
            expected = " or ".join(f"{name}:..." for name in MACHINES if name != "ssh")
            raise InputError(f"{host.name} is reached by {host.reach!r}", expected=expected)
        machine: Machine = _module(kind).reach(Path(plan.file).parent, rest)
    return machine


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
