"""Standard output and error as they may be: closed, full, or read by nobody any more.

What was done was done: whether somebody could read of it changes neither what goes on nor the exit status.
"""

from __future__ import annotations

import errno
import io
import os
import select
import sys


class _Tolerant(io.RawIOBase):
    """Writes to a file descriptor until that fails, and from then on to nowhere. ``error`` is that failure."""

    def __init__(self, descriptor: int) -> None:
        self._descriptor = descriptor
        self.error: OSError | None = None

    def fileno(self) -> int:
        return self._descriptor

    def isatty(self) -> bool:
        return os.isatty(self._descriptor)

    def writable(self) -> bool:
        return True

    def write(self, data: object, /) -> int:
        view = memoryview(data)  # type: ignore[arg-type]
        while self.error is None:
            try:
                return os.write(self._descriptor, view)
            except BlockingIOError:
                # Whoever gave us this output reads slowly.
                select.select([], [self._descriptor], [])
            except OSError as error:
                self.error = error
        return view.nbytes


def open_all() -> None:
    """Puts tolerant streams in the place of standard output and error.

    A descriptor that is closed leads to nowhere from then on: else the next file that is opened would get its
    number, and what is meant for people would be written into it.
    """
    for number in range(3):
        try:
            os.fstat(number)
        except OSError:
            os.open(os.devnull, os.O_RDWR)
    for number, name in ((1, "stdout"), (2, "stderr")):
        former = getattr(sys, name)
        encoding, errors = (former.encoding, former.errors) if former is not None else ("utf-8", "replace")
        if former is not None:
            former.flush()
        raw = _Tolerant(number)
        stream = io.TextIOWrapper(
            io.BufferedWriter(raw), encoding, errors, line_buffering=number == 2 or raw.isatty(), write_through=False
        )
        setattr(sys, name, stream)


def flush_all() -> str:
    """Writes what is still to be written. Returns why some of the output got nowhere; empty where nobody reads on."""
    for stream in (sys.stdout, sys.stderr):
        stream.flush()
    raw = getattr(getattr(sys.stdout, "buffer", None), "raw", None)
    error = raw.error if isinstance(raw, _Tolerant) else None
    return "" if error is None or error.errno == errno.EPIPE else str(error.strerror)
