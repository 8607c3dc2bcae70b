"""The tool's own folder on a Windows machine that was reached over SSH, and the engines in it."""

from __future__ import annotations

import base64
import json
from collections.abc import Callable, Mapping
from importlib import resources
from typing import Any

from fixed_anchor.change.files import FileText
from fixed_anchor.core.errors import NoAccess
from fixed_anchor.machines.readable import Ran
from fixed_anchor.machines.windows import house_source

#: Asks a program there, with its arguments; it may take so many seconds.
Asks = Callable[..., bytes]
#: Seconds for files.
_FILES = 60.0


class WindowsStore:
    """A :class:`~fixed_anchor.machines.store.Store`. Everything raises :class:`NoAccess`."""

    engine_file = "engine.ps1"
    by_hand_page = "docs/by-hand-windows.md"

    def __init__(self, name: str, asks: Asks) -> None:
        self.name = name
        self._asks = asks
        self._house: str | None = None
        #: The text of each engine that was asked: it lies in the folder of its change, and stays as it is.
        self._engines: dict[str, str] = {}

    @property
    def state_dir(self) -> str:
        """The tool's own folder there."""
        if self._house is None:
            self._house = str(self._file(do="home"))
        return self._house

    def _file(self, **asked: Any) -> Any:
        reply = self._asks(_filing(), _FILES, json.dumps(asked))
        try:
            return json.loads(reply)["answer"]
        except (ValueError, KeyError, TypeError):
            raise NoAccess(f"the answer of {self.name} makes no sense") from None

    def read(self, path: str) -> FileText | None:
        """A file; ``None`` where there is none."""
        reply = self._file(do="read", path=path)
        if reply is None:
            return None
        return FileText(path, base64.b64decode(reply).decode("utf-8", "surrogateescape"))

    def glob(self, pattern: str) -> list[str]:
        """The one file of that path, where it is there."""
        return [pattern] if self._file(do="is-file", path=pattern) else []

    def folders(self, path: str) -> list[str]:
        """The names of the folders in a folder, sorted."""
        return sorted(str(name) for name in self._file(do="folders", path=path) or ())

    def link_target(self, path: str) -> str | None:
        """What the note of the open change says: there are no links."""
        file = self.read(path)
        return file.text.strip() or None if file is not None else None

    def make_folder(self, path: str) -> bool:
        """Makes a folder for administrators alone; false where it exists already."""
        return bool(self._file(do="make-folder", path=path))

    def rename_folder(self, old: str, new: str) -> None:
        """Gives a folder another name; nothing has that name yet."""
        self._file(do="rename-folder", old=old, new=new)

    def put(self, path: str, data: bytes, mode: int = 0o600) -> None:
        """Writes a file, beside and renamed, synced; rights are those of the folder."""
        self._put({path: data})

    def put_all(self, folder: str, files: Mapping[str, tuple[bytes, int]]) -> None:
        """Writes files in one go, by their paths below ``folder``."""
        self._put({f"{folder}/{path}": data for path, (data, _) in files.items()})

    def _put(self, files: Mapping[str, bytes]) -> None:
        reply = [{"path": path, "data": base64.b64encode(data).decode()} for path, data in files.items()]
        self._file(do="put", files=reply)

    def engine_argv(self, folder: str, verb: str) -> tuple[str, ...]:
        """The command of a verb, as a person types it there, elevated."""
        here = folder.replace("/", "\\") if ":" in folder else folder
        slash = "\\" if ":" in folder else "/"
        file = f"{here}{slash}{self.engine_file}"
        return ("powershell", "-NoProfile", "-ExecutionPolicy", "Bypass", "-File", file, verb, here)

    def ask_engine(self, folder: str, verb: str, words: tuple[str, ...], timeout: float) -> Ran:
        """Asks the engine that lies in the folder, in the session: no script file need be allowed there for that."""
        if folder not in self._engines:
            file = self.read(f"{folder}/{self.engine_file}")
            if file is None:
                return Ran(127, "", f"there is no {folder}/{self.engine_file}")
            self._engines[folder] = file.text
        try:
            reply = json.loads(self._asks(self._engines[folder], timeout + _FILES, verb, folder, *words))
            return Ran(int(reply["status"]), str(reply["out"]) + "\n", str(reply["err"] or ""))
        except (ValueError, KeyError, TypeError):
            raise NoAccess(f"the answer of the engine on {self.name} makes no sense") from None


def _filing() -> str:
    return house_source() + resources.files(__package__).joinpath("filing.ps1").read_text("ascii")
