"""A Windows machine as a target of changes. It is surveyed, and changes are drafted; none is carried out there yet."""

from __future__ import annotations

from collections.abc import Iterable

from fixed_anchor.change.change import ChangeStatus, Draft, Record, Terms
from fixed_anchor.change.target import Waiting
from fixed_anchor.core.addresses import IPAddress
from fixed_anchor.core.baseline import Baseline
from fixed_anchor.core.config import InterfaceConfig, Place
from fixed_anchor.core.elsewhere import Elsewhere
from fixed_anchor.core.errors import AnchorError, InputError, NotSupported
from fixed_anchor.core.foreseen import Declared, Foreseen
from fixed_anchor.core.plan import HostPlan, Plan
from fixed_anchor.core.readiness import Readiness
from fixed_anchor.core.survey import HostSurvey
from fixed_anchor.core.verification import VerifyCheck, VerifyResult
from fixed_anchor.core.wanted import wanted_config
from fixed_anchor.machines.protocol import Machine
from fixed_anchor.machines.windows.facts import Facts
from fixed_anchor.observe.stocktaking import take_stock
from fixed_anchor.observe.windows_asides import windows_listeners
from fixed_anchor.workflow.baseline import take_baseline
from fixed_anchor.workflow.foresee import going_from, refusal_of
from fixed_anchor.workflow.neighbour_checks import NeighbourChecks, seen_by
from fixed_anchor.workflow.windows_draft import draft_windows


class WindowsHost:
    """The :class:`~fixed_anchor.change.target.Target` that a machine with Windows is."""

    def __init__(self, machine: Machine, facts: Facts) -> None:
        self.machine = machine
        self.name = machine.name
        self.facts = facts
        self.neighbours: dict[str, NeighbourChecks] = {}

    # --- what is there, and what a plan makes of it --------------------------------------

    def survey(self) -> HostSurvey:
        return take_stock(self.machine)

    def draft(self, plan: Plan, host: HostPlan, survey: HostSurvey, hold: frozenset[IPAddress] = frozenset()) -> Draft:
        return draft_windows(plan, host, self.facts, survey)

    def foresee(self, plan: Plan, host: HostPlan, survey: HostSurvey) -> Foreseen:
        """What would be set after the change; routes have the metric that counts, the adapter's with their own."""
        wanted, error = self._wanted(plan, host, survey)
        wanted = {name: config for name, config in wanted.items() if survey.interface(name) is not None}
        refusal = None
        if error is not None:
            refusal = refusal_of(error, plan, next((i.line for i in host.interfaces if i.name in wanted), host.line))
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

    def baseline(self, draft: Draft, survey: HostSurvey) -> Baseline:
        coming = {name: None for name in draft.interfaces} | {config.interface: config for config in draft.wanted}
        return take_baseline(draft.host, self.machine, survey, coming, draft.reachable)

    def wanted(self, plan: Plan, host: HostPlan, survey: HostSurvey) -> dict[str, InterfaceConfig]:
        """What the plan wants of each adapter that it touches: with the metrics to be set, where it can be drafted."""
        return self._wanted(plan, host, survey)[0]

    def _wanted(
        self, plan: Plan, host: HostPlan, survey: HostSurvey
    ) -> tuple[dict[str, InterfaceConfig], AnchorError | None]:
        """The same, and why it cannot be drafted."""
        touched = [i for i in host.interfaces if i.ipv4 != "untouched" or i.ipv6 != "untouched"]
        try:
            made = draft_windows(plan, host, self.facts, survey).wanted if touched else ()
            return {config.interface: config for config in made}, None
        except AnchorError as error:
            return {i.name: wanted_config(plan, i) for i in touched}, error

    def from_elsewhere(self, wanted: tuple[InterfaceConfig, ...]) -> tuple[VerifyCheck, ...]:
        return seen_by(self.neighbours, wanted)

    # --- changes, of which there are none ------------------------------------------------

    def begin(self, draft: Draft, terms: Terms) -> str:
        raise NotSupported(
            f"{self.name} runs {draft.stack}: changes are drafted for it, and not carried out yet",
            remedy="nothing was changed; the draft says what to set by hand",
        )

    def numbers(self) -> list[str]:
        return []

    def never_begun(self) -> str:
        """The sentence that no change was ever begun here."""
        return f"no change was ever begun on {self.name}"

    def open_change(self) -> str | None:
        return None

    def give_back(self, number: str) -> list[str]:
        """No lease has gone with a change."""
        return []

    def number(self, typed: str) -> str:
        raise self._none()

    def restore_draft(self, number: str, hold: frozenset[IPAddress] = frozenset()) -> Draft:
        raise self._none()

    def status(self, number: str) -> ChangeStatus:
        raise self._none()

    def record(self, number: str) -> Record:
        raise self._none()

    def recorded_baseline(self, number: str) -> Baseline | None:
        raise self._none()

    def verify(
        self,
        host: str,
        wanted: tuple[InterfaceConfig, ...],
        hostname: str | None,
        terms: Terms,
        left: float | None = None,
        told: Waiting | None = None,
    ) -> VerifyResult:
        raise self._none()

    def answers_anew(self, host: str, interface: str, seconds: float) -> VerifyCheck:
        raise self._none()

    def give_verdict(self, number: str, word: str, checks: tuple[str, ...], why: str) -> None:
        raise self._none()

    def decide(self, number: str, decision: str, who: str, over_old: bool = False) -> None:
        raise self._none()

    def more_time(self, number: str, seconds: int) -> None:
        raise self._none()

    def close(self, number: str, who: str, because: str) -> None:
        raise self._none()

    def record_folder(self, number: str) -> str:
        raise self._none()

    def command_without_tool(self, number: str, verb: str) -> str | None:
        return None

    def _none(self) -> InputError:
        return InputError(self.never_begun())
