"""Small file systems of a test's own, which it fills."""

from __future__ import annotations

import subprocess
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import pytest


@contextmanager
def mounted(folder: Path, *options: str) -> Iterator[None]:
    """An empty file system in memory at ``folder``; the test is skipped where root may not mount."""
    words = [word for option in options for word in ("-o", option)]
    done = subprocess.run(["mount", "-t", "tmpfs", *words, "lab", str(folder)], capture_output=True, check=False)
    if done.returncode != 0:
        pytest.skip("this machine does not let root mount")
    try:
        yield
    finally:
        subprocess.run(["umount", "-l", str(folder)], check=True)


def fill(folder: Path) -> None:
    """Writes the file ``fill`` there until nothing goes in any more."""
    with open(folder / "fill", "wb", buffering=0) as file:
        try:
            while file.write(bytes(4096)):
                pass
        except OSError:
            return
