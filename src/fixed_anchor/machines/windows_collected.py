"""A Windows machine as its collector saw it."""

from __future__ import annotations

from importlib import resources
from pathlib import Path

from fixed_anchor.change.files import FileText
from fixed_anchor.core.elsewhere import Spelling
from fixed_anchor.core.errors import OtherSystem
from fixed_anchor.machines.carried import Carried
from fixed_anchor.machines.fetched import Fetched
from fixed_anchor.machines.readable import Ran, Wanted, not_asked
from fixed_anchor.machines.search import Found
from fixed_anchor.machines.windows.windows_facts import WindowsFacts, facts_of_file


def collector_source() -> str:
    """The text of ``collector.ps1``."""
    return resources.files("fixed_anchor.machines.windows").joinpath("collector.ps1").read_text("ascii")


class WindowsCollected(Carried):
    """What ``collector.ps1`` printed. It has no files of Linux, and answers none of its commands."""

    def __init__(self, file: Path) -> None:
        super().__init__(file)
        self._facts = facts_of_file(file)
        self.name = self._facts.host or self.name

    @property
    def windows(self) -> WindowsFacts:
        return self._facts

    def read(self, path: str) -> FileText | None:
        return None

    def glob(self, pattern: str) -> list[str]:
        return []

    def knows(self, pattern: str) -> bool:
        return True

    def link_target(self, path: str) -> str | None:
        return None

    def folders(self, path: str) -> list[str]:
        return []

    def run(self, argv: tuple[str, ...], timeout: float = 30.0) -> Ran:
        return not_asked(argv)

    def fetch(self, wanted: Wanted) -> Fetched:
        raise OtherSystem(f"{self.name} runs Windows: it has no files of Linux")

    def search(self, spelling: Spelling) -> Found:
        return Found((), ())
