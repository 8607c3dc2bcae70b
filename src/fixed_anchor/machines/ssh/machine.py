"""A host over SSH as a machine."""

from __future__ import annotations

import logging
import shlex
from collections.abc import Mapping

from fixed_anchor.change.files import FileText
from fixed_anchor.core.elsewhere import Spelling
from fixed_anchor.core.errors import AnchorError, NoAccess, OtherSystem
from fixed_anchor.core.survey import SurveyedInterface
from fixed_anchor.machines.fetched import Fetched
from fixed_anchor.machines.here import STATE_DIR
from fixed_anchor.machines.readable import Ran, Wanted, not_asked
from fixed_anchor.machines.search import GREP, LARGE, Found, found_by_commands
from fixed_anchor.machines.seat import Way
from fixed_anchor.machines.ssh.alone import why_not_alone
from fixed_anchor.machines.ssh.connected import Connected
from fixed_anchor.machines.ssh.destination import Destination
from fixed_anchor.machines.ssh.errand import Errand
from fixed_anchor.machines.ssh.shell_vantage import ShellVantage
from fixed_anchor.machines.ssh.windows_store import WindowsStore
from fixed_anchor.machines.ssh.windows_vantage import WindowsVantage
from fixed_anchor.machines.store import ShellStore, Store
from fixed_anchor.vantages.nowhere import Nowhere
from fixed_anchor.vantages.protocol import Vantage
from fixed_anchor.vantages.relay_vantage import RelayVantage

_log = logging.getLogger(__name__)

#: Seconds for commands of which the caller says nothing.
_USUAL = 30.0


class SshMachine(Connected, ShellStore):
    """A host over SSH: what is read of it, and done there.

    Everything raises :class:`NoAccess`, and :class:`Unreachable` where it does not answer.
    """

    running = True
    is_afar = False
    has_shell = True
    has_tool = False

    def __init__(self, destination: Destination, way: Way) -> None:
        super().__init__(destination, way)
        self.state_dir = STATE_DIR
        self._fetched: Fetched | None = None
        self._windows_store = WindowsStore(way.name or destination.name, self._ask_powershell)

    @property
    def store(self) -> Store:
        return self._windows_store if self.windows is not None else self

    # --- reading ------------------------------------------------------------------------

    def fetch(self, wanted: Wanted) -> Fetched:
        if self.windows is not None:
            with self._lock:
                self._powershell.collect()
            raise self._is_windows()
        errand = Errand()
        for pattern in wanted.files:
            (errand.glob if _is_pattern(pattern) else errand.file)(pattern)
        for path in wanted.links:
            errand.link(path)
        for argv in wanted.commands:
            errand.run(argv, _USUAL)
        reply = self._ask_again(errand)
        fetched = Fetched(self.name, True)
        for pattern in wanted.files:
            shut = pattern in reply.denied and _is_pattern(pattern)
            fetched._patterns[pattern] = self._needs_root("reading this folder", pattern) if shut else None
        fetched._files.update(reply.files)
        for path in reply.denied:
            if not _is_pattern(path):
                fetched._files[path] = self._needs_root("reading this file", path)
        fetched._links.update({path: reply.links.get(path) for path in wanted.links})
        fetched._ran.update(zip(wanted.commands, reply.ran, strict=True))
        # Drafts read what the survey has just read: that costs no more round trips.
        self._fetched = fetched if self._fetched is None else self._fetched.joined(fetched)
        return fetched

    def _needs_root(self, what: str, path: str) -> NoAccess:
        why = self._session.why_not_root if self._session is not None else ""
        return NoAccess(
            f"{what} needs root on {self.name}" + (f", and it cannot be had: {why}" if why else ""),
            file=path,
            remedy="reach it as root, or as a user who may use sudo",
        )

    def read(self, path: str) -> FileText | None:
        if self._is_at_hand(path) and self._fetched is not None:
            return self._fetched.read(path)
        return self._read_now(path)

    def _is_at_hand(self, pattern: str) -> bool:
        """Whether a file of configuration has been fetched, and nothing was done there since."""
        of_kernel = pattern.startswith(("/proc/", "/sys/"))
        return self._fetched is not None and not of_kernel and self._fetched.knows(pattern)

    def _read_now(self, path: str) -> FileText | None:
        errand = Errand()
        errand.file(path)
        reply = self._ask_again(errand)
        if path in reply.denied:
            raise self._needs_root("reading this file", path)
        found = reply.files.get(path)
        if isinstance(found, AnchorError):
            raise found
        return found

    def glob(self, pattern: str) -> list[str]:
        if self._is_at_hand(pattern) and self._fetched is not None:
            return self._fetched.glob(pattern)
        errand = Errand()
        errand.names(pattern)
        reply = self._ask_again(errand)
        if pattern in reply.denied:
            raise self._needs_root("reading this folder", pattern)
        return sorted(set(reply.names))

    def knows(self, pattern: str) -> bool:
        return True

    def link_target(self, path: str) -> str | None:
        errand = Errand()
        errand.link(path)
        return self._ask_again(errand).links.get(path)

    def folders(self, path: str) -> list[str]:
        errand = Errand()
        errand.folders(path)
        reply = self._ask_again(errand)
        if path in reply.denied:
            raise self._needs_root("reading this folder", path)
        return sorted(reply.folders)

    def search(self, spelling: Spelling) -> Found:
        if self.windows is not None:
            return Found((), ())
        words = [word for address in spelling.addresses for word in ("-e", str(address))]
        grep = (*GREP, *words, "{}", "+")
        errand = Errand()
        errand.run(grep, _USUAL)
        errand.run(LARGE, _USUAL)
        found, large = self._ask_again(errand).ran
        return found_by_commands(self.name, spelling, [found], large)

    # --- doing --------------------------------------------------------------------------

    def run(self, argv: tuple[str, ...], timeout: float = _USUAL) -> Ran:
        errand = Errand()
        errand.run(argv, timeout)
        # What was read before may not be so any more.
        self._fetched = None
        ran = self.ask(errand).ran
        _log.info("%s: %s: status %s", self.name, shlex.join(argv), ran[0].status if ran else None)
        return ran[0] if ran else not_asked(argv)

    def try_out(self, files: Mapping[str, str], argv: tuple[str, ...], timeout: float = _USUAL) -> Ran:
        errand = Errand()
        errand.try_out(files, argv, timeout)
        ran = self.ask(errand).ran
        return ran[0] if ran else not_asked(argv)

    def make_folder(self, path: str) -> bool:
        errand = Errand()
        errand.new_folder(path)
        return self._do(errand, path) == "done"

    def rename_folder(self, old: str, new: str) -> None:
        errand = Errand()
        errand.rename_folder(old, new)
        self._do(errand, new)

    def put(self, path: str, data: bytes, mode: int = 0o600) -> None:
        errand = Errand()
        errand.put(path, data, mode)
        self._do(errand, path)

    def put_all(self, folder: str, files: Mapping[str, tuple[bytes, int]]) -> None:
        errand = Errand()
        for path, (data, mode) in files.items():
            errand.put(f"{folder}/{path}", data, mode)
        self._do(errand, folder)

    def _do(self, errand: Errand, path: str) -> str:
        """The outcome of an errand that writes. Raises :class:`NoAccess` with what was said there."""
        if self.windows is not None:
            raise self._is_windows()
        self._fetched = None
        done = self.ask(errand).done
        for outcome, said in done:
            if outcome == "failed":
                root = self.session_with_it().uid == 0
                raise (
                    NoAccess(f"cannot be written on {self.name}: {said}", file=path)
                    if root
                    else self._needs_root(f"writing this ({said})", path)
                )
        return done[-1][0] if done else "failed"

    # --- what it knows of itself --------------------------------------------------------

    def vantage(self, interface: SurveyedInterface) -> Vantage:
        """A relay there, or without root or Python its kernel's neighbour table; that of a Windows machine."""
        if self.windows is not None:
            if self.windows.is_restricted:
                return Nowhere(
                    f"on {self.name} no program can be run: its language mode is {self.windows.language_mode}"
                )
            return WindowsVantage(self.name, self._look, interface)
        with self._lock:
            root = self.session_with_it().uid == 0
            why = "no Python there" if root else "no root there"
            if root and self._relay_now() is not None:
                return RelayVantage(self.name, self.relay, interface)
        return ShellVantage(self.name, self.run, interface, why)

    def why_not_alone(self) -> AnchorError | None:
        return why_not_alone(self.name, self.destination, self._connector.effective().jump)

    def why_no_change(self) -> AnchorError | None:
        try:
            session = self.session_with_it()
        except OtherSystem:
            return self.windows.why_no_change(self.name) if self.windows is not None else None
        if session.uid == 0:
            return None
        why = f": {session.why_not_root}" if session.why_not_root else ""
        return NoAccess(
            f"changing {self.name} needs root, which cannot be had there{why}",
            remedy="reach it as root, or as a user who may use sudo; nothing was changed",
        )

    def uptime(self) -> float:
        file = self._read_now("/proc/uptime")
        if file is None:
            raise NoAccess(f"{self.name} does not tell its uptime", file="/proc/uptime")
        return float(file.text.split()[0])


def _is_pattern(text: str) -> bool:
    return any(char in text for char in "*?[")
