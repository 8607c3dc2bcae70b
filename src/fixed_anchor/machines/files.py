"""File access shared by the machines whose files lie on a disk here."""

from __future__ import annotations

import logging
import os
import stat
from collections.abc import Mapping
from fnmatch import fnmatchcase
from pathlib import Path

from fixed_anchor.change.access import Session
from fixed_anchor.change.files import FileText, decode
from fixed_anchor.core.elsewhere import Spelling
from fixed_anchor.core.errors import InputError, NoAccess
from fixed_anchor.disk.durable import needs_root, sync_folder, write_beside
from fixed_anchor.machines.readable import Ran, not_asked
from fixed_anchor.machines.search import Found, search_folders
from fixed_anchor.machines.store import ShellStore
from fixed_anchor.machines.windows.windows_facts import WindowsFacts

_log = logging.getLogger(__name__)

_MAX_LINKS = 40
_MAX_SIZE = 16 * 1024 * 1024


class DiskFiles(ShellStore):
    """Files below ``root``; symbolic links are followed as the host itself would, never out of ``root``."""

    def __init__(self, root: Path) -> None:
        self.root = Path(os.path.abspath(root))
        self.session = Session()

    def local(self, path: str, links_left: int = _MAX_LINKS) -> Path:
        """Where the host's ``path`` lies here, with the links in it resolved inside the root."""
        if self.root == Path("/"):
            return Path(path)
        here = self.root
        parts = [p for p in path.split("/") if p not in ("", ".")]
        while parts:
            part = parts.pop(0)
            if part == "..":
                here = here.parent if here != self.root else here
                continue
            candidate = here / part
            if candidate.is_symlink():
                links_left -= 1
                if links_left < 0:
                    raise InputError("too many symbolic links", file=path)
                target = os.readlink(candidate)
                if target.startswith("/"):
                    here = self.root
                parts = [p for p in target.split("/") if p not in ("", ".")] + parts
                continue
            here = candidate
        return here

    def read(self, path: str) -> FileText | None:
        local = self.local(path)
        if self._is_mask(path):
            return FileText(path, "", 0o644)
        try:
            # A FIFO would be waited for, a device may have no end, and merely to open one may set it going.
            if not stat.S_ISREG(os.stat(local).st_mode):
                return None
            with open(os.open(local, os.O_RDONLY | os.O_NONBLOCK | os.O_CLOEXEC | os.O_NOCTTY), "rb") as file:
                info = os.fstat(file.fileno())
                if not stat.S_ISREG(info.st_mode):
                    return None
                if info.st_size > _MAX_SIZE:
                    raise InputError(f"{info.st_size} bytes are too many for a configuration file", file=path)
                data = file.read()
                _log.debug("read %s: %d bytes", path, len(data))
        except (FileNotFoundError, NotADirectoryError, IsADirectoryError):
            return None
        except PermissionError:
            raise needs_root("reading this file", path) from None
        except OSError as error:
            raise InputError(f"cannot be read: {error.strerror}", file=path) from None
        return FileText(path, decode(data), stat.S_IMODE(info.st_mode), info.st_uid, info.st_gid)

    def glob(self, pattern: str) -> list[str]:
        # Part by part, so that links in the middle are followed inside the root. Hidden names match no star.
        paths = [""]
        for part in pattern.strip("/").split("/"):
            if not any(char in part for char in "*?["):
                paths = [f"{path}/{part}" for path in paths]
                continue
            paths = [f"{path}/{name}" for path in paths for name in self._names(path or "/") if fnmatchcase(name, part)]
        return sorted(path for path in paths if os.path.isfile(self.local(path)) or self._is_mask(path))

    def _is_mask(self, path: str) -> bool:
        """Whether ``path`` is a link to /dev/null: to systemd an empty file, which hides others of its name."""
        return "/systemd/" in path and self.link_target(path) == "/dev/null"

    def _names(self, path: str) -> list[str]:
        try:
            return [name for name in os.listdir(self.local(path)) if not name.startswith(".")]
        except (FileNotFoundError, NotADirectoryError):
            return []
        except PermissionError:
            raise needs_root("reading this folder", path) from None

    def knows(self, pattern: str) -> bool:
        return True

    def link_target(self, path: str) -> str | None:
        folder = self.local(os.path.dirname(path))
        local = folder / os.path.basename(path)
        try:
            return os.readlink(local) if local.is_symlink() else None
        except PermissionError:
            raise needs_root("looking at this link", path) from None

    def folders(self, path: str) -> list[str]:
        local = self.local(path)
        try:
            return sorted(e.name for e in os.scandir(local) if e.is_dir(follow_symlinks=False))
        except (FileNotFoundError, NotADirectoryError):
            return []
        except PermissionError:
            raise needs_root("reading this folder", path) from None

    @property
    def windows(self) -> WindowsFacts | None:
        return None

    def try_out(self, files: Mapping[str, str], argv: tuple[str, ...], timeout: float = 30.0) -> Ran:
        return not_asked(argv)

    def search(self, spelling: Spelling) -> Found:
        return search_folders(self.local, spelling)

    def make_folder(self, path: str) -> bool:
        local = self.local(path)
        try:
            _private_parents(local)
            local.mkdir(mode=0o700)
        except FileExistsError:
            return False
        except PermissionError:
            raise needs_root("making this folder", path) from None
        except OSError as error:
            raise NoAccess(f"cannot be made: {error.strerror}", file=path) from None
        return True

    def rename_folder(self, old: str, new: str) -> None:
        local = self.local(new)
        try:
            os.rename(self.local(old), local)
            sync_folder(local.parent)
        except OSError as error:
            raise NoAccess(f"cannot be given its name: {error.strerror}", file=new) from None

    def put(self, path: str, data: bytes, mode: int = 0o600) -> None:
        local = self.local(path)
        try:
            _private_parents(local)
        except PermissionError:
            raise needs_root("making its folder", path) from None
        except OSError as error:
            raise NoAccess(f"its folder cannot be made: {error.strerror}", file=path) from None
        write_beside(local, data, mode, path)

    def put_all(self, folder: str, files: Mapping[str, tuple[bytes, int]]) -> None:
        for path, (data, mode) in files.items():
            self.put(f"{folder}/{path}", data, mode)


def _private_parents(path: Path) -> None:
    """Makes the missing folders above ``path``, for their owner alone."""
    for folder in reversed([folder for folder in path.parents if not folder.exists()]):
        folder.mkdir(mode=0o700, exist_ok=True)
