"""An offline file tree: an image, a template, a mounted disk."""

from __future__ import annotations

from pathlib import Path

from fixed_anchor.change.access import Rights
from fixed_anchor.core.errors import InputError, NotSupported
from fixed_anchor.core.survey import SurveyedInterface
from fixed_anchor.machines.fetched import Fetched, one_by_one
from fixed_anchor.machines.files import DiskFiles
from fixed_anchor.machines.readable import Ran, Wanted
from fixed_anchor.machines.seat import Way
from fixed_anchor.vantages.nowhere import Nowhere
from fixed_anchor.vantages.protocol import Vantage


class Tree(DiskFiles):
    """The files below a folder, with nothing running. Raises :class:`InputError` where it is no folder."""

    running = False

    def __init__(self, root: Path, state_dir: str = "/var/lib/fixed-anchor") -> None:
        if not root.is_dir():
            raise InputError("this is not a folder", file=str(root), expected="the root of a host's file tree")
        super().__init__(root)
        self.name = root.name or str(root)
        self.state_dir = state_dir

    def run(self, argv: tuple[str, ...], timeout: float = 30.0) -> Ran:
        raise NotSupported(f"{argv[0]} cannot be run: {self.root} is a file tree, not a running machine")

    def fetch(self, wanted: Wanted) -> Fetched:
        return one_by_one(self, wanted)

    def vantage(self, interface: SurveyedInterface) -> Vantage:
        return Nowhere(f"{self.name} is a file tree, with no wire to look at")

    @property
    def is_afar(self) -> bool:
        return False

    @property
    def rights(self) -> Rights:
        refusal = InputError(
            f"{self.name} is a file tree, and nothing runs there to be changed",
            remedy="`fixed-anchor draft` shows and writes its files",
        )
        return Rights(("--root", str(self.root)), refusal=refusal)

    def uptime(self) -> float:
        raise NotSupported(f"{self.name} is a file tree, which has no clock")


def reach(way: Way) -> Tree:
    """The file tree at the path that is named, seen from the folder of the plan."""
    return Tree(way.folder / way.rest)
