"""Which hosts a command is about that has no plan for its argument: this machine, or hosts of ``--plan``.

From a seat a change is ``HOST:NUMBER``.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable
from functools import cached_property

import click

from fixed_anchor.commands.app import App
from fixed_anchor.core.errors import AnchorError, InputError
from fixed_anchor.core.plan import HostPlan
from fixed_anchor.workflow.reached.site import Site
from fixed_anchor.workflow.targets import HostTarget


class Chosen:
    """A host that was chosen: its name, itself as a target of changes, and the change that was named.

    Which kind of target it is may have to be asked there, and that is done when it is first used: by several threads
    for several hosts. It raises :class:`~fixed_anchor.core.errors.NoAccess` then.
    """

    def __init__(self, host: str, target: Callable[[], HostTarget], change: str | None = None) -> None:
        self.host = host
        self.change = change
        self._target = target

    @cached_property
    def target(self) -> HostTarget:
        """The host as a target."""
        return self._target()


def split_change(change: str | None, plan: str | None) -> tuple[str | None, str | None]:
    """Host and number of ``HOST:NUMBER``; a bare number is of this machine. Raises a usage error."""
    host, colon, number = (change or "").rpartition(":")
    if not colon:
        return None, change
    if plan is None:
        raise click.UsageError(f"{change} names a host of a plan: it goes with --plan PLAN")
    if not host or not number:
        raise click.UsageError(f"{change!r} is no change; write HOST:NUMBER, such as tide-db:0001")
    return host, number


def to_look_at(
    app: App, plan: str | None, hosts: tuple[str, ...], change: str | None, at_once: int
) -> tuple[Site | None, list[Chosen]]:
    """The hosts of a command that only looks: this machine, or all that the plan reaches, or those that are named."""
    host, number = _checked(plan, hosts, change)
    if plan is None:
        target = app.reach.kept_target()
        return None, [Chosen(target.name, lambda: target, number)]
    site = app.site(plan, at_once)
    named = (host,) if host is not None else hosts
    found = [_chosen(app, site, planned, number) for planned in site.hosts(named)]
    reached = [one for one in found if one is not None]
    if not reached or (named and len(reached) < len(found)):
        what = "no host of this plan is" if not named else "not every host that was named is"
        raise InputError(f"{what} reached from here", file=plan, remedy="say `reach: ssh:NAME` in the plan")
    return site, reached


def to_act_on(
    app: App, plan: str | None, hosts: tuple[str, ...], every: bool, change: str | None, at_once: int, verb: str
) -> tuple[Site | None, list[Chosen]]:
    """The hosts of a command that changes something: this machine, or what ``--host`` or ``--all`` names.

    Raises :class:`InputError` with the list where the plan reaches hosts and nobody named one.
    """
    host, number = _checked(plan, hosts, change)
    if plan is None:
        if every:
            raise click.UsageError("--all means the hosts of a plan: it goes with --plan PLAN")
        target = app.reach.kept_target()
        return None, [Chosen(target.name, lambda: target, number)]
    if every and (hosts or host):
        raise click.UsageError("--all and --host exclude each other")
    site = app.site(plan, at_once)
    site.whereabouts.asks_segments = True
    if host is None and not hosts and not every:
        here = site.own_hosts()
        if not here:
            raise site.nobody_named(f"name what it is to {verb} with --host, as HOST:NUMBER, or with --all")
        hosts = (here[0].name,)
    named = (host,) if host is not None else hosts
    found = [(planned, _chosen(app, site, planned, number)) for planned in site.hosts(named)]
    for planned, one in found:
        if one is None and named:
            what = f"{planned.name} is not reached from here"
            raise InputError(what, file=plan, line=planned.line, remedy="say `reach: ssh:NAME` in the plan")
    return site, [one for _, one in found if one is not None]


def _checked(plan: str | None, hosts: tuple[str, ...], change: str | None) -> tuple[str | None, str | None]:
    host, number = split_change(change, plan)
    if hosts and plan is None:
        raise click.UsageError("--host names hosts of a plan: it goes with --plan PLAN")
    if host is not None and hosts:
        raise click.UsageError(f"{change} names the host already: leave --host out")
    if plan is not None and number is not None and host is None and len(hosts) != 1:
        raise click.UsageError(f"of which host is change {number}? Write HOST:{number}")
    return host, number


def _chosen(app: App, site: Site, planned: HostPlan, number: str | None) -> Chosen | None:
    target = app.reach.of_plan(site, planned)
    return Chosen(planned.name, target, number) if target is not None else None


def targets_of(app: App, site: Site, hosts: Iterable[str]) -> dict[str, HostTarget]:
    """The targets that hosts of the plan are, by their names."""
    targets = {}
    for name in dict.fromkeys(hosts):
        made = app.reach.of_plan(site, site.plan.hosts[name])
        assert made is not None
        targets[name] = made()
    return targets


def say_failed(app: App, host: str, error: AnchorError) -> None:
    """One line for a host that failed, where the command goes on with others."""
    text = str(error)
    app.say(text if host in text else f"{host}: {text}", style="yellow")
