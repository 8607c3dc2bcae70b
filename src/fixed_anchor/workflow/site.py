"""The machines and vantages that a plan is looked at from."""

from __future__ import annotations

import os
from ipaddress import IPv4Address

from fixed_anchor import machines
from fixed_anchor.core.addresses import IPNetwork
from fixed_anchor.core.errors import InputError
from fixed_anchor.core.plan import HostPlan, Plan
from fixed_anchor.core.rules.host import host_of_machine
from fixed_anchor.core.survey import HostSurvey, SurveyedInterface
from fixed_anchor.machines.collected import Collected
from fixed_anchor.machines.here import Here
from fixed_anchor.machines.protocol import Machine
from fixed_anchor.machines.standin import Standin
from fixed_anchor.observe import kernel
from fixed_anchor.observe.stocktaking import take_stock
from fixed_anchor.packets.ipv6 import link_local_of
from fixed_anchor.standins.wire import SimulatedWire
from fixed_anchor.vantages.protocol import Place
from fixed_anchor.vantages.raw import RawVantage
from fixed_anchor.vantages.simulated import SimulatedVantage
from fixed_anchor.vantages.unprivileged import UnprivilegedVantage


class Site:
    """A plan, this machine, and everything of the plan that is reached from here; each looked at once."""

    def __init__(self, plan: Plan, here: Here) -> None:
        self.plan = plan
        self.here = here
        self._here_survey: HostSurvey | None = None
        self._own_macs: frozenset[str] | None = None
        self._machines: dict[str, Machine | None] = {}
        self._surveys: dict[str, HostSurvey | None] = {}

    def here_survey(self) -> HostSurvey:
        if self._here_survey is None:
            self._here_survey = take_stock(self.here)
        return self._here_survey

    def machine(self, host: HostPlan) -> Machine | None:
        """The machine of ``host``: as the plan reaches it, or this one where its MACs are here."""
        if host.name not in self._machines:
            machine = machines.reach(self.plan, host)
            if machine is None and self._is_here(host):
                machine = self.here
            self._machines[host.name] = machine
        return self._machines[host.name]

    def _is_here(self, host: HostPlan) -> bool:
        if self._own_macs is None:
            # The kernel's links are enough to tell; a whole survey is made only where the answer is yes.
            links = kernel.links(self.here)
            self._own_macs = frozenset(m for k in links for m in (k.facts.mac, k.facts.permanent_mac) if m)
        return any(i.mac in self._own_macs for i in host.interfaces)

    def survey(self, host: HostPlan) -> HostSurvey | None:
        """The survey of ``host``, or ``None`` where it is not reached from here."""
        if host.name not in self._surveys:
            machine = self.machine(host)
            if machine is None:
                self._surveys[host.name] = None
            elif machine is self.here:
                self._surveys[host.name] = self.here_survey()
            else:
                self._surveys[host.name] = take_stock(machine)
        return self._surveys[host.name]

    def forget(self) -> None:
        """Forgets what was seen; the next look is a fresh one."""
        self._here_survey = None
        self._own_macs = None
        self._surveys.clear()

    def hosts(self, names: tuple[str, ...]) -> list[HostPlan]:
        """The hosts of the plan with ``names``, all if there are none. Raises :class:`InputError`."""
        for name in names:
            if name not in self.plan.hosts:
                raise InputError(
                    f"the plan has no host {name}",
                    file=self.plan.file,
                    expected="one of " + ", ".join(self.plan.hosts),
                )
        return [h for h in self.plan.hosts.values() if not names or h.name in names]

    def target(self, name: str | None) -> tuple[HostPlan, Machine]:
        """The host to change, and its machine.

        A stand-in is named by ``--host``; otherwise it is the host whose MACs are this
        machine's. Raises :class:`InputError` where that is none, or not one.
        """
        if name is not None:
            host = self.hosts((name,))[0]
            if host.reach is not None:
                machine = self.machine(host)
                if isinstance(machine, Collected):
                    raise InputError(
                        f"{host.name} is known here only from what was collected there",
                        file=self.plan.file,
                        line=host.line,
                        remedy="`fixed-anchor draft --runbook` makes a script to carry there",
                    )
                if machine is None or not machine.running:
                    raise InputError(
                        f"{host.name} is a file tree, and nothing runs there to be changed",
                        file=self.plan.file,
                        line=host.line,
                        remedy="`fixed-anchor draft` shows and writes its files",
                    )
                return host, machine
        elif self.plan.hosts and all(h.reach is not None for h in self.plan.hosts.values()):
            raise InputError(
                "every host of this plan is reached from here, none is this machine",
                file=self.plan.file,
                remedy="name one with --host: " + ", ".join(self.plan.hosts),
            )
        return host_of_machine(self.plan, self.here_survey(), name), self.here

    def vantage(self, host: HostPlan, interface: str, subnets: tuple[IPNetwork, ...]) -> Place | str:
        """A place to probe from for ``interface`` of ``host``, or the reason why there is none."""
        machine = self.machine(host)
        if isinstance(machine, Standin):
            return simulated_vantage(machine, interface)
        if machine is self.here:
            found = self.here_survey().interface(interface)
            if found is None or found.link.mac is None:
                return f"this machine has no interface {interface}"
            return place_on(found)
        afar = machine is None or isinstance(machine, Collected)
        on_segment = _interface_on(self.here_survey(), subnets) if afar else None
        if on_segment is not None and on_segment.link.mac is not None:
            return place_on(on_segment)
        if isinstance(machine, Collected):
            return f"{host.name} is known only from what was collected there"
        if machine is not None:
            return f"{host.name} is a file tree, with no wire to look at"
        return f"this machine is neither {host.name} nor on its segment"


def _interface_on(survey: HostSurvey, subnets: tuple[IPNetwork, ...]) -> SurveyedInterface | None:
    for interface in survey.interfaces:
        for held in interface.addresses:
            if any(s.version == held.address.version and held.address.ip in s for s in subnets):
                return interface
    return None


def place_on(found: SurveyedInterface) -> Place:
    """A place on an interface of this machine: a raw socket, or without root the kernel's neighbour table."""
    if os.geteuid() == 0 and found.link.mac is not None:
        return RawVantage.on(found)
    return UnprivilegedVantage(found.name, found.link.vlan)


def place_of(machine: Machine, interface: SurveyedInterface) -> Place | str:
    """A place on an interface of ``machine``, or why there is none."""
    if isinstance(machine, Standin):
        return simulated_vantage(machine, interface.name)
    if isinstance(machine, Here):
        return place_on(interface)
    return f"{machine.name} is a file tree, with no wire to look at"


def simulated_vantage(machine: Standin, interface: str) -> Place | str:
    for simulated in machine.host.host.interfaces:
        if simulated.name == interface:
            wire = SimulatedWire(machine.station, machine.all_hosts(), simulated.segment, machine.name)
            held = machine.host.addresses_of(simulated)
            own = next((a for a in held if isinstance(a, IPv4Address)), None)
            local = link_local_of(simulated.mac)
            return SimulatedVantage(wire, machine.name, interface, simulated.mac, own, local)
    return f"{machine.name} has no interface {interface}"


def own_vantage(machine: Machine, interface: str) -> Place | str:
    """A place on the machine's own interface, where there is no plan yet."""
    found = take_stock(machine).interface(interface)
    return place_of(machine, found) if found is not None else f"{machine.name} has no interface {interface}"
