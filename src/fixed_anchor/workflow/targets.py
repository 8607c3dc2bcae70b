"""The machine of a host as a target of changes: the one place where it is told which kind that is."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Protocol

from fixed_anchor.change.change import Draft
from fixed_anchor.change.target import Target
from fixed_anchor.core.addresses import IPAddress
from fixed_anchor.core.config import InterfaceConfig
from fixed_anchor.core.elsewhere import Elsewhere
from fixed_anchor.core.errors import AnchorError
from fixed_anchor.core.foreseen import Foreseen
from fixed_anchor.core.plan import HostPlan, Plan
from fixed_anchor.core.readiness import Readiness
from fixed_anchor.core.survey import HostSurvey
from fixed_anchor.machines.protocol import Machine
from fixed_anchor.vantages.protocol import Vantage
from fixed_anchor.workflow.beside.neighbour_checks import NeighbourChecks
from fixed_anchor.workflow.linux.linux_host import LinuxHost


class HostTarget(Target, Protocol):
    """A target that is a host with an address of its own: what checks and commands want of it beside its changes."""

    machine: Machine
    #: The file of the plan by which it was reached, and its name there, where it is another machine.
    of_plan: tuple[str, str] | None
    #: Those who look at its interfaces from beside, by the interfaces' names.
    neighbours: dict[str, NeighbourChecks]

    def wanted(self, plan: Plan, host: HostPlan, survey: HostSurvey) -> dict[str, InterfaceConfig]:
        """What the plan wants of each of its interfaces that it touches."""
        ...

    def foresee(self, plan: Plan, host: HostPlan, survey: HostSurvey, draft: Draft | AnchorError) -> Foreseen:
        """What would be declared once ``draft`` is carried out: what is now, with the reason, where there is none."""
        ...

    def readiness(self) -> Readiness | None:
        """Whether it can be changed at this moment; ``None`` where nobody can tell."""
        ...

    def elsewhere(self, going: frozenset[IPAddress], others: Iterable[IPAddress]) -> Elsewhere:
        """What it has of addresses of its own that are ``going``, and of those of ``others``."""
        ...

    def vantage(self, survey: HostSurvey | None, interface: str) -> Vantage:
        """From where it looks at the segment of one of its interfaces."""
        ...

    def never_begun(self) -> str:
        """The sentence that no change was ever begun there; empty where one was."""
        ...

    def give_back(self, number: str) -> list[str]:
        """Gives the leases that went with a kept change back, where its guard could not; tells how that went."""
        ...


def target_of(machine: Machine) -> HostTarget:
    """The target that ``machine`` is, as far as it has told what it runs."""
    if machine.windows is None:
        return LinuxHost(machine)
    # Most sites have none: it is loaded where there is one.
    from fixed_anchor.workflow.windows.windows_host import WindowsHost

    return WindowsHost(machine)
