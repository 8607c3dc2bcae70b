"""The files of a host that may be read: what may not be read says nothing, and is kept to be told."""

from __future__ import annotations

from collections.abc import Iterator

from fixed_anchor.change.files import FileText
from fixed_anchor.core.errors import NoAccess
from fixed_anchor.machines.readable import Readable


class Permitted:
    """Reads like ``machine`` itself; ``denied`` are the paths and patterns for which there is no permission."""

    def __init__(self, machine: Readable) -> None:
        self._machine = machine
        self.denied: dict[str, None] = {}

    def read(self, path: str) -> FileText | None:
        """The file, or ``None`` where there is none, or none that may be read."""
        try:
            return self._machine.read(path)
        except NoAccess:
            self.denied[path] = None
            return None

    def glob(self, pattern: str) -> list[str]:
        """The paths of the files that match, sorted; none where the folder may not be looked into."""
        try:
            return self._machine.glob(pattern)
        except NoAccess:
            self.denied[pattern] = None
            return []

    def lines(self, pattern: str) -> Iterator[tuple[str, int, str]]:
        """The lines of all files that match, without the blanks around them, each with its path and number."""
        for path in self.glob(pattern):
            file = self.read(path)
            for number, line in enumerate(file.text.splitlines() if file is not None else (), 1):
                yield path, number, line.strip()
