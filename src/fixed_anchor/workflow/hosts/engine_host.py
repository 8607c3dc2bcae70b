"""What all hosts have in common as targets: their changes are carried out by an engine there, which the seat asks."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager

from fixed_anchor.change import states
from fixed_anchor.change.access import Rights
from fixed_anchor.change.change import ChangeStatus, Draft, Record, Terms
from fixed_anchor.change.target import Waiting
from fixed_anchor.core.addresses import IPAddress
from fixed_anchor.core.baseline import Baseline
from fixed_anchor.core.config import InterfaceConfig
from fixed_anchor.core.errors import ChangeOpen, InputError, NoAccess, Unreachable
from fixed_anchor.core.survey import HostSurvey
from fixed_anchor.core.verification import FAIL, PASS, VerifyCheck, VerifyResult
from fixed_anchor.engine import driver
from fixed_anchor.machines.protocol import Machine
from fixed_anchor.observe.stocktaking import take_stock
from fixed_anchor.vantages.protocol import Vantage
from fixed_anchor.workflow.beside.neighbour_checks import NeighbourChecks, seen_by
from fixed_anchor.workflow.hosts.baseline import recorded, take_baseline
from fixed_anchor.workflow.hosts.kept import addresses_left, last_cutover, later_ones
from fixed_anchor.workflow.hosts.settle import verify_when_settled
from fixed_anchor.workflow.reached.site import own_vantage

#: Seconds that a host is looked for whose connection was lost with a decision.
_TO_DECIDE = 90.0


class EngineHost:
    """The part of a :class:`~fixed_anchor.change.target.Target` that is the same for every host."""

    def __init__(self, machine: Machine) -> None:
        self.machine = machine
        self.name = machine.name
        self.session = machine.session
        #: The file of the plan by which it was reached, and its name there, where it is another machine.
        self.of_plan: tuple[str, str] | None = None
        #: Those who look at its interfaces from beside, by the interfaces' names.
        self.neighbours: dict[str, NeighbourChecks] = {}

    @property
    def rights(self) -> Rights:
        return self.machine.rights

    @property
    def by_hand_page(self) -> str:
        return self.machine.store.by_hand_page

    def last_cutover(self) -> str:
        return last_cutover(self.machine.store)

    def later_ones(self, number: str) -> tuple[str, ...]:
        return later_ones(self.machine.store, number)

    def addresses_left(self, number: str) -> tuple[IPAddress, ...]:
        return addresses_left(self.machine.store, number)

    def survey(self) -> HostSurvey:
        return take_stock(self.machine)

    def vantage(self, survey: HostSurvey | None, interface: str) -> Vantage:
        return own_vantage(self.machine, survey, interface)

    def numbers(self) -> list[str]:
        return driver.numbers(self.machine.store)

    def number(self, typed: str) -> str:
        return driver.number_of(self.machine.store, typed)

    def never_begun(self) -> str:
        """The sentence that no change was ever begun here, where there is no state folder; else empty."""
        return driver.never_begun(self.machine.store)

    def open_change(self) -> str | None:
        return driver.open_change(self.machine.store)

    def status(self, number: str) -> ChangeStatus:
        return driver.status(self.machine.store, number)

    def record(self, number: str) -> Record:
        try:
            notes = driver.notes(self.machine.store, number)
        except InputError:
            # The log is worth showing without them.
            notes = {}
        return Record(notes, driver.log(self.machine.store, number))

    @contextmanager
    def switched_on(self, draft: Draft, survey: HostSurvey) -> Iterator[Callable[[bool], None]]:
        yield lambda kept: None

    def baseline(self, draft: Draft, survey: HostSurvey) -> Baseline:
        coming = {name: None for name in draft.interfaces} | {config.interface: config for config in draft.wanted}
        return take_baseline(draft.host, self.machine, survey, coming, draft.reachable)

    def recorded_baseline(self, number: str) -> Baseline | None:
        return recorded(self.machine, number)

    def verify(
        self,
        host: str,
        wanted: tuple[InterfaceConfig, ...],
        hostname: str | None,
        terms: Terms,
        left: float | None = None,
        told: Waiting | None = None,
    ) -> VerifyResult:
        return verify_when_settled(host, self.machine, wanted, hostname, terms.judge, terms.patience, left, told)

    def answers_anew(self, host: str, interface: str, seconds: float) -> VerifyCheck:
        begun = time.monotonic()
        expected = "a new connection to the new address leads to this host"
        while True:
            proven, why = None, "there is no new address to connect to"
            try:
                proven = self.session.answers_anew()
            except Unreachable as error:
                # Switches and neighbours may need a moment.
                why = error.what
                if time.monotonic() - begun < seconds:
                    time.sleep(1.0)
                    continue
            except NoAccess as error:
                why = error.what
            took = round(time.monotonic() - begun, 3)
            observed = proven or "it does not"
            outcome, shown = (FAIL, why) if proven is None else (PASS, None)
            return VerifyCheck(
                "answers-anew", True, host, interface, "the seat", expected, observed, outcome, shown, took
            )

    def from_elsewhere(self, wanted: tuple[InterfaceConfig, ...]) -> tuple[VerifyCheck, ...]:
        return seen_by(self.neighbours, wanted)

    def give_verdict(self, number: str, word: str, checks: tuple[str, ...], why: str) -> None:
        driver.give_verdict(self.machine.store, number, word, checks, why)

    def decide(self, number: str, decision: str, who: str, over_old: bool = False) -> None:
        try:
            if decision == states.KEEP:
                driver.confirm(self.machine.store, number, who, over_old)
            else:
                driver.roll_back(self.machine.store, number, who)
        except Unreachable as lost:
            # An address may go with the decision, and the connection with it: what came of it the host itself tells.
            self._await_end(number, states.CONFIRMED if decision == states.KEEP else states.ROLLED_BACK, lost)

    def _await_end(self, number: str, wanted: str, lost: Unreachable) -> None:
        """Waits until change ``number`` has ended as ``wanted``; raises :class:`Unreachable` where nobody can tell."""
        until = time.monotonic() + _TO_DECIDE
        while time.monotonic() < until:
            try:
                now = self.status(number)
            except Unreachable:
                time.sleep(1.0)
                continue
            if now.state == wanted:
                return
            if not now.is_open:
                raise ChangeOpen(f"change {number} is {states.shown(now.state)}, because {now.why}")
            if now.decision is None or now.state == states.STUCK:
                break
            time.sleep(0.5)
        raise Unreachable(f"{lost.what} before it was told how that ended", remedy="ask again with `status`")

    def more_time(self, number: str, seconds: int) -> None:
        driver.more_time(self.machine.store, number, seconds)

    def close(self, number: str, who: str, because: str) -> None:
        driver.close(self.machine.store, number, who, because)

    def record_folder(self, number: str) -> str:
        return driver.folder_of(self.machine.store, number)

    def command_without_tool(self, number: str, verb: str) -> str | None:
        if not self.rights.has_shell:
            return None
        # In double quotes, which every shell there takes alike.
        words = driver.engine_command(self.machine.store, number, verb)
        return " ".join(f'"{word}"' if " " in word else word for word in words)
