"""The folders of the source are layered, subfolders too: no circle between any of them."""

from __future__ import annotations

from collections import defaultdict
from pathlib import Path

import grimp

SOURCE = Path(__file__).parent.parent / "src"


def folder(module: str) -> str:
    """The folder in which a module lies; a package is its own."""
    return module if (SOURCE / module.replace(".", "/")).is_dir() else module.rpartition(".")[0]


def test_no_circle_between_folders() -> None:
    graph = grimp.build_graph("fixed_anchor", cache_dir=None)
    below: dict[str, set[str]] = defaultdict(set)
    for module in graph.modules:
        for imported in graph.find_modules_directly_imported_by(module):
            # The program's name and version are at its root.
            if folder(module) != folder(imported) != "fixed_anchor":
                below[folder(module)].add(folder(imported))
    done: set[str] = set()
    while rest := [room for room in below if room not in done]:
        free = [room for room in rest if below[room] <= done | (below[room] - set(below))]
        assert free, f"a circle among {', '.join(sorted(rest))}"
        done.update(free)
