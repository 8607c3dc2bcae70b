"""What a machine offers: its files, its commands, a folder of the tool's own, and what it knows of itself.

Nothing asks which class a machine has. What differs between them (whether anything runs there,
from where its segment can be looked at, who may change it, how it is named on a command line)
it says itself.
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import Protocol

from fixed_anchor.core.addresses import IPAddress
from fixed_anchor.core.elsewhere import Spelling
from fixed_anchor.core.errors import AnchorError
from fixed_anchor.core.survey import SurveyedInterface
from fixed_anchor.machines.fetched import Fetched
from fixed_anchor.machines.readable import Ran, Readable, Wanted
from fixed_anchor.machines.search import Found
from fixed_anchor.machines.store import Store
from fixed_anchor.machines.windows.windows_facts import WindowsFacts
from fixed_anchor.vantages.protocol import Vantage


class Machine(Readable, Protocol):
    """Where a host's files and commands are reached.

    Paths are absolute on the host. ``state_dir`` is the tool's own folder there. Where nothing
    runs, :meth:`run` raises :class:`~fixed_anchor.core.errors.NotSupported`.
    """

    state_dir: str

    @property
    def windows(self) -> WindowsFacts | None:
        """What its collector told, where it is a Windows machine, and has said so."""
        ...

    def recognise(self) -> None:
        """Finds out what runs there, where only a connection tells and none was made yet. Raises ``NoAccess``."""
        ...

    @property
    def store(self) -> Store:
        """Where its changes are kept, and by which its engine is asked."""
        ...

    def fetch(self, wanted: Wanted) -> Fetched:
        """All of ``wanted`` in one go: over a network each :meth:`read` and :meth:`run` is a round trip."""
        ...

    def make_folder(self, path: str) -> bool:
        """Makes a folder for root alone inside ``state_dir``; false where it exists already."""
        ...

    def rename_folder(self, old: str, new: str) -> None:
        """Gives a folder inside ``state_dir`` another name, durably; nothing has that name yet."""
        ...

    def put(self, path: str, data: bytes, mode: int = 0o600) -> None:
        """Writes a file inside ``state_dir``, beside and renamed, synced."""
        ...

    def put_all(self, folder: str, files: Mapping[str, tuple[bytes, int]]) -> None:
        """Writes files inside ``state_dir`` in one go, by their paths below ``folder``, each with its mode."""
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

    @property
    def is_afar(self) -> bool:
        """Whether it is only known from what was carried here, so that a neighbour may look in its stead."""
        ...

    def let_go(self) -> None:
        """Nothing more is asked for the time being: a connection may end, and is made again when it is wanted."""
        ...

    def at_its_addresses(self) -> None:
        """From now on it is reached at the addresses that its plan gives it, where that can be chosen."""
        ...

    def answers_anew(self) -> str | None:
        """Makes a new connection to an address that its plan gives it, and goes on over that one; what proved it.

        ``None`` where there is no connection, or no such address. Raises ``NoAccess`` where another machine answers
        there, and ``Unreachable`` where nothing does; then it is reached as before.
        """
        ...

    def session_address(self) -> IPAddress | None:
        """The address of the machine by which the operator's own session comes in, if one does."""
        ...

    def ssh_port(self) -> int | None:
        """The port of its sshd, by which the operator's own session comes in; ``None`` where none does."""
        ...

    def why_not_alone(self) -> AnchorError | None:
        """Why no further connection to it can be made without a person; ``None`` where one can, as far as it shows."""
        ...

    def why_no_change(self) -> AnchorError | None:
        """Why no change can be made there by whoever runs this; ``None`` where it can."""
        ...

    @property
    def words(self) -> tuple[str, ...]:
        """The options that address it on the command line, for commands without a plan."""
        ...

    @property
    def has_shell(self) -> bool:
        """Whether somebody can log in there and type a command of the engine."""
        ...

    @property
    def has_tool(self) -> bool:
        """Whether this program can be run there, by a guard that wants packets sent."""
        ...

    def uptime(self) -> float:
        """Seconds by the clock that its engine counts a change's deadline with."""
        ...
