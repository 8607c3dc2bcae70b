"""Asking the person at the terminal for the password of sudo on other hosts."""

from __future__ import annotations

import contextlib
import getpass
import os
from collections.abc import Callable
from typing import Any

from fixed_anchor.core.errors import printable

#: Stops what moves on the terminal while somebody types, and lets it go on.
Quiet = Callable[[], contextlib.AbstractContextManager[object]]


class AskPassword:
    """Asks at the terminal, whatever standard input is; without a terminal nobody is asked."""

    def __init__(self, quiet: Quiet) -> None:
        self._quiet = quiet
        self._terminal: int | None = None
        self._before: list[Any] | None = None

    def __call__(self, host: str, refused: str | None) -> str | None:
        if not self._note_terminal():
            return None
        said = f"sudo on {host} refused that password; another one" if refused else f"password for sudo on {host}"
        with self._quiet():
            try:
                return getpass.getpass(f"{printable(said)} (empty: go on without): ") or None
            except (EOFError, OSError):
                return None

    def _note_terminal(self) -> bool:
        """Whether there is a terminal; keeps how it is set, since whoever asks in a thread may never end."""
        try:
            import termios

            if self._terminal is None:
                self._terminal = os.open("/dev/tty", os.O_RDWR | os.O_NOCTTY | os.O_CLOEXEC)
                self._before = termios.tcgetattr(self._terminal)
        except (ImportError, OSError):
            return False
        return True

    def close(self) -> None:
        """Lets the terminal show again what is typed."""
        if self._terminal is not None and self._before is not None:
            import termios

            with contextlib.suppress(termios.error, OSError):
                termios.tcsetattr(self._terminal, termios.TCSANOW, self._before)
