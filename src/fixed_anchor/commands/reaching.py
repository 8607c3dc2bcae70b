"""Hosts that are named on the command line: by their names in a plan, or by how they are reached, ``ssh:NAME``."""

from __future__ import annotations

from functools import partial
from pathlib import Path

import msgspec

from fixed_anchor.core.errors import AnchorError, InputError
from fixed_anchor.core.survey import HostSurvey
from fixed_anchor.machines import MACHINES, reach_by
from fixed_anchor.machines.protocol import Machine
from fixed_anchor.machines.seat import Seat
from fixed_anchor.observe.stocktaking import take_stock
from fixed_anchor.workflow.at_once import Told, at_once
from fixed_anchor.workflow.site import Site


class Named(msgspec.Struct, frozen=True):
    """A host that was named; ``reach`` is how a plan would say that it is reached, where it is so."""

    name: str
    machine: Machine | None
    reach: str | None
    #: Why it is not reached, where nothing there was even asked.
    why_not: AnchorError | None = None


class Surveyed(msgspec.Struct, frozen=True):
    """A host that was named, and its survey, or why there is none; ``reached`` where it is reached from here."""

    name: str
    survey: HostSurvey | None
    why_not: AnchorError
    reached: bool
    machine: Machine | None = None
    reach: str | None = None


def is_a_way(word: str) -> bool:
    """Whether ``word`` says how a host is reached, and is not its name in a plan."""
    return word.partition(":")[0] in MACHINES and ":" in word


def named(site: Site | None, words: tuple[str, ...], seat: Seat) -> list[Named]:
    """The hosts of ``words``; without any all of the ``site``. Raises :class:`InputError`."""
    if site is None:
        for word in words:
            if not is_a_way(word):
                raise InputError(
                    f"--host {word} is a name of a plan", remedy=f"add --plan PLAN, or reach it as --host ssh:{word}"
                )
    of_plan = tuple(word for word in words if not is_a_way(word))
    found = [Named(word, reach_by(word, Path.cwd(), seat), word) for word in words if is_a_way(word)]
    if site is None or (words and not of_plan):
        return found
    for planned in site.hosts(of_plan):
        machine = site.machine(planned)
        what = f"{planned.name} is not reached from here: none of its MACs is on this machine"
        why_not = InputError(what, file=site.plan.file, line=planned.line, remedy="say `reach: ssh:NAME` in the plan")
        reach = planned.reach if machine is not site.here else None
        found.append(Named(planned.name, machine, reach, why_not if machine is None else None))
    return found


def surveyed(
    site: Site | None, words: tuple[str, ...], seat: Seat, limit: int, told: Told | None = None
) -> list[Surveyed]:
    """The surveys of the hosts of ``words``, taken ``limit`` at a time."""
    hosts = named(site, words, seat)
    results = at_once(hosts, partial(_survey, site), limit, told)
    return [_surveyed(host, result) for host, result in zip(hosts, results, strict=True)]


def _survey(site: Site | None, host: Named) -> HostSurvey:
    if host.why_not is not None:
        raise host.why_not
    assert host.machine is not None
    try:
        if site is not None and host.name in site.plan.hosts:
            survey = site.survey(site.plan.hosts[host.name])
            assert survey is not None
            return survey
        return take_stock(host.machine)
    finally:
        # Each connection is a process here.
        host.machine.let_go()


def _surveyed(host: Named, result: HostSurvey | AnchorError) -> Surveyed:
    if isinstance(result, AnchorError):
        return Surveyed(host.name, None, result, host.why_not is None, host.machine, host.reach)
    name = result.host if is_a_way(host.name) else host.name
    return Surveyed(name, result, AnchorError("surveyed"), True, host.machine, host.reach)
