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
    import platformdirs

    local = Path(LOCAL).absolute()
    try:
        found = local.lstat()
    except OSError:
        found = None
    is_ours = found is not None and stat.S_ISDIR(found.st_mode)
    if found is not None and is_ours and found.st_uid == os.getuid() and not found.st_mode & 0o022:
        return local
    return Path(platformdirs.user_state_path("fixed-anchor", appauthor=False))
