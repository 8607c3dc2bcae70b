"""Running the installed command on a terminal of a given width."""

from __future__ import annotations

import fcntl
import os
import pty
import struct
import subprocess
import termios
from pathlib import Path

from tests.test_commands import ALONE, HANGS, PROGRAM


def on_terminal(cwd: Path, width: int, *words: str, argv: tuple[str, ...] = (), **environment: str) -> str:
    """What a command prints on standard output where that is a terminal with ``width`` columns."""
    ours, theirs = pty.openpty()
    fcntl.ioctl(theirs, termios.TIOCSWINSZ, struct.pack("HHHH", 50, width, 0, 0))
    there = {**os.environ, "TERM": "xterm", "NO_COLOR": "1", **environment}
    there.pop("COLUMNS", None)
    whole = argv or (*ALONE, str(PROGRAM), *words)
    process = subprocess.Popen(whole, cwd=cwd, stdin=theirs, stdout=theirs, stderr=subprocess.DEVNULL, env=there)
    os.close(theirs)
    said = b""
    try:
        while chunk := os.read(ours, 65536):
            said += chunk
    except OSError:
        # Nobody holds the other end any more.
        pass
    process.wait(HANGS)
    os.close(ours)
    return said.decode().replace("\r\n", "\n")
