"""One OpenSSH client process as a stream of bytes both ways, with deadlines."""

from __future__ import annotations

import contextlib
import os
import select
import subprocess
import time

#: So much of what a client and a host say on standard error is kept.
_KEPT = 65536


class ChannelLost(Exception):
    """The client has ended: the connection was never made, or has gone. ``status`` is its exit status."""

    def __init__(self, status: int, message: str) -> None:
        super().__init__(message)
        self.status = status
        self.said = message


class ChannelSilent(Exception):
    """Nothing came until the deadline."""


class Channel:
    """Starts ``argv``. Deadlines are values of :func:`time.monotonic`.

    Reading and writing raise :class:`ChannelLost` and :class:`ChannelSilent`. What comes while something is written
    is kept, so neither side waits for the other for ever.
    """

    def __init__(self, argv: list[str]) -> None:
        # A session of its own: Ctrl-C at the terminal is for the program, which still has something to ask.
        self._process = subprocess.Popen(
            argv,
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            stderr=subprocess.PIPE,
            start_new_session=True,
            env={**os.environ, "LC_ALL": "C"},
        )
        assert self._process.stdin is not None
        assert self._process.stdout is not None
        assert self._process.stderr is not None
        self._in, self._out, self._err = self._process.stdin, self._process.stdout, self._process.stderr
        for file in (self._in, self._out, self._err):
            os.set_blocking(file.fileno(), False)
        self._received = bytearray()
        self._said = bytearray()
        self._err_open = True

    @property
    def said(self) -> str:
        """What the client, and the host behind it, wrote on standard error."""
        return self._said.decode("utf-8", "replace")

    def write(self, data: bytes, until: float) -> None:
        """Sends all of ``data``."""
        left = memoryview(data)
        while left:
            self._pump(until, left=left)
            try:
                left = left[os.write(self._in.fileno(), left) :]
            except BlockingIOError:
                continue
            except BrokenPipeError:
                raise self._lost() from None

    def line(self, until: float) -> bytes:
        """The next line, without its end."""
        searched = 0
        while (end := self._received.find(b"\n", searched)) < 0:
            searched = len(self._received)
            self._pump(until)
        found = bytes(self._received[:end])
        del self._received[: end + 1]
        return found

    def exactly(self, count: int, until: float) -> bytes:
        """The next ``count`` bytes."""
        while len(self._received) < count:
            self._pump(until)
        found = bytes(self._received[:count])
        del self._received[:count]
        return found

    def has_something(self, until: float) -> bool:
        """Whether anything has come by then; waits for it."""
        with contextlib.suppress(ChannelSilent):
            while not self._received:
                self._pump(until)
        return bool(self._received)

    def _pump(self, until: float, left: memoryview | None = None) -> None:
        """Takes in what has come; waits until there is something, or until ``left`` can be written."""
        reading = [self._out, *([self._err] if self._err_open else [])]
        writing = [self._in] if left is not None else []
        ready, writable, _ = select.select(reading, writing, [], max(until - time.monotonic(), 0))
        if not ready and not writable:
            raise ChannelSilent
        if self._err in ready:
            came = os.read(self._err.fileno(), 65536)
            self._err_open = bool(came)
            self._said = (self._said + came)[-_KEPT:]
        if self._out in ready:
            came = os.read(self._out.fileno(), 1 << 20)
            if not came:
                raise self._lost()
            self._received += came

    def _lost(self) -> ChannelLost:
        with contextlib.suppress(subprocess.TimeoutExpired):
            self._process.wait(5)
        with contextlib.suppress(BlockingIOError, OSError):
            self._said = (self._said + os.read(self._err.fileno(), 65536))[-_KEPT:]
        status = self._process.poll()
        self.close()
        return ChannelLost(status if status is not None else 255, self.said)

    def rest(self) -> bytes:
        """What has come and nobody has read."""
        return bytes(self._received)

    def close(self) -> None:
        """Ends the client, and with it the session on the host."""
        for file in (self._in, self._out, self._err):
            with contextlib.suppress(OSError):
                file.close()
        if self._process.poll() is None:
            self._process.terminate()
            try:
                self._process.wait(2)
            except subprocess.TimeoutExpired:
                self._process.kill()
                self._process.wait()
