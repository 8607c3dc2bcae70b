"""Where a machine keeps the changes that were made to it, and how its engine is asked."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Protocol, cast

from fixed_anchor.change.files import FileText
from fixed_anchor.machines.readable import Ran


class Store(Protocol):
    """The tool's own folder on a machine, and the engine there. Paths have slashes, and begin with ``state_dir``."""

    #: The file of a change that is its engine.
    engine_file: str
    #: The page of the documentation that says how a change is rolled back there without it.
    by_hand_page: str

    @property
    def name(self) -> str:
        """Whose folder it is, for people."""
        ...

    @property
    def state_dir(self) -> str:
        """The tool's own folder there."""
        ...

    def read(self, path: str) -> FileText | None:
        """A file; ``None`` where there is none."""
        ...

    def glob(self, pattern: str) -> list[str]:
        """The paths of files that match; asked for the one path of a file."""
        ...

    def folders(self, path: str) -> list[str]:
        """The names of the folders in a folder, sorted."""
        ...

    def link_target(self, path: str) -> str | None:
        """What the note ``open`` says of which change is open."""
        ...

    def make_folder(self, path: str) -> bool:
        """Makes a folder for administrators alone; false where it exists already."""
        ...

    def rename_folder(self, old: str, new: str) -> None:
        """Gives a folder another name, durably; nothing has that name yet."""
        ...

    def put(self, path: str, data: bytes, mode: int = 0o600) -> None:
        """Writes a file, beside and renamed, synced."""
        ...

    def put_all(self, folder: str, files: Mapping[str, tuple[bytes, int]]) -> None:
        """Writes files in one go, by their paths below ``folder``, each with its mode."""
        ...

    def engine_argv(self, folder: str, verb: str) -> tuple[str, ...]:
        """The command of a verb for the change in ``folder``, as a person types it there."""
        ...

    def ask_engine(self, folder: str, verb: str, words: tuple[str, ...], timeout: float) -> Ran:
        """Asks the engine of the change in ``folder``; ``timeout`` is in seconds."""
        ...


class ShellStore:
    """The part of a machine by which it is a :class:`Store` itself: its engine is a program for a shell."""

    engine_file = "engine.sh"
    by_hand_page = "docs/by-hand.md"

    @property
    def store(self) -> Store:
        """It itself."""
        return cast(Store, self)

    def engine_argv(self, folder: str, verb: str) -> tuple[str, ...]:
        """The command of a verb, as a person types it there."""
        return ("/bin/sh", f"{folder}/{self.engine_file}", verb, folder)

    def ask_engine(self, folder: str, verb: str, words: tuple[str, ...], timeout: float) -> Ran:
        """Asks the engine, by its command."""
        return self.run((*self.engine_argv(folder, verb), *words), timeout)

    def run(self, argv: tuple[str, ...], timeout: float = 30.0) -> Ran:
        """What the machine runs."""
        raise NotImplementedError
