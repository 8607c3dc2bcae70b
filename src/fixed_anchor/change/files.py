"""Files of a host and edits of them: what most changes are made of.

Paths are absolute on the host. Nothing here reads a disk.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping

import msgspec


class FileText(msgspec.Struct, frozen=True):
    """One file of a host: its path there, its text, mode bits and owner.

    Bytes that are not UTF-8 are kept as lone surrogates (``surrogateescape``).
    """

    path: str
    text: str
    mode: int = 0o644
    uid: int = 0
    gid: int = 0


#: Files of one host, by path.
Files = Mapping[str, FileText]


class FileEdit(msgspec.Struct, frozen=True):
    """One file as it shall become: ``before`` is ``None`` where it is new, ``after`` where it is deleted.

    ``link_before`` is the target where the path is a symbolic link now, which the file
    replaces; ``link_after`` where it shall become one.
    """

    path: str
    before: FileText | None
    after: FileText | None
    link_before: str | None = None
    link_after: str | None = None


def apply_edits(files: Files, edits: Iterable[FileEdit]) -> dict[str, FileText]:
    """The files as they are once ``edits`` are written."""
    result = dict(files)
    for edit in edits:
        if edit.after is None:
            result.pop(edit.path, None)
        else:
            result[edit.path] = edit.after
    return result


def joined_edits(earlier: Iterable[FileEdit], later: Iterable[FileEdit]) -> list[FileEdit]:
    """Edits after one another: two of the same file become one from the first state to the last."""
    by_path = {edit.path: edit for edit in earlier}
    for edit in later:
        first = by_path.get(edit.path)
        by_path[edit.path] = (
            edit if first is None else msgspec.structs.replace(first, after=edit.after, link_after=edit.link_after)
        )
    return list(by_path.values())


def decode(data: bytes) -> str:
    """File bytes to text without loss; line ends stay as they are."""
    return data.decode("utf-8", "surrogateescape")


def encode(text: str) -> bytes:
    """The inverse of :func:`decode`."""
    return text.encode("utf-8", "surrogateescape")
