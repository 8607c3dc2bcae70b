"""What a machine offers: its files and commands, who may change it, the session with it, and its store of changes.

Nothing asks which class a machine has. What differs between them (whether anything runs there,
from where its segment can be looked at, who may change it, how it is named on a command line)
it says itself.
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import Protocol

from fixed_anchor.change.access import Rights, Session
from fixed_anchor.core.elsewhere import Spelling
from fixed_anchor.core.survey import SurveyedInterface
from fixed_anchor.machines.fetched import Fetched
from fixed_anchor.machines.readable import Ran, Readable, Wanted
from fixed_anchor.machines.search import Found
from fixed_anchor.machines.store import Store
from fixed_anchor.machines.windows.windows_facts import WindowsFacts
from fixed_anchor.vantages.protocol import Vantage


class Transport(Readable, Protocol):
    """Where a host's files and commands are reached.

    Paths are absolute on the host. Where nothing runs, :meth:`run` raises
    :class:`~fixed_anchor.core.errors.NotSupported`.
    """

    def fetch(self, wanted: Wanted) -> Fetched:
        """All of ``wanted`` in one go: over a network each :meth:`read` and :meth:`run` is a round trip.

        Raises ``OtherSystem`` where it has no files of Linux.
        """
        ...

    def try_out(self, files: Mapping[str, str], argv: tuple[str, ...], timeout: float = 30.0) -> Ran:
        """Runs ``argv`` over a copy: a new folder for its owner alone, with ``files`` below it, that goes afterwards.

        :data:`~fixed_anchor.daemons.protocol.COPY` at the beginning of a word is that folder. Its status is ``None``
        where nothing can be run.
        """
        ...

    def search(self, spelling: Spelling) -> Found:
        """The lines of its configuration that name the addresses of ``spelling``; see :mod:`machines.search`."""
        ...

    def vantage(self, interface: SurveyedInterface) -> Vantage:
        """From where the segment of one of its interfaces can be looked at; or why it cannot."""
        ...

    def uptime(self) -> float:
        """Seconds by the clock that its engine counts a change's deadline with."""
        ...


class Machine(Transport, Protocol):
    """One host, as far as it is reached from here."""

    @property
    def is_afar(self) -> bool:
        """Whether it is only known from what was carried here, so that a neighbour may look in its stead."""
        ...

    @property
    def windows(self) -> WindowsFacts | None:
        """What its collector told, where it is a Windows machine, and has said so."""
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
    def store(self) -> Store:
        """Where its changes are kept, and by which its engine is asked."""
        ...
