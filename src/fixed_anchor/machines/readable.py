"""What can be read of a host, and what reading it gives: of a machine, or of what was fetched from one."""

from __future__ import annotations

from typing import Protocol

import msgspec

from fixed_anchor.change.files import FileText


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

    ``files`` are paths or glob patterns, ``links`` paths that may be symbolic links, ``commands``
    argument lists.
    """

    files: tuple[str, ...] = ()
    links: tuple[str, ...] = ()
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
