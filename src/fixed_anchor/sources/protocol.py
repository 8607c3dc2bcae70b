"""What every source offers: bytes in, claims out; and how it reaches the further files that it names."""

from __future__ import annotations

import os
import stat
from collections.abc import Callable, Mapping
from pathlib import Path
from typing import NamedTuple, Protocol

import msgspec

from fixed_anchor.core.claims import Claims
from fixed_anchor.core.errors import InputError

#: No source of a site is larger than this, in bytes, with all that it includes; nor made of more files.
MAX_SIZE, MAX_FILES = 64 * 1024 * 1024, 1000


class Reader:
    """Reads one source, and the files that it names: regular files alone, all of them within limits.

    Relative paths count from ``folder``, that of the plan.
    """

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self._size = 0
        self._files = 0

    def path(self, name: str, beside: str | None = None) -> str:
        """``name`` as a path: absolute, or relative to the folder of the file ``beside``, else to :attr:`folder`."""
        if os.path.isabs(name):
            return name
        base = os.path.dirname(beside) if beside is not None else str(self.folder)
        return os.path.normpath(os.path.join(base, name))

    def is_outside(self, path: str) -> bool:
        """Whether a file lies outside the plan's folder: no message may quote its text."""
        return not Path(os.path.realpath(path)).is_relative_to(os.path.realpath(self.folder))

    def read(self, path: str) -> bytes:
        """The bytes of ``path``. Raises :class:`InputError` with the path."""
        self._files += 1
        if self._files > MAX_FILES:
            raise InputError(f"more than {MAX_FILES} files are too many for a source", file=path)
        try:
            # A FIFO would be waited for, a device may have no end, and merely to open one may set it going.
            _demand_regular(os.stat(path), path)
            # It may have become another meanwhile.
            descriptor = os.open(path, os.O_RDONLY | os.O_NONBLOCK | os.O_CLOEXEC | os.O_NOCTTY)
            with open(descriptor, "rb") as file:
                _demand_regular(os.fstat(descriptor), path)
                data = file.read(MAX_SIZE - self._size + 1)
        except (OSError, ValueError) as error:
            why = error.strerror if isinstance(error, OSError) else "its name has a zero byte"
            raise InputError(f"cannot be read: {why}", file=path) from None
        self._size += len(data)
        if self._size > MAX_SIZE:
            raise InputError(f"more than {MAX_SIZE // 1024 // 1024} MiB are too many for a source", file=path)
        return data

    def exists(self, path: str) -> bool:
        """Whether ``path`` is a file."""
        return os.path.isfile(path)

    def is_folder(self, path: str) -> bool:
        """Whether ``path`` is a folder."""
        return os.path.isdir(path)

    def names(self, folder: str) -> list[str]:
        """The names of the files in ``folder``, sorted. Raises :class:`InputError`."""
        try:
            return sorted(e.name for e in os.scandir(folder) if e.is_file())
        except OSError as error:
            raise InputError(f"cannot be read: {error.strerror}", file=folder) from None


def _demand_regular(info: os.stat_result, path: str) -> None:
    if not stat.S_ISREG(info.st_mode):
        raise InputError("this is no regular file, and is not read", file=path)


class Origin(msgspec.Struct, frozen=True):
    """Where a source is: its kind, its path as the plan names it, and the path that is opened."""

    kind: str
    shown: str
    path: str
    options: Mapping[str, str] = {}


class Reservation(msgspec.Struct, frozen=True):
    """A reservation to be added to a DHCP server's configuration; ``subnet`` is the server's that its address is in."""

    mac: str
    address: str
    name: str
    subnet: str = ""


class Source(Protocol):
    """One kind of outside knowledge. ``options`` are the further keys that the plan may give it."""

    options: tuple[str, ...]

    def claims(self, data: bytes, origin: Origin, reader: Reader) -> Claims:
        """What ``data``, the bytes of the source, claims. Includes are read through ``reader``.

        Raises :class:`InputError` with file, line and what was expected where nothing can be
        made of it; where only a part is broken, that stands in the claims' ``broken``.
        """
        ...


class Reserve(NamedTuple):
    """How a reservation is written for one kind of server.

    ``line`` gives it alone, for people; ``insert`` gives a configuration's text (with its path,
    for errors) with the reservation in its place, so that the address is leased to nobody else,
    and raises :class:`InputError` where there is none. A server without ``insert`` is told by
    commands: there ``line`` is one.
    """

    line: Callable[[Reservation], str]
    insert: Callable[[str, str, Reservation], str] | None = None


def text_of(data: bytes, path: str) -> str:
    """``data`` as text: UTF-8, else Latin-1, in which old configurations have their remarks.

    Raises :class:`InputError` with the line for what is no text.
    """
    if b"\0" in data:
        line = data.count(b"\n", 0, data.index(b"\0")) + 1
        raise InputError("a zero byte: this is no text", file=path, line=line)
    try:
        return data.decode("utf-8")
    except UnicodeDecodeError:
        return data.decode("latin-1")
