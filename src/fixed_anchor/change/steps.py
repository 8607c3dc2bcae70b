"""The commands of a change, and the order in which they run."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

import msgspec

from fixed_anchor.core.config import Route


class Fed(msgspec.Struct, frozen=True):
    """A command that reads ``text`` from its standard input."""

    argv: tuple[str, ...]
    text: str


#: One command of a change, as its argument list.
Step = tuple[str, ...] | Fed


def argv_of(step: Step) -> tuple[str, ...]:
    """The argument list of a step."""
    return step.argv if isinstance(step, Fed) else step


class Steps(msgspec.Struct, frozen=True):
    """Commands that make a daemon load files, in the order of a change.

    ``leave`` runs while the old files are in place, ``activate`` after the new ones are.
    To roll back: ``unload`` runs while the new files are still there, ``reload`` after the
    old ones are back, ``kernel`` sets what was in the kernel alone, ``escalate`` goes one
    after the other while the daemon sticks, and ``boot`` runs at boot, before any network
    service has started.

    ``drop`` loads the new files where they have replaced the old ones already, and nothing
    could run before: where an old address is held until the decision, it loads the final
    files without it. ``drop_escalate`` goes on where the daemon then sticks. ``commit`` runs
    when the change is kept. ``announce`` tells the neighbours what is in force once the
    change has been rolled back. ``releases`` says of one interface that the ``leave`` steps give
    its lease back to the server.
    """

    leave: tuple[Step, ...] = ()
    activate: tuple[Step, ...] = ()
    unload: tuple[Step, ...] = ()
    reload: tuple[Step, ...] = ()
    escalate: tuple[Step, ...] = ()
    boot: tuple[Step, ...] = ()
    kernel: tuple[Step, ...] = ()
    drop: tuple[Step, ...] = ()
    drop_escalate: tuple[Step, ...] = ()
    commit: tuple[Step, ...] = ()
    announce: tuple[Step, ...] = ()
    releases: bool = False


def joined_steps(many: Iterable[Steps]) -> Steps:
    """The steps of several interfaces one after the other, each command once.

    Whether a lease is given back by them is a matter of each interface, and not joined.
    """
    every = tuple(many)

    def joined(phase: str) -> tuple[Step, ...]:
        return tuple(dict.fromkeys(step for steps in every for step in getattr(steps, phase)))

    phases: dict[str, Any] = {name: joined(name) for name in Steps.__struct_fields__ if name != "releases"}
    return Steps(**phases)


def route_words(route: Route, interface: str) -> tuple[str, ...]:
    """A route in the words of ip-route(8)."""
    words = ["default" if route.is_default else str(route.destination)]
    if route.next_hop is not None:
        words += ["via", str(route.next_hop)]
    words += ["dev", interface]
    if route.metric is not None:
        words += ["metric", str(route.metric)]
    return (*words, "onlink") if route.on_link else tuple(words)
