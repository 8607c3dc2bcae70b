"""A relay on a reached host: the program there, and its messages seen from the seat."""

from __future__ import annotations

import json
import struct
import time
from importlib import resources
from typing import Any, Protocol

from fixed_anchor.core.errors import NoAccess

#: Seconds that an answer may take on its way, beside the time that was asked for.
_ON_THE_WAY = 30.0


def program() -> str:
    """The text of the program that runs on the host."""
    return resources.files(__package__).joinpath("relay_program.py").read_text("utf-8")


class Stream(Protocol):
    """The connection to the relay. Deadlines are values of :func:`time.monotonic`; both raise ``NoAccess``."""

    def write(self, data: bytes, until: float) -> None: ...

    def exactly(self, count: int, until: float) -> bytes: ...

    def has_something(self, until: float) -> bool: ...


class Failed(Exception):
    """The relay could not do what it was asked; ``number`` is an errno, 0 where the time was over."""

    def __init__(self, number: int, answer: str) -> None:
        super().__init__(answer)
        self.number = number
        self.said = answer


class Relay:
    """A relay that runs. Its messages are those of ``relay_program.py``."""

    def __init__(self, stream: Stream) -> None:
        self._stream = stream
        self.frames: list[bytes] = []
        self._unanswered = 0
        letter, _ = self._message(time.monotonic() + _ON_THE_WAY)
        if letter != b"H":
            raise NoAccess("the relay did not say that it is there")

    def _message(self, until: float) -> tuple[bytes, bytes]:
        (length,) = struct.unpack(">I", self._stream.exactly(4, until))
        data = self._stream.exactly(length, until)
        return data[:1], data[1:]

    def send(self, letter: bytes, contents: bytes = b"") -> None:
        """One message."""
        data = struct.pack(">I", len(contents) + 1) + letter + contents
        self._stream.write(data, time.monotonic() + _ON_THE_WAY)

    def begin(self, letter: bytes, **words: Any) -> None:
        """Sends a message whose answer is not waited for: whoever asks next, or receives, hears where it failed."""
        self.send(letter, json.dumps(words).encode())
        self._unanswered += 1

    def _answered(self, data: bytes) -> dict[str, Any]:
        answer: dict[str, Any] = json.loads(data)
        if "errno" in answer:
            raise Failed(int(answer["errno"]), str(answer["error"]))
        return answer

    def _is_earlier(self, kind: bytes) -> bool:
        """Whether this answers what was begun, or says that a frame could not be sent."""
        if kind == b"A" and self._unanswered:
            self._unanswered -= 1
            return True
        return kind == b"W"

    def ask(self, letter: bytes, contents: bytes = b"", seconds: float = 0.0) -> bytes:
        """Sends a message and returns the contents of its answer. Raises :class:`Failed`. Frames are kept."""
        self.send(letter, contents)
        until = time.monotonic() + _ON_THE_WAY + seconds
        earlier = b"{}"
        while True:
            kind, data = self._message(until)
            if kind == b"R":
                self.frames.append(data)
                continue
            if self._is_earlier(kind):
                earlier = data
                continue
            # Nothing more of what was asked is under way: now it can be told what failed.
            self._answered(earlier)
            if kind == b"A":
                self._answered(data)
            return data

    def call(self, letter: bytes, seconds: float = 0.0, **words: Any) -> dict[str, Any]:
        """The same with contents in JSON both ways."""
        answer: dict[str, Any] = json.loads(self.ask(letter, json.dumps(words).encode(), seconds))
        return answer

    def received(self, wait: float) -> list[bytes]:
        """The frames that have come, each behind two bytes of what the kernel said of it; waits for the first."""
        until = time.monotonic() + max(wait, 0)
        while self._stream.has_something(time.monotonic() if self.frames else until):
            kind, data = self._message(time.monotonic() + _ON_THE_WAY)
            if kind == b"R":
                self.frames.append(data)
                continue
            self._is_earlier(kind)
            self._answered(data)
        came, self.frames = self.frames, []
        return came
