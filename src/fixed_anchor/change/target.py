"""What a change is made to: the one Protocol that commands, driver and history know.

A Linux host with files is the first target; a Windows machine and what a provider assigns
from outside follow. Each has an engine of its own that carries changes out and guards them.
"""

from __future__ import annotations

from collections.abc import Callable
from contextlib import AbstractContextManager
from typing import Protocol

from fixed_anchor.change.access import Rights, Session
from fixed_anchor.change.change import ChangeStatus, Draft, Record, Terms
from fixed_anchor.core.addresses import IPAddress
from fixed_anchor.core.baseline import Baseline
from fixed_anchor.core.config import InterfaceConfig
from fixed_anchor.core.plan import HostPlan, Plan
from fixed_anchor.core.survey import HostSurvey
from fixed_anchor.core.verification import VerifyCheck, VerifyResult

#: Told while a verification is waited for: what has not passed yet, and for how many seconds it is waited still.
Waiting = Callable[[tuple[VerifyCheck, ...], float], None]


class Target(Protocol):
    """One target. Changes are named by their numbers, as :meth:`numbers` gives them."""

    name: str

    def survey(self) -> HostSurvey:
        """What is in force there now."""
        ...

    def draft(self, plan: Plan, host: HostPlan, survey: HostSurvey, hold: frozenset[IPAddress] = frozenset()) -> Draft:
        """The change that brings ``host`` of ``plan`` about. Touches nothing.

        ``hold`` are addresses of today that shall stay until the decision, where they would go.
        Raises :class:`~fixed_anchor.core.errors.NotSupported` by name for what cannot be carried out.
        """
        ...

    def restore_draft(self, number: str, hold: frozenset[IPAddress] = frozenset()) -> Draft:
        """The change that goes back behind confirmed change ``number``, and the later ones with it.

        Raises :class:`~fixed_anchor.core.errors.ChangeOpen` if that change was never kept, and
        :class:`~fixed_anchor.core.errors.Refused` where something was edited since.
        """
        ...

    def begin(self, draft: Draft, terms: Terms) -> str:
        """Begins a change and returns its number: from here on the guard carries it out.

        Raises before anything was changed: ``Refused``, ``NoAccess``, ``ChangeOpen``.
        """
        ...

    def numbers(self) -> list[str]:
        """All changes, oldest first."""
        ...

    def number(self, typed: str) -> str:
        """The change that was typed as ``7`` or ``0007``. Raises ``InputError`` where there is none."""
        ...

    def open_change(self) -> str | None:
        """The change that is open, or ``None``."""
        ...

    def status(self, number: str) -> ChangeStatus:
        """What the engine says of a change."""
        ...

    def record(self, number: str) -> Record:
        """What is kept of a change."""
        ...

    def switched_on(self, draft: Draft, survey: HostSurvey) -> AbstractContextManager[Callable[[bool], None]]:
        """Has those interfaces of ``draft`` switched on that are off, and that nobody could look at otherwise.

        They are off again when this is left, unless what it yields was last called with true.
        """
        ...

    def baseline(self, draft: Draft, survey: HostSurvey) -> Baseline:
        """What is in force and answers now, before ``draft`` is begun, from where it will be judged."""
        ...

    def recorded_baseline(self, number: str) -> Baseline | None:
        """The one that was taken before change ``number``, where one was."""
        ...

    def verify(
        self,
        host: str,
        wanted: tuple[InterfaceConfig, ...],
        hostname: str | None,
        terms: Terms,
        left: float | None = None,
        told: Waiting | None = None,
    ) -> VerifyResult:
        """Whether ``wanted`` is in force, judged against what was before, once it has settled, or as it is then.

        It is waited as long as the patience of ``terms``, and never longer than ``left`` seconds; ``told`` hears for
        what.
        """
        ...

    def answers_anew(self, host: str, interface: str, seconds: float) -> VerifyCheck:
        """Whether it answers over a new connection to its new address; it is reached over that one from then on.

        It is tried again for so many ``seconds``.
        """
        ...

    def from_elsewhere(self, wanted: tuple[InterfaceConfig, ...]) -> tuple[VerifyCheck, ...]:
        """What neighbours see of ``wanted``; nothing where none is known."""
        ...

    def give_verdict(self, number: str, word: str, checks: tuple[str, ...], why: str) -> None:
        """Tells the guard how the verification ended; ``checks`` are its lines for the log, ``why`` what was wrong.

        Raises ``ChangeOpen`` where the change has been decided meanwhile.
        """
        ...

    def decide(self, number: str, decision: str, who: str, over_old: bool = False) -> None:
        """Keeps an open change or rolls it back, and waits until that is so.

        ``decision`` is one of the two in :mod:`~fixed_anchor.change.states`. Raises ``ChangeOpen``
        where it is decided otherwise, ``Stuck`` where it could not be rolled back, and ``Refused``
        for a session on an address that goes, unless ``over_old`` says that it counts.
        """
        ...

    def more_time(self, number: str, seconds: int) -> None:
        """Puts the deadline of an open change off. Raises ``ChangeOpen`` where it is decided."""
        ...

    def close(self, number: str, who: str, because: str) -> None:
        """Accepts what is there now, of a change that is stuck. Raises ``ChangeOpen`` where it is not."""
        ...

    @property
    def rights(self) -> Rights:
        """What whoever runs this may do there."""
        ...

    @property
    def session(self) -> Session:
        """The connection with it."""
        ...

    @property
    def by_hand_page(self) -> str:
        """The page of the documentation that says how it is rolled back by hand."""
        ...

    def last_cutover(self) -> str:
        """The change that a restore without a number goes back behind: the last one, if that was a cutover.

        Raises ``InputError`` where there is none, ``Refused`` where the last one was a restore already.
        """
        ...

    def later_ones(self, number: str) -> tuple[str, ...]:
        """The confirmed changes after ``number``, oldest first: going back behind it undoes them too."""
        ...

    def addresses_left(self, number: str) -> tuple[IPAddress, ...]:
        """The leased addresses that were left with change ``number``, as far as it is kept."""
        ...

    def record_folder(self, number: str) -> str:
        """Where the target keeps a change, for an operator to look."""
        ...

    def command_without_tool(self, number: str, verb: str) -> str | None:
        """What can be typed there for ``verb`` where this tool is in trouble; ``None`` where nothing can."""
        ...
