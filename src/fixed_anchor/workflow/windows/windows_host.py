"""A Windows machine as a target of changes: its settings, and the PowerShell engine that carries changes out."""

from __future__ import annotations

import logging
from collections.abc import Iterable

import msgspec

from fixed_anchor.change.change import Draft, Terms
from fixed_anchor.change.content import settings_in
from fixed_anchor.core.addresses import IPAddress
from fixed_anchor.core.config import InterfaceConfig, Place
from fixed_anchor.core.elsewhere import Elsewhere
from fixed_anchor.core.errors import AnchorError, Unreachable
from fixed_anchor.core.foreseen import Declared, Foreseen, going_from, refusal_of
from fixed_anchor.core.plan import HostPlan, Plan
from fixed_anchor.core.readiness import Readiness
from fixed_anchor.core.survey import HostSurvey
from fixed_anchor.core.wanted import wanted_config
from fixed_anchor.engine import driver
from fixed_anchor.engine.windows_data import as_windows_files
from fixed_anchor.machines.protocol import Machine
from fixed_anchor.machines.windows.windows_facts import WindowsFacts
from fixed_anchor.observe.windows_asides import windows_listeners
from fixed_anchor.workflow.hosts.engine_host import EngineHost
from fixed_anchor.workflow.windows.draft_settings import draft_windows
from fixed_anchor.workflow.windows.restore import restore_windows

_log = logging.getLogger(__name__)


class WindowsHost(EngineHost):
    """The :class:`~fixed_anchor.change.target.Target` that a machine with Windows is."""

    def __init__(self, machine: Machine) -> None:
        super().__init__(machine)
        assert machine.windows is not None

    @property
    def facts(self) -> WindowsFacts:
        """What its collector told last."""
        facts = self.machine.windows
        assert facts is not None
        return facts

    # --- what is there, and what a plan makes of it --------------------------------------

    def draft(self, plan: Plan, host: HostPlan, survey: HostSurvey, hold: frozenset[IPAddress] = frozenset()) -> Draft:
        return draft_windows(plan, host, self.facts, survey, hold)

    def foresee(self, plan: Plan, host: HostPlan, survey: HostSurvey, draft: Draft | AnchorError) -> Foreseen:
        """What would be set after the change; routes have the metric that counts, the adapter's with their own."""
        wanted = self._wanted(plan, host, draft)
        wanted = {name: config for name, config in wanted.items() if survey.interface(name) is not None}
        refusal = None
        if isinstance(draft, AnchorError):
            refusal = refusal_of(draft, plan, next((i.line for i in host.interfaces if i.name in wanted), host.line))
        declared = {
            found.name: Declared(
                wanted.get(found.name, found.declared),
                survey.system,
                next(iter(found.declared_in), Place(f"adapter {found.name}", 0)),
                found.link.kind,
            )
            for found in survey.interfaces
            if found.declared is not None
        }
        going = frozenset(going_from(host, survey, wanted))
        return Foreseen(wanted, declared, survey.others, going, refusal)

    def readiness(self) -> Readiness | None:
        """Nothing is known there that would be in the middle of something."""
        return None

    def elsewhere(self, going: frozenset[IPAddress], others: Iterable[IPAddress]) -> Elsewhere:
        """Its sockets; its files are not searched."""
        asked = [*going, *others]
        left_out = ("its files and its registry, in which nothing is searched on Windows",) if asked else ()
        return Elsewhere(windows_listeners(self.facts) if going else (), left_out=left_out)

    def wanted(self, plan: Plan, host: HostPlan, survey: HostSurvey) -> dict[str, InterfaceConfig]:
        """What the plan wants of each adapter that it touches: with the metrics to be set, where it can be drafted."""
        try:
            return self._wanted(plan, host, self.draft(plan, host, survey))
        except AnchorError as error:
            return self._wanted(plan, host, error)

    def _wanted(self, plan: Plan, host: HostPlan, draft: Draft | AnchorError) -> dict[str, InterfaceConfig]:
        touched = host.touched
        if isinstance(draft, AnchorError):
            return {i.name: wanted_config(plan, i) for i in touched}
        return {config.interface: config for config in draft.wanted}

    # --- changes ---------------------------------------------------------------------------

    def restore_draft(self, number: str, hold: frozenset[IPAddress] = frozenset()) -> Draft:
        return restore_windows(self.machine, number, hold)

    def begin(self, draft: Draft, terms: Terms) -> str:
        """Lays the data of the change down, and starts its guard; see the Protocol."""
        # The guard would keep it by what was seen over the old connection.
        terms = msgspec.structs.replace(terms, unattended=terms.unattended and not terms.anew)
        files = as_windows_files(draft.host, settings_in(draft.content), terms, self.facts, self._grace_seconds(draft))
        number = driver.lay_down(self.machine.store, lambda folder: files)
        try:
            driver.start(self.machine.store, number)
        except Unreachable:
            # What it does there runs on when the connection has gone: whatever was seen of it, it counts as begun.
            _log.info("the connection to %s was lost while change %s began", self.name, number)
        return number

    def _grace_seconds(self, draft: Draft) -> int | None:
        """For how long the lease of an address that stays for a time is still good; ``None`` where none ends."""
        held = {str(g.address.ip) for g in draft.grace}
        ends = [a.seconds for a in self.facts.addresses if a.address in held and a.seconds is not None]
        return min(ends) if ends else None

    def give_back(self, number: str) -> list[str]:
        """Nobody gives the leases of a Windows machine back: their servers keep them until they end."""
        return []
