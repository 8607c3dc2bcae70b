"""A host that is here only as a document which was made on it, and carried: nothing can be asked or changed there."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path

from fixed_anchor.change.access import Rights, Session
from fixed_anchor.core.errors import InputError, NotSupported
from fixed_anchor.core.survey import SurveyedInterface
from fixed_anchor.machines.readable import Ran, not_asked
from fixed_anchor.machines.store import ShellStore
from fixed_anchor.machines.windows.windows_facts import WindowsFacts
from fixed_anchor.vantages.nowhere import Nowhere
from fixed_anchor.vantages.protocol import Vantage


class Carried(ShellStore):
    """What all such documents have in common."""

    running = True
    is_afar = True

    def __init__(self, file: Path) -> None:
        self.file = file
        self.name = file.stem
        self.state_dir = "/var/lib/fixed-anchor"
        self.rights = Rights(("--survey", str(file)), refusal=self._no_change())
        self.session = Session()

    @property
    def windows(self) -> WindowsFacts | None:
        return None

    def vantage(self, interface: SurveyedInterface) -> Vantage:
        return Nowhere(f"{self.name} is here only as a collection, not the host itself")

    def try_out(self, files: Mapping[str, str], argv: tuple[str, ...], timeout: float = 30.0) -> Ran:
        return not_asked(argv)

    def uptime(self) -> float:
        raise NotSupported(f"{self.name} is here only as a collection, not the host itself")

    def make_folder(self, path: str) -> bool:
        raise self._no_change()

    def rename_folder(self, old: str, new: str) -> None:
        raise self._no_change()

    def put(self, path: str, data: bytes, mode: int = 0o600) -> None:
        raise self._no_change()

    def put_all(self, folder: str, files: Mapping[str, tuple[bytes, int]]) -> None:
        raise self._no_change()

    def _no_change(self) -> InputError:
        return InputError(
            f"{self.name} is here only as a collection, not the host itself",
            remedy="`fixed-anchor draft --runbook` makes a script to carry there",
        )
