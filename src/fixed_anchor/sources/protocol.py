"""What every source offers: bytes in, claims out; and how it reaches the further files that it names."""

from __future__ import annotations

import os
from collections.abc import Callable, Mapping
from pathlib import Path
from typing import NamedTuple, Protocol

import msgspec

from fixed_anchor.core.claims import Claims
from fixed_anchor.core.errors import InputError

#: No configuration or lease file of a site is larger than this, in bytes.
MAX_SIZE = 64 * 1024 * 1024


class Reader:
    """Reads files below or beside the plan. Relative paths count from ``folder``."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder

    def path(self, name: str, beside: str | None = None) -> str:
        """``name`` as a path: absolute, or relative to the folder of the file ``beside``, else to :attr:`folder`."""
        if os.path.isabs(name):
            return name
        base = os.path.dirname(beside) if beside is not None else str(self.folder)
        return os.path.normpath(os.path.join(base, name))

    def read(self, path: str) -> bytes:
        """The bytes of ``path``. Raises :class:`InputError` with the path."""
        try:
            with open(path, "rb") as file:
                data = file.read(MAX_SIZE + 1)
        except OSError as error:
            raise InputError(f"cannot be read: {error.strerror}", file=path) from None
        if len(data) > MAX_SIZE:
            raise InputError(f"more than {MAX_SIZE // 1024 // 1024} MiB are too many for a source", file=path)
        return data

    def exists(self, path: str) -> bool:
        """Whether ``path`` is a file."""
        return os.path.isfile(path)

    def names(self, folder: str) -> list[str]:
        """The names of the files in ``folder``, sorted. Raises :class:`InputError`."""
        try:
            return sorted(e.name for e in os.scandir(folder) if e.is_file())
        except OSError as error:
            raise InputError(f"cannot be read: {error.strerror}", file=folder) from None


class Origin(msgspec.Struct, frozen=True):
    """Where a source is: its kind, its path as the plan names it, and the path that is opened."""

    kind: str
    shown: str
    path: str
    options: Mapping[str, str] = {}


class Reservation(msgspec.Struct, frozen=True):
    """A reservation to be added to a DHCP server's configuration."""

    mac: str
    address: str
    name: str


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
    and raises :class:`InputError` where there is none.
    """

    line: Callable[[Reservation], str]
    insert: Callable[[str, str, Reservation], str]


def text_of(data: bytes, path: str) -> str:
    """``data`` as UTF-8 text. Raises :class:`InputError` with the line."""
    try:
        return data.decode("utf-8")
    except UnicodeDecodeError as error:
        line = data.count(b"\n", 0, error.start) + 1
        raise InputError("a byte that is not UTF-8", file=path, line=line) from None
