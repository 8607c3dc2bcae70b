"""An offline file tree: an image, a template, a mounted disk."""

from __future__ import annotations

from pathlib import Path

from fixed_anchor.core.errors import InputError, NotSupported
from fixed_anchor.machines.files import DiskFiles
from fixed_anchor.machines.protocol import Ran


class Tree(DiskFiles):
    """The files below a folder, with nothing running. Raises :class:`InputError` where it is no folder."""

    running = False

    def __init__(self, root: Path, state_dir: str = "/var/lib/fixed-anchor") -> None:
        if not root.is_dir():
            raise InputError("this is no folder", file=str(root), expected="the root of a host's file tree")
        super().__init__(root)
        self.name = root.name or str(root)
        self.state_dir = state_dir

    def run(self, argv: tuple[str, ...], timeout: float = 30.0) -> Ran:
        raise NotSupported(f"{argv[0]} cannot be run: {self.root} is a file tree, not a running machine")
