"""A Linux host as a target of changes: its files, its daemons, and the shell engine that carries changes out."""

from __future__ import annotations

import logging
from collections.abc import Callable, Iterable, Iterator
from contextlib import contextmanager

import msgspec

from fixed_anchor.change import states
from fixed_anchor.change.change import Draft, LeavingLease, Terms
from fixed_anchor.change.content import files_in
from fixed_anchor.change.files import FileEdit
from fixed_anchor.core.addresses import IPAddress
from fixed_anchor.core.config import InterfaceConfig
from fixed_anchor.core.elsewhere import Elsewhere
from fixed_anchor.core.errors import AnchorError, InputError, NoAccess, NotSupported, Refused, Unreachable
from fixed_anchor.core.foreseen import Foreseen, refusal_of
from fixed_anchor.core.plan import HostPlan, Plan
from fixed_anchor.core.readiness import Readiness
from fixed_anchor.core.survey import HostSurvey
from fixed_anchor.engine import driver
from fixed_anchor.engine.boot import init_of
from fixed_anchor.engine.data import as_files
from fixed_anchor.machines.protocol import Machine
from fixed_anchor.observe import kernel
from fixed_anchor.observe.readiness import readiness
from fixed_anchor.workflow.hosts.engine_host import EngineHost
from fixed_anchor.workflow.hosts.host_wide import host_configs
from fixed_anchor.workflow.linux.draft_files import draft_host
from fixed_anchor.workflow.linux.elsewhere import search_host
from fixed_anchor.workflow.linux.foresee import foresee
from fixed_anchor.workflow.linux.give_back import give_back_from_seat
from fixed_anchor.workflow.linux.restore import restore_draft
from fixed_anchor.workflow.linux.undeclared import switched_on, with_takers

_log = logging.getLogger(__name__)


class DraftOutdated(Refused):
    """Files of the host are no longer what the draft was made from; ``edits`` show how they differ."""

    def __init__(self, what: str, edits: tuple[FileEdit, ...]) -> None:
        super().__init__(what, remedy="draft again, and look at what has changed")
        self.edits = edits


class LinuxHost(EngineHost):
    """The :class:`~fixed_anchor.change.target.Target` that ``machine`` is."""

    def draft(self, plan: Plan, host: HostPlan, survey: HostSurvey, hold: frozenset[IPAddress] = frozenset()) -> Draft:
        return draft_host(plan, host, self.machine, with_takers(survey, host, plan.file), hold)

    def wanted(self, plan: Plan, host: HostPlan, survey: HostSurvey) -> dict[str, InterfaceConfig]:
        """What the plan wants of each interface that it touches, composed of all of them."""
        return host_configs(plan, host, with_takers(survey, host, plan.file))

    def foresee(self, plan: Plan, host: HostPlan, survey: HostSurvey, draft: Draft | AnchorError) -> Foreseen:
        """What its files would declare once ``draft`` is carried out."""
        try:
            return foresee(plan, host, self.machine, with_takers(survey, host, plan.file), draft)
        except NotSupported as error:
            # The stack that the plan names is none that can have the interface.
            return msgspec.structs.replace(
                foresee(plan, msgspec.structs.replace(host, interfaces=()), self.machine, survey, draft),
                refusal=refusal_of(error, plan, host.line),
            )

    def readiness(self) -> Readiness | None:
        """What is at work there, what carries its root and what boots it; ``None`` where nothing runs."""
        return readiness(self.machine, init_of(self.machine)) if self.machine.running else None

    def elsewhere(self, going: frozenset[IPAddress], others: Iterable[IPAddress]) -> Elsewhere:
        """What its sockets and files have of addresses that go."""
        return search_host(self.machine, going, others)

    @contextmanager
    def switched_on(self, draft: Draft, survey: HostSurvey) -> Iterator[Callable[[bool], None]]:
        with switched_on(self.machine, draft.interfaces, survey) as keep:
            yield keep

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
            self.machine.store, lambda folder: as_files(files_in(draft.content), terms, folder, init, until)
        )
        try:
            driver.start(self.machine.store, number)
        except Refused as refused:
            raise _with_diff(self.machine, draft, refused) from None
        except Unreachable:
            # A command there runs on when the connection has gone: whatever was seen of it, it counts as begun.
            _log.info("the connection to %s was lost while change %s began", self.name, number)
        return number

    def give_back(self, number: str) -> list[str]:
        """Gives the leases that went with a kept change back, where its guard could not; tells how that went.

        It is done once, by whoever comes first.
        """
        try:
            if self.rights.has_tool or self.status(number).state != states.CONFIRMED:
                return []
            leases = msgspec.convert(driver.notes(self.machine.store, number).get("leases") or [], list[LeavingLease])
        except (InputError, NoAccess, msgspec.ValidationError):
            return []
        folder = f"{driver.folder_of(self.machine.store, number)}/given-back"
        try:
            if not leases or not self.machine.store.make_folder(folder):
                return []
            return list(give_back_from_seat(self.machine, leases))
        except NoAccess as error:
            return [f"the lease of {lease.address} stays until it ends: {error.what}" for lease in leases]


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
