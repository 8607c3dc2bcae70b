"""Where a seat keeps what is its own: its runs, and the plans that it made on the way."""

from __future__ import annotations

import os
import stat
from pathlib import Path

#: A folder of this name where a command is typed takes the place of the user's, as in the demo.
LOCAL = ".fixed-anchor"


def seat_folder() -> Path:
    """The state folder of the user, which platformdirs knows on each system, or that of the folder we are in.

    A local one counts only where it is the user's own and nobody else can write to it.
    """
    local = Path(LOCAL).absolute()
    if _is_ours_alone(local):
        return local
    import platformdirs

    return Path(platformdirs.user_state_path("fixed-anchor", appauthor=False))


def _is_ours_alone(folder: Path) -> bool:
    try:
        found = folder.lstat()
    except OSError:
        return False
    return stat.S_ISDIR(found.st_mode) and found.st_uid == os.getuid() and not found.st_mode & 0o022
