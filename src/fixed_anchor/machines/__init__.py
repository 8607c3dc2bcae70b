"""Where a host's files and commands are reached: here, in an offline tree, as collected, or simulated.

A new kind of machine is a new module and one line in :data:`REACHES`.
"""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from fixed_anchor.core.errors import InputError, NotSupported
from fixed_anchor.core.plan import HostPlan, Plan
from fixed_anchor.machines.collected import Collected
from fixed_anchor.machines.protocol import Machine
from fixed_anchor.machines.standin import standin_of
from fixed_anchor.machines.tree import Tree


def _tree(plan: Plan, rest: str) -> Machine:
    return Tree(Path(plan.file).parent / rest)


def _standin(plan: Plan, rest: str) -> Machine:
    if plan.standin is None:
        raise InputError("the plan reaches a stand-in, but names no `standin:` file", file=plan.file)
    return standin_of(Path(plan.file).parent / plan.standin, rest)


def _collected(plan: Plan, rest: str) -> Machine:
    return Collected(Path(plan.file).parent / rest)


def _ssh(plan: Plan, rest: str) -> Machine:
    raise NotSupported("hosts over ssh are not supported yet", remedy="run the tool on the host itself")


#: What stands before the colon of a plan's ``reach:``.
REACHES: dict[str, Callable[[Plan, str], Machine]] = {
    "tree": _tree,
    "standin": _standin,
    "collected": _collected,
    "ssh": _ssh,
}


def reach(plan: Plan, host: HostPlan) -> Machine | None:
    """The machine that ``host`` is reached by from here; ``None`` where only from itself."""
    if host.reach is None:
        return None
    kind, _, rest = host.reach.partition(":")
    return REACHES[kind](plan, rest)
