"""A host over SSH as a machine."""

from __future__ import annotations

import logging
import shlex
from collections.abc import Mapping

from fixed_anchor.change.access import Rights
from fixed_anchor.change.files import FileText
from fixed_anchor.core.elsewhere import Spelling
from fixed_anchor.core.errors import AnchorError, NoAccess
from fixed_anchor.core.survey import SurveyedInterface
from fixed_anchor.machines.fetched import Fetched
from fixed_anchor.machines.here import STATE_DIR
from fixed_anchor.machines.readable import Ran, Wanted, not_asked
from fixed_anchor.machines.search import GREP, LARGE, Found, found_by_commands
from fixed_anchor.machines.seat import Way
from fixed_anchor.machines.ssh.alone import why_not_alone
from fixed_anchor.machines.ssh.connection import Connection
from fixed_anchor.machines.ssh.destination import Destination
from fixed_anchor.machines.ssh.errand import Errand
from fixed_anchor.machines.store import ShellStore, Store
from fixed_anchor.machines.windows.windows_facts import WindowsFacts
from fixed_anchor.vantages.protocol import Vantage

_log = logging.getLogger(__name__)

#: Seconds for commands of which the caller says nothing.
_USUAL = 30.0


class SshMachine(ShellStore):
    """A host over SSH: what is read of it, and done there. Its store is its own where a shell answers.

    Everything raises :class:`NoAccess`, and :class:`Unreachable` where it does not answer.
    """

    running = True
    is_afar = False
    state_dir = STATE_DIR

    def __init__(self, destination: Destination, way: Way) -> None:
        self.session = Connection(destination, way)
        self.rights = SshRights(self.session)

    @property
    def name(self) -> str:
        return self.session.name

    @property
    def windows(self) -> WindowsFacts | None:
        return self.session.end.facts

    @property
    def store(self) -> Store:
        return self.session.end.store or self

    def close(self) -> None:
        """Ends the connection, with the program."""
        self.session.let_go()

    # --- reading ------------------------------------------------------------------------

    def fetch(self, wanted: Wanted) -> Fetched:
        errand = Errand()
        for pattern in wanted.files:
            (errand.glob if _is_pattern(pattern) else errand.file)(pattern)
        for path in wanted.links:
            errand.link(path)
        for argv in wanted.commands:
            errand.run(argv, _USUAL)
        reply = self.session.ask_again(errand)
        there = self.session.end.with_files()
        fetched = Fetched(self.name, True)
        for pattern in wanted.files:
            shut = pattern in reply.denied and _is_pattern(pattern)
            fetched._patterns[pattern] = there.needs_root("reading this folder", pattern) if shut else None
        fetched._files.update(reply.files)
        for path in reply.denied:
            if not _is_pattern(path):
                fetched._files[path] = there.needs_root("reading this file", path)
        fetched._links.update({path: reply.links.get(path) for path in wanted.links})
        fetched._ran.update(zip(wanted.commands, reply.ran, strict=True))
        # Drafts read what the survey has just read: that costs no more round trips.
        self.session.fetched = fetched if self.session.fetched is None else self.session.fetched.joined(fetched)
        return fetched

    def read(self, path: str) -> FileText | None:
        if self._is_at_hand(path) and self.session.fetched is not None:
            return self.session.fetched.read(path)
        return self._read_now(path)

    def _is_at_hand(self, pattern: str) -> bool:
        """Whether a file of configuration has been fetched, and nothing was done there since."""
        of_kernel = pattern.startswith(("/proc/", "/sys/"))
        return self.session.fetched is not None and not of_kernel and self.session.fetched.knows(pattern)

    def _read_now(self, path: str) -> FileText | None:
        errand = Errand()
        errand.file(path)
        reply = self.session.ask_again(errand)
        if path in reply.denied:
            raise self.session.end.with_files().needs_root("reading this file", path)
        found = reply.files.get(path)
        if isinstance(found, AnchorError):
            raise found
        return found

    def glob(self, pattern: str) -> list[str]:
        if self._is_at_hand(pattern) and self.session.fetched is not None:
            return self.session.fetched.glob(pattern)
        errand = Errand()
        errand.names(pattern)
        reply = self.session.ask_again(errand)
        if pattern in reply.denied:
            raise self.session.end.with_files().needs_root("reading this folder", pattern)
        return sorted(set(reply.names))

    def knows(self, pattern: str) -> bool:
        return True

    def link_target(self, path: str) -> str | None:
        errand = Errand()
        errand.link(path)
        return self.session.ask_again(errand).links.get(path)

    def folders(self, path: str) -> list[str]:
        errand = Errand()
        errand.folders(path)
        reply = self.session.ask_again(errand)
        if path in reply.denied:
            raise self.session.end.with_files().needs_root("reading this folder", path)
        return sorted(reply.folders)

    def search(self, spelling: Spelling) -> Found:
        words = [word for address in spelling.addresses for word in ("-e", str(address))]
        grep = (*GREP, *words, "{}", "+")
        errand = Errand()
        errand.run(grep, _USUAL)
        errand.run(LARGE, _USUAL)
        ran = self.session.ask_again(errand).ran
        if not ran:
            # In a registry nothing is searched.
            return Found((), ())
        found, large = ran
        return found_by_commands(self.name, spelling, [found], large)

    # --- doing --------------------------------------------------------------------------

    def run(self, argv: tuple[str, ...], timeout: float = _USUAL) -> Ran:
        errand = Errand()
        errand.run(argv, timeout)
        # What was read before may not be so any more.
        self.session.fetched = None
        ran = self.session.ask(errand).ran
        _log.info("%s: %s: status %s", self.name, shlex.join(argv), ran[0].status if ran else None)
        return ran[0] if ran else not_asked(argv)

    def try_out(self, files: Mapping[str, str], argv: tuple[str, ...], timeout: float = _USUAL) -> Ran:
        errand = Errand()
        errand.try_out(files, argv, timeout)
        ran = self.session.ask(errand).ran
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
        self.session.fetched = None
        done = self.session.ask(errand).done
        there = self.session.end.with_files()
        for outcome, message in done:
            if outcome == "failed" and there.opened().uid == 0:
                raise NoAccess(f"cannot be written on {self.name}: {message}", file=path)
            if outcome == "failed":
                raise there.needs_root(f"writing this ({message})", path)
        return done[-1][0] if done else "failed"

    # --- what it knows of itself --------------------------------------------------------

    def vantage(self, interface: SurveyedInterface) -> Vantage:
        return self.session.open().vantage(interface)

    def uptime(self) -> float:
        file = self._read_now("/proc/uptime")
        if file is None:
            raise NoAccess(f"{self.name} does not tell its uptime", file="/proc/uptime")
        return float(file.text.split()[0])


class SshRights(Rights):
    """What whoever is logged in may do there."""

    def __init__(self, connection: Connection) -> None:
        super().__init__(has_shell=True, has_tool=False)
        self._connection = connection

    def why_no_change(self) -> AnchorError | None:
        return self._connection.open().why_no_change()

    def why_not_alone(self) -> AnchorError | None:
        connection = self._connection
        return why_not_alone(connection.name, connection.destination, connection.end.connector.effective().jump)


def _is_pattern(text: str) -> bool:
    return any(char in text for char in "*?[")
