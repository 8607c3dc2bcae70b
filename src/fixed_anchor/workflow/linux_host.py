"""A Linux host as a target of changes: its files, its daemons, and the shell engine that carries changes out."""

from __future__ import annotations

import logging
import time
from collections.abc import Iterable

import msgspec

from fixed_anchor.change import states
from fixed_anchor.change.change import ChangeStatus, Draft, LeavingLease, Record, Terms
from fixed_anchor.change.content import files_in
from fixed_anchor.change.files import FileEdit
from fixed_anchor.change.target import Waiting
from fixed_anchor.core.addresses import IPAddress
from fixed_anchor.core.baseline import Baseline
from fixed_anchor.core.config import InterfaceConfig
from fixed_anchor.core.elsewhere import Elsewhere
from fixed_anchor.core.errors import ChangeOpen, InputError, NoAccess, Refused, Unreachable
from fixed_anchor.core.foreseen import Foreseen
from fixed_anchor.core.plan import HostPlan, Plan
from fixed_anchor.core.readiness import Readiness
from fixed_anchor.core.survey import HostSurvey
from fixed_anchor.core.verification import FAIL, PASS, VerifyCheck, VerifyResult
from fixed_anchor.engine import driver
from fixed_anchor.engine.boot import init_of
from fixed_anchor.engine.data import as_files
from fixed_anchor.machines.protocol import Machine
from fixed_anchor.observe import kernel
from fixed_anchor.observe.readiness import readiness
from fixed_anchor.observe.stocktaking import take_stock
from fixed_anchor.workflow.baseline import recorded, take_baseline
from fixed_anchor.workflow.elsewhere import search_host
from fixed_anchor.workflow.foresee import foresee
from fixed_anchor.workflow.give_back import give_back_from_seat
from fixed_anchor.workflow.host_wide import host_configs
from fixed_anchor.workflow.linux_draft import draft_host
from fixed_anchor.workflow.neighbour_checks import NeighbourChecks, seen_by
from fixed_anchor.workflow.restore import restore_draft
from fixed_anchor.workflow.settle import verify_when_settled

_log = logging.getLogger(__name__)

#: Seconds that a host is looked for whose connection was lost with a decision.
_TO_DECIDE = 90.0


class DraftOutdated(Refused):
    """Files of the host are no longer what the draft was made from; ``edits`` show how they differ."""

    def __init__(self, what: str, edits: tuple[FileEdit, ...]) -> None:
        super().__init__(what, remedy="draft again, and look at what has changed")
        self.edits = edits


class LinuxHost:
    """The :class:`~fixed_anchor.change.target.Target` that ``machine`` is."""

    def __init__(self, machine: Machine) -> None:
        self.machine = machine
        self.name = machine.name
        #: Those who look at its interfaces from beside, by the interfaces' names.
        self.neighbours: dict[str, NeighbourChecks] = {}

    def survey(self) -> HostSurvey:
        return take_stock(self.machine)

    def draft(self, plan: Plan, host: HostPlan, survey: HostSurvey, hold: frozenset[IPAddress] = frozenset()) -> Draft:
        return draft_host(plan, host, self.machine, survey, hold)

    def wanted(self, plan: Plan, host: HostPlan, survey: HostSurvey) -> dict[str, InterfaceConfig]:
        """What the plan wants of each interface that it touches, composed of all of them."""
        return host_configs(plan, host, survey)

    def foresee(self, plan: Plan, host: HostPlan, survey: HostSurvey) -> Foreseen:
        """What its files would declare once the plan is carried out."""
        return foresee(plan, host, self.machine, survey)

    def readiness(self) -> Readiness | None:
        """What is at work there, what carries its root and what boots it; ``None`` where nothing runs."""
        return readiness(self.machine, init_of(self.machine)) if self.machine.running else None

    def elsewhere(self, going: frozenset[IPAddress], others: Iterable[IPAddress]) -> Elsewhere:
        """What its sockets and files have of addresses that go."""
        return search_host(self.machine, going, others)

    def restore_draft(self, number: str, hold: frozenset[IPAddress] = frozenset()) -> Draft:
        return restore_draft(self.machine, number, hold)

    def begin(self, draft: Draft, terms: Terms) -> str:
        """Lays the data of the change down, and starts its guard; see the Protocol.

        Raises :class:`DraftOutdated` where files are no longer what was drafted from.
        """
        init, until = init_of(self.machine), _grace_until(self.machine, draft)
        # The guard would keep it by what was seen over the old connection.
        terms = msgspec.structs.replace(terms, unattended=terms.unattended and not terms.anew)
        number = driver.lay_down(
            self.machine, lambda folder: as_files(files_in(draft.content), terms, folder, init, until)
        )
        try:
            driver.start(self.machine, number)
        except Refused as refused:
            raise _with_diff(self.machine, draft, refused) from None
        except Unreachable:
            # A command there runs on when the connection has gone: whatever was seen of it, it counts as begun.
            _log.info("the connection to %s was lost while change %s began", self.name, number)
        return number

    def numbers(self) -> list[str]:
        return driver.numbers(self.machine)

    def number(self, typed: str) -> str:
        return driver.number_of(self.machine, typed)

    def never_begun(self) -> str:
        """The sentence that no change was ever begun here, where there is no state folder; else empty."""
        return driver.never_begun(self.machine)

    def open_change(self) -> str | None:
        return driver.open_change(self.machine)

    def status(self, number: str) -> ChangeStatus:
        return driver.status(self.machine, number)

    def record(self, number: str) -> Record:
        try:
            notes = driver.notes(self.machine, number)
        except InputError:
            # The log is worth showing without them.
            notes = {}
        return Record(notes, driver.log(self.machine, number))

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
                proven = self.machine.answers_anew()
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
        driver.give_verdict(self.machine, number, word, checks, why)

    def decide(self, number: str, decision: str, who: str, over_old: bool = False) -> None:
        try:
            if decision == states.KEEP:
                driver.confirm(self.machine, number, who, over_old)
            else:
                driver.roll_back(self.machine, number, who)
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
        driver.more_time(self.machine, number, seconds)

    def close(self, number: str, who: str, because: str) -> None:
        driver.close(self.machine, number, who, because)

    def give_back(self, number: str) -> list[str]:
        """Gives the leases that went with a kept change back, where its guard could not; tells how that went.

        It is done once, by whoever comes first.
        """
        try:
            if self.machine.has_tool or self.status(number).state != states.CONFIRMED:
                return []
            leases = msgspec.convert(driver.notes(self.machine, number).get("leases") or [], list[LeavingLease])
        except (InputError, NoAccess, msgspec.ValidationError):
            return []
        folder = f"{driver.folder_of(self.machine, number)}/given-back"
        try:
            if not leases or not self.machine.make_folder(folder):
                return []
            return list(give_back_from_seat(self.machine, leases))
        except NoAccess as error:
            return [f"the lease of {lease.address} stays until it ends: {error.what}" for lease in leases]

    def record_folder(self, number: str) -> str:
        return driver.folder_of(self.machine, number)

    def command_without_tool(self, number: str, verb: str) -> str | None:
        return " ".join(driver.engine_command(self.machine, number, verb)) if self.machine.has_shell else None


def _grace_until(machine: Machine, draft: Draft) -> int | None:
    """The uptime of the machine at which the first lease of an address in its grace ends; ``None`` if none does."""
    if not draft.grace:
        return None
    addresses = {h.address.ip for h in draft.grace}
    left = [a.seconds_left for link in kernel.links(machine) for a in link.addresses if a.address.ip in addresses]
    ends = [seconds for seconds in left if seconds is not None]
    return int(machine.uptime()) + min(ends) if ends else None


def _with_diff(machine: Machine, draft: Draft, refused: Refused) -> Refused:
    """The refusal, with the difference where somebody has edited a file since the draft."""
    changed = []
    for edit in files_in(draft.content).edits:
        live = machine.read(edit.path)
        if (live.text if live else None) != (edit.before.text if edit.before else None):
            changed.append(FileEdit(edit.path, edit.before, live))
    return DraftOutdated(refused.what, tuple(changed)) if changed else refused
