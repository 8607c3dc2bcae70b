"""What a machine offers: its files, its commands, a folder of the tool's own, and what it knows of itself.

Nothing asks which class a machine has. What differs between them (whether anything runs there,
from where its segment can be looked at, who may change it, how it is named on a command line)
it says itself.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, Protocol

import msgspec

from fixed_anchor.change.files import FileText
from fixed_anchor.core.addresses import IPAddress
from fixed_anchor.core.errors import AnchorError
from fixed_anchor.core.survey import SurveyedInterface
from fixed_anchor.vantages.protocol import Vantage

if TYPE_CHECKING:
    from fixed_anchor.machines.fetched import Fetched


class Ran(msgspec.Struct, frozen=True):
    """A command that has ended: its status, and what it wrote; or one that was never asked for.

    The ``status`` of a command that is not there is 127. Where nobody ever ran the command, and
    nothing follows from that, it is ``None``: not known, which is neither success nor failure.
    """

    status: int | None
    out: str
    err: str

    @property
    def known(self) -> bool:
        """Whether somebody ran it at all."""
        return self.status is not None

    @property
    def good(self) -> bool:
        """Whether it ran, and succeeded."""
        return self.status == 0


def not_asked(argv: tuple[str, ...]) -> Ran:
    """The answer to a command that nobody ran."""
    return Ran(None, "", f"{argv[0]}: nobody asked")


class Wanted(msgspec.Struct, frozen=True):
    """What is to be fetched from a machine at once.

    ``files`` are paths or glob patterns, ``links`` paths that may be symbolic links, ``folders``
    paths whose folders are to be listed, ``commands`` argument lists.
    """

    files: tuple[str, ...] = ()
    links: tuple[str, ...] = ()
    folders: tuple[str, ...] = ()
    commands: tuple[tuple[str, ...], ...] = ()


class Readable(Protocol):
    """What can be read of a host: a machine, or what was fetched from one.

    ``running`` is false where there are only files, and no command was or can be run.
    """

    name: str
    running: bool

    def read(self, path: str) -> FileText | None:
        """The file, or ``None`` where there is none. Raises ``NoAccess``."""
        ...

    def glob(self, pattern: str) -> list[str]:
        """The paths of regular files that match, sorted."""
        ...

    def link_target(self, path: str) -> str | None:
        """Where a symbolic link points, or ``None`` where ``path`` is none."""
        ...

    def knows(self, pattern: str) -> bool:
        """Whether the files that match can be asked for; what was fetched knows only what was wanted."""
        ...

    def folders(self, path: str) -> list[str]:
        """The names of the folders inside ``path``, sorted; empty where it does not exist."""
        ...

    def run(self, argv: tuple[str, ...], timeout: float = 30.0) -> Ran:
        """Runs a command, given as its argument list, or gives the answer that it once gave."""
        ...


class Machine(Readable, Protocol):
    """Where a host's files and commands are reached.

    Paths are absolute on the host. ``state_dir`` is the tool's own folder there. Where nothing
    runs, :meth:`run` raises :class:`~fixed_anchor.core.errors.NotSupported`.
    """

    state_dir: str

    def fetch(self, wanted: Wanted) -> Fetched:
        """All of ``wanted`` in one go: over a network each :meth:`read` and :meth:`run` is a round trip."""
        ...

    def make_folder(self, path: str) -> bool:
        """Makes a folder for root alone inside ``state_dir``; false where it exists already."""
        ...

    def put(self, path: str, data: bytes, mode: int = 0o600) -> None:
        """Writes a file inside ``state_dir``, beside and renamed, synced."""
        ...

    def vantage(self, interface: SurveyedInterface) -> Vantage:
        """From where the segment of one of its interfaces can be looked at; or why it cannot."""
        ...

    @property
    def is_afar(self) -> bool:
        """Whether it is only known from what was carried here, so that a neighbour may look in its stead."""
        ...

    def session(self) -> IPAddress | None:
        """The address of the machine by which the operator's own session comes in, if one does."""
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

    def uptime(self) -> float:
        """Seconds by the clock that its engine counts a change's deadline with."""
        ...
