"""The text of the engine: its parts, joined into the one program that is laid down with a change."""

from __future__ import annotations

from functools import cache
from importlib import resources

#: In the order in which they are joined: a shell reads from the top.
PARTS = ("words", "steps", "refusals", "files", "baseline", "neighbours", "boot_and_lock", "guard", "verbs")


@cache
def engine_source() -> bytes:
    """The text of ``engine.sh``."""
    folder = resources.files(__package__).joinpath("parts")
    return b"".join(folder.joinpath(f"{part}.sh").read_bytes() for part in PARTS)


if __name__ == "__main__":
    print(engine_source().decode(), end="")
