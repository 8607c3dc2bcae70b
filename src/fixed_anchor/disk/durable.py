"""Writing files here so that they hold the old bytes or the new ones, whatever happens meanwhile."""

from __future__ import annotations

import logging
import os
import threading
from pathlib import Path

from fixed_anchor.core.errors import NoAccess

_log = logging.getLogger(__name__)


def needs_root(what: str, path: str) -> NoAccess:
    """The error of whoever may not do ``what`` at ``path``."""
    return NoAccess(f"{what} needs root", file=path, remedy="run it with sudo")


def write_beside(path: Path, data: bytes, mode: int, shown: str | None = None) -> None:
    """Writes ``path`` so that it holds the old bytes or the new ones: beside, synced, renamed.

    Raises :class:`NoAccess` with ``shown`` as the file's name.
    """
    # Threads write at the same time, too.
    beside = path.with_name(f".{path.name}.{os.getpid()}-{threading.get_native_id()}.new")
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        descriptor = os.open(beside, os.O_WRONLY | os.O_CREAT | os.O_TRUNC | os.O_NOFOLLOW, mode)
        try:
            with os.fdopen(descriptor, "wb") as file:
                file.write(data)
                file.flush()
                os.fchmod(file.fileno(), mode)
                os.fsync(file.fileno())
            os.replace(beside, path)
            _log.info("wrote %s: %d bytes, mode %04o", shown or path, len(data), mode)
        except BaseException:
            beside.unlink(missing_ok=True)
            raise
        sync_folder(path.parent)
    except PermissionError:
        raise needs_root("writing this", shown or str(path)) from None
    except OSError as error:
        raise NoAccess(f"cannot be written: {error.strerror}", file=shown or str(path)) from None


def sync_folder(folder: Path) -> None:
    """Has the names in a folder written out."""
    descriptor = os.open(folder, os.O_RDONLY)
    try:
        os.fsync(descriptor)
    finally:
        os.close(descriptor)
