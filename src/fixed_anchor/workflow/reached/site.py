"""The machines of a plan, and what was surveyed of them."""

from __future__ import annotations

import difflib
import logging
from collections.abc import Iterable, Sequence
from functools import cached_property

from fixed_anchor import machines
from fixed_anchor.core.config import LinkFacts, is_link_name
from fixed_anchor.core.errors import AnchorError, InputError, NoAccess, located
from fixed_anchor.core.plan import HostPlan, Plan
from fixed_anchor.core.rules.host import host_of_machine
from fixed_anchor.core.survey import HostSurvey
from fixed_anchor.machines.protocol import Machine
from fixed_anchor.machines.seat import Seat
from fixed_anchor.observe import kernel
from fixed_anchor.observe.stocktaking import look_at_kernel, take_stock
from fixed_anchor.vantages.nowhere import Nowhere
from fixed_anchor.vantages.protocol import Vantage
from fixed_anchor.workflow.reached.at_once import AT_ONCE, Told, at_once
from fixed_anchor.workflow.reached.whereabouts import Whereabouts

#: So many hosts of a plan are named in an error.
_NAMED = 20

_log = logging.getLogger(__name__)


class Site:
    """A plan, this machine, and everything of the plan that is reached from here; each looked at once."""

    def __init__(self, plan: Plan, here: Machine, seat: Seat | None = None) -> None:
        self.plan = plan
        self.here = here
        self.seat = seat or Seat()
        self.whereabouts = Whereabouts(plan, here, self.seat)
        self._here_survey: HostSurvey | None = None
        self._own_macs: frozenset[str] | None = None
        self._machines: dict[str, Machine | None] = {}
        self._surveys: dict[str, HostSurvey | None] = {}
        #: Hosts that the plan reaches and that could not be looked at, and why not.
        self.unreached: dict[str, NoAccess] = {}
        #: So many hosts are asked at the same time; ``told`` hears how many have answered.
        self.at_once = AT_ONCE
        self.told: Told | None = None

    def with_plan(self, plan: Plan) -> Site:
        """The same machines seen from another plan of them, with nothing looked at yet; itself where it is the same."""
        if plan is self.plan:
            return self
        site = Site(plan, self.here, self.seat)
        site.whereabouts, site.at_once, site.told = self.whereabouts, self.at_once, self.told
        site._machines, site._own_macs, site.unreached = self._machines, self._own_macs, self.unreached
        return site

    def here_survey(self) -> HostSurvey:
        """The survey of this machine, made once."""
        if self._here_survey is None:
            self._here_survey = take_stock(self.here)
        return self._here_survey

    def machine(self, host: HostPlan) -> Machine | None:
        """The machine of ``host``: as the plan reaches it, or this one where its MACs are here.

        ``None`` also where :meth:`look_at` has found that it does not answer.
        """
        if host.name in self.unreached:
            return None
        if host.name not in self._machines:
            machine = (
                self.here
                if self._is_here(host)
                else machines.reach(self.plan, host, self.seat, self.whereabouts.of(host))
            )
            self._machines[host.name] = machine
        return self._machines[host.name]

    def _is_here(self, host: HostPlan) -> bool:
        # Whoever sits at the host itself needs no connection to it.
        if not self.here.running or not (host.reach is None or host.reach.startswith("ssh:")):
            return False
        if self._own_macs is None:
            # The kernel's links are enough to tell; a whole survey is made only where the answer is yes.
            links = kernel.links(self.here)
            self._own_macs = frozenset(m for k in links for m in (k.facts.mac, k.facts.permanent_mac) if m)
        return any(i.mac in self._own_macs for i in host.interfaces)

    def look_at(self, hosts: Iterable[HostPlan]) -> None:
        """Takes stock of ``hosts``, several at a time.

        Of several one that does not answer ends nothing: it is kept in :attr:`unreached`. Raises why where it is the
        only one, and whatever else is wrong.
        """
        chosen = [host for host in hosts if host.name not in self._surveys and host.name not in self.unreached]
        # Each connects when it is first asked; here is nothing to wait for.
        reached = [host for host in chosen if self.machine(host) not in (None, self.here)]
        for host, found in zip(reached, at_once(reached, self.survey, self.at_once, self.told), strict=True):
            if isinstance(found, NoAccess) and len(chosen) > 1:
                self.unreached[host.name] = found
                self._surveys[host.name] = None
            elif isinstance(found, AnchorError):
                raise found

    def look_at_each(self, hosts: Iterable[HostPlan]) -> None:
        """The same; one that does not answer is kept in :attr:`unreached` also where it is the only one."""
        chosen = list(hosts)
        try:
            self.look_at(chosen)
        except NoAccess as error:
            if len(chosen) != 1:
                raise
            self.unreached[chosen[0].name] = error

    def survey(self, host: HostPlan) -> HostSurvey | None:
        """The survey of ``host``, or ``None`` where it is not reached from here."""
        if host.name not in self._surveys:
            machine = self.machine(host)
            if machine is None:
                self._surveys[host.name] = None
            elif machine is self.here:
                self._surveys[host.name] = self.here_survey()
            else:
                _log.info("taking stock of %s", host.name)
                # In a tree of files nothing else says what kind of link it is.
                kinds = {i.name: "ethernet" if i.wifi is None else "wireless" for i in host.interfaces}
                planned = tuple(
                    LinkFacts(i.name, i.mac, i.mac, kind=kinds[i.name]) for i in host.interfaces if is_link_name(i.name)
                )
                self._surveys[host.name] = take_stock(machine, planned=planned)
        return self._surveys[host.name]

    def is_surveyed(self, host: HostPlan) -> bool:
        """Whether the survey of ``host`` is at hand."""
        return self._surveys.get(host.name) is not None

    def survey_of_kernel(self, host: HostPlan) -> HostSurvey | None:
        """What the kernel of ``host`` says, for somebody who may not read its files; from now on its survey."""
        machine = self.machine(host)
        if machine is None or not machine.running:
            return None
        survey = look_at_kernel(machine)
        self._surveys[host.name] = survey
        if machine is self.here:
            self._here_survey = survey
        return survey

    def hosts(self, names: tuple[str, ...]) -> list[HostPlan]:
        """The hosts of the plan with ``names``, all if there are none. Raises :class:`InputError`."""
        for name in names:
            if name not in self.plan.hosts:
                near = difflib.get_close_matches(name, self.plan.hosts, 1, 0.5)
                some = list(self.plan.hosts)[:_NAMED]
                more = f" and {len(self.plan.hosts) - len(some)} more" if len(self.plan.hosts) > len(some) else ""
                raise InputError(
                    f"the plan has no host {name}",
                    file=self.plan.file,
                    expected=None if near else f"one of {', '.join(some)}{more}",
                    remedy=f"did you mean {near[0]!r}?" if near else None,
                )
        return [h for h in self.plan.hosts.values() if not names or h.name in names]

    def target(self, name: str | None) -> tuple[HostPlan, Machine]:
        """The host to change, and its machine.

        A host that the plan reaches is named by ``--host``; otherwise it is the one whose MACs are
        this machine's. Raises :class:`InputError` where that is none, or not one, and why no change
        can be made there.
        """
        if name is not None:
            host = self.hosts((name,))[0]
            machine = self.machine(host) if host.reach is not None else None
            if machine is not None and machine is not self.here:
                refusal = machine.rights.why_no_change()
                if refusal is not None:
                    with located(self.plan.file, host.line):
                        raise refusal
                return host, machine
        elif not self.own_hosts() and self.reached():
            raise self.nobody_named("name one with --host")
        refusal = self.here.rights.why_no_change()
        if refusal is not None and not self.here.running:
            raise refusal
        host = host_of_machine(self.plan, self.here_survey(), name)
        if refusal is not None:
            raise refusal
        return host, self.here

    def reached(self) -> list[HostPlan]:
        """The hosts that the plan reaches from a seat."""
        return [host for host in self.plan.hosts.values() if host.reach is not None]

    def reached_on(self, segment: str) -> Sequence[HostPlan]:
        """The hosts on ``segment`` that the plan reaches, in its order."""
        return self._on_segments[0].get(segment, ())

    def not_reached_on(self, segment: str) -> Sequence[HostPlan]:
        """The others on ``segment``."""
        return self._on_segments[1].get(segment, ())

    @cached_property
    def _on_segments(self) -> tuple[dict[str, list[HostPlan]], dict[str, list[HostPlan]]]:
        found: tuple[dict[str, list[HostPlan]], dict[str, list[HostPlan]]] = {}, {}
        for host in self.plan.hosts.values():
            for segment in dict.fromkeys(i.segment for i in host.interfaces):
                found[host.reach is None].setdefault(segment, []).append(host)
        return found

    def own_hosts(self) -> list[HostPlan]:
        """The hosts of the plan that this machine is by its MACs: one, or none, where the plan is right."""
        return [host for host in self.plan.hosts.values() if self._is_here(host)]

    def nobody_named(self, remedy: str) -> InputError:
        """The error of whoever would change something and names no host, where the plan reaches several."""
        names = [host.name for host in self.reached()]
        some = ", ".join(names[:_NAMED]) + (f" and {len(names) - _NAMED} more" if len(names) > _NAMED else "")
        return InputError(
            "this machine is no host of this plan, and nobody said which of those that it reaches is meant",
            file=self.plan.file,
            remedy=f"{remedy}: {some}",
        )


def own_vantage(machine: Machine, survey: HostSurvey | None, interface: str) -> Vantage:
    """The machine's own vantage on an interface, by its ``survey``; or why there is none."""
    found = survey.interface(interface) if survey is not None else None
    if found is None:
        return Nowhere(f"{machine.name} has no interface {interface}")
    return machine.vantage(found)
