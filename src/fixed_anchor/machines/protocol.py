"""What a machine offers: its files, its commands, and a folder of the tool's own."""

from __future__ import annotations

from typing import Protocol

import msgspec

from fixed_anchor.change.files import FileText


class Ran(msgspec.Struct, frozen=True):
    """A command that has ended: its status, and what it wrote."""

    status: int
    out: str
    err: str


class Machine(Protocol):
    """Where a host's files and commands are reached.

    Paths are absolute on the host. ``running`` is false where there are only files;
    :meth:`run` then raises :class:`~fixed_anchor.core.errors.NotSupported`.
    ``state_dir`` is the tool's own folder there.
    """

    name: str
    running: bool
    state_dir: str

    def read(self, path: str) -> FileText | None:
        """The file, or ``None`` where there is none. Raises ``NoAccess``."""
        ...

    def glob(self, pattern: str) -> list[str]:
        """The paths of regular files that match, sorted."""
        ...

    def link_target(self, path: str) -> str | None:
        """Where a symbolic link points, or ``None`` where ``path`` is none."""
        ...

    def run(self, argv: tuple[str, ...], timeout: float = 30.0) -> Ran:
        """Runs a command, given as its argument list; a missing command has status 127."""
        ...

    def make_folder(self, path: str) -> bool:
        """Makes a folder for root alone inside ``state_dir``; false where it exists already."""
        ...

    def put(self, path: str, data: bytes, mode: int = 0o600) -> None:
        """Writes a file inside ``state_dir``, beside and renamed, synced."""
        ...

    def folders(self, path: str) -> list[str]:
        """The names of the folders inside ``path``, sorted; empty where it does not exist."""
        ...
