"""What a command is about, as targets: this machine, hosts of a plan, and hosts named by how they are reached."""

from __future__ import annotations

import os
from collections.abc import Callable
from functools import cached_property, partial
from pathlib import Path
from typing import Protocol

import msgspec

from fixed_anchor.core.errors import AnchorError, InputError
from fixed_anchor.core.plan import HostPlan, Plan
from fixed_anchor.core.survey import HostSurvey
from fixed_anchor.machines import MACHINES, at_state_dir, made_absolute, reach_by, seen_from
from fixed_anchor.machines.here import STATE_DIR, Here
from fixed_anchor.machines.not_linux import NotLinux, is_linux
from fixed_anchor.machines.protocol import Machine
from fixed_anchor.machines.seat import Seat
from fixed_anchor.machines.tree import Tree
from fixed_anchor.observe.stocktaking import take_stock
from fixed_anchor.planfile.reader import read_plan
from fixed_anchor.workflow.reached.at_once import AT_ONCE, Told, at_once
from fixed_anchor.workflow.reached.site import Site
from fixed_anchor.workflow.targets import HostTarget, target_of


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
    target: HostTarget | None = None
    reach: str | None = None


class Asks(Protocol):
    """Asks a person for the password of sudo on a host, which may have refused one; closed when all is done."""

    def __call__(self, host: str, refused: str | None) -> str | None: ...

    def close(self) -> None: ...


class Reach:
    """Everything that is reached from here, over one seat.

    ``state_dir`` is the state folder that the command line names: this machine's, or another's. ``asks`` gets what a
    connection wants to know from a person. Hosts of a plan are asked ``at_once`` at a time; ``told`` hears how many
    have answered.
    """

    def __init__(self, state_dir: str | None, asks: Asks, told: Told | None = None) -> None:
        self._state_dir = state_dir
        self._asks = asks
        self._told = told

    @cached_property
    def seat(self) -> Seat:
        """What is common to all connections."""
        seat = Seat(self._asks)
        seat.opened(self._asks)
        return seat

    def close(self) -> dict[str, list[tuple[str, str]]]:
        """Ends the connections; what was noted of them: each remark, with the places and lines that it is about."""
        if "seat" not in self.__dict__:
            return {}
        self.seat.close()
        return self.seat.remarks

    # --- this machine ------------------------------------------------------------------------------

    def here(self) -> Here:
        """This machine, with the state folder that the command line names."""
        return (Here if is_linux() else NotLinux)(str(Path(self._state_dir or STATE_DIR).absolute()))

    def target(self) -> HostTarget:
        """This machine, or the one whose state folder is named. Raises why there is nothing to look at."""
        other = at_state_dir(Path(self._state_dir)) if self._state_dir is not None else None
        if other is not None:
            return target_of(other)
        here = self.here()
        refusal = here.rights.why_no_change()
        if not here.running and refusal is not None:
            raise refusal
        return target_of(here)

    def kept_target(self) -> HostTarget:
        """The same for a command about changes that are there. Raises ``InputError`` for a state folder that is not."""
        target = self.target()
        if self._state_dir is not None and target.never_begun():
            raise InputError(
                "there is no such state folder", file=self._state_dir, expected="the one that `cutover` was given"
            )
        return target

    # --- hosts of a plan ---------------------------------------------------------------------------

    def site(self, plan: str, limit: int = AT_ONCE) -> Site:
        """The plan in the file ``plan``. Raises ``InputError``."""
        return self.site_of(read_plan(Path(plan)), limit)

    def site_of(self, plan: Plan, limit: int = AT_ONCE) -> Site:
        """A plan, with everything that it reaches from here."""
        site = Site(plan, self.here(), self.seat)
        site.at_once, site.told = limit, self._told
        return site

    def to_change(self, site: Site, name: str | None) -> tuple[HostPlan, HostTarget]:
        """The host to change, and itself as a target; see :meth:`~fixed_anchor.workflow.reached.site.Site.target`."""
        host, machine = site.target(name)
        return host, self._recognised(site, host, machine)

    def of_plan(self, site: Site, host: HostPlan) -> Callable[[], HostTarget] | None:
        """How ``host`` becomes a target, which may have to be asked there; ``None`` where it is not reached."""
        machine = site.machine(host)
        return partial(self._recognised, site, host, machine) if machine is not None and machine.running else None

    def _recognised(self, site: Site, host: HostPlan, machine: Machine) -> HostTarget:
        """The target that a machine is, once it has told what it runs."""
        machine.session.recognise()
        target = target_of(machine)
        if machine is not site.here:
            target.of_plan = (site.plan.file, host.name)
        return target

    # --- hosts that are named ----------------------------------------------------------------------

    def named(self, site: Site | None, words: tuple[str, ...]) -> list[Named]:
        """The hosts of ``words``; without any all of the ``site``. Raises :class:`InputError`."""
        if site is None:
            for word in words:
                if not is_a_way(word):
                    raise InputError(
                        f"--host {word} is a name of a plan",
                        remedy=f"add --plan PLAN, or reach it as --host ssh:{word}",
                    )
        of_plan = tuple(word for word in words if not is_a_way(word))
        found = [Named(word, reach_by(word, Path.cwd(), self.seat), word) for word in words if is_a_way(word)]
        if site is None or (words and not of_plan):
            return found
        for planned in site.hosts(of_plan):
            machine = site.machine(planned)
            what = f"{planned.name} is not reached from here: none of its MACs is on this machine"
            remedy = "say `reach: ssh:NAME` in the plan"
            why_not = InputError(what, file=site.plan.file, line=planned.line, remedy=remedy)
            reach = planned.reach if machine is not site.here else None
            found.append(Named(planned.name, machine, reach, why_not if machine is None else None))
        return found

    def asker(self, plan: str | None, word: str) -> HostTarget:
        """The host that is named to ask something. Raises why it cannot."""
        (one,) = self.named(self.site(plan) if plan is not None else None, (word,))
        if one.machine is None:
            raise one.why_not or AnchorError(f"{word} is not reached from here")
        return target_of(one.machine)

    def surveyed(self, site: Site | None, words: tuple[str, ...], limit: int) -> list[Surveyed]:
        """The surveys of the hosts of ``words``, taken ``limit`` at a time."""
        hosts = self.named(site, words)
        results = at_once(hosts, partial(_survey, site), limit, self._told)
        return [_surveyed(host, result) for host, result in zip(hosts, results, strict=True)]


def is_a_way(word: str) -> bool:
    """Whether ``word`` says how a host is reached, and is not its name in a plan."""
    return word.partition(":")[0] in MACHINES and ":" in word


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
        host.machine.session.let_go()


def _surveyed(host: Named, result: HostSurvey | AnchorError) -> Surveyed:
    target = target_of(host.machine) if host.machine is not None else None
    if isinstance(result, AnchorError):
        return Surveyed(host.name, None, result, host.why_not is None, target, host.reach)
    name = result.host if is_a_way(host.name) else host.name
    return Surveyed(name, result, AnchorError("surveyed"), True, target, host.reach)


# --- hosts whose files are here ----------------------------------------------------------------------


def tree(root: str) -> HostTarget:
    """The host whose file tree lies below ``root``."""
    return target_of(Tree(Path(root)))


def collected(path: str) -> HostTarget | None:
    """The host that was collected in the file ``path``; ``None`` where that is no collection."""
    from fixed_anchor.machines.collected import HEAD, collection, is_collection

    try:
        with open(path, "rb") as file:
            begins = file.read(HEAD)
    except OSError as error:
        raise InputError(f"the survey cannot be read: {error.strerror}", file=path) from None
    return target_of(collection(Path(path))) if is_collection(begins) else None


def collector(system: str) -> str:
    """The text of the script that collects a host of ``system``: ``linux`` or ``windows``."""
    if system == "windows":
        from fixed_anchor.machines.windows_collected import collector_source as windows_collector

        return windows_collector()
    from fixed_anchor.machines.collected import collector_source

    return collector_source()


def way_from(site: Site | None, name: str, reach: str | None, folder: Path) -> str | None:
    """How a plan in ``folder`` says that a host is reached.

    In a plan paths count from its folder; on the command line from where we are.
    """
    if reach is None:
        return None
    of_plan = site is not None and name in site.plan.hosts
    base = Path(site.plan.file).parent if site is not None and of_plan else Path.cwd()
    return seen_from(reach, base, folder)


def way_from_anywhere(site: Site | None, name: str, reach: str | None) -> str | None:
    """The same with its path made absolute, for a survey that may be carried about."""
    way = way_from(site, name, reach, Path.cwd())
    return made_absolute(way, Path.cwd()) if way is not None else None


def way_to(reach: str, folder: Path) -> str:
    """How a plan in ``folder`` says what :func:`way_from_anywhere` has said."""
    kind, _, rest = reach.partition(":")
    return f"{kind}:{os.path.relpath(rest, folder)}" if os.path.isabs(rest) else reach


def collection_from(path: str, folder: Path) -> str:
    """How a plan in ``folder`` says that a host was collected in the file ``path``."""
    return f"collected:{os.path.relpath(path, folder)}"
