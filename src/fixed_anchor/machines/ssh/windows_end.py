"""The end of a connection where the PowerShell of a Windows machine answers, once it has been asked for."""

from __future__ import annotations

import json
import logging
import threading
from typing import Any, NoReturn

from fixed_anchor.core.errors import AnchorError, NoAccess, OtherSystem, Unreachable
from fixed_anchor.core.survey import SurveyedInterface
from fixed_anchor.machines.ssh.connector import WindowsConnector, collected_over
from fixed_anchor.machines.ssh.errand import Errand, Reply
from fixed_anchor.machines.ssh.session import IDLE
from fixed_anchor.machines.ssh.trouble import NoShell
from fixed_anchor.machines.ssh.windows_session import WindowsSession
from fixed_anchor.machines.ssh.windows_store import WindowsStore
from fixed_anchor.machines.ssh.windows_vantage import WindowsVantage, looking_source
from fixed_anchor.machines.windows.windows_facts import WindowsFacts
from fixed_anchor.vantages.nowhere import Nowhere
from fixed_anchor.vantages.protocol import Vantage

_log = logging.getLogger(__name__)

#: Seconds for a look from there.
_LOOK = 30.0


class WindowsEnd:
    """Everything raises :class:`NoAccess`, and :class:`Unreachable` where the line is lost; then it is made anew.

    ``facts`` are what the collector told last, ``None`` where nobody has answered as a Windows machine.
    """

    def __init__(self, connector: WindowsConnector, lock: threading.RLock) -> None:
        self.connector = connector
        self.session: WindowsSession | None = None
        self.facts: WindowsFacts | None = None
        self.store = WindowsStore(self.name, self._ask)
        self._lock = lock
        # Whether the facts are those of a moment ago.
        self._has_just_told = False

    @property
    def name(self) -> str:
        """Whose end it is, for people."""
        return self.connector.host

    def is_there(self) -> bool:
        """Asks for it: where it answers its collector has told everything."""
        try:
            self._collect()
            self._has_just_told = True
        except NoShell as error:
            _log.info("%s: %s", self.name, error)
        return self.facts is not None

    def opened(self) -> WindowsSession:
        """The open session; made where there is none."""
        with self._lock:
            if self.session is not None and self.session.idle > IDLE:
                # The machine may be about to end it.
                self.close()
            if self.session is None:
                self.connector.facts = None
                self.session = self.connector.open()
                _log.info("%s: connected, by its PowerShell", self.name)
            return self.session

    def close(self) -> None:
        """Ends the session; it is made again if something is asked."""
        if self.session is not None:
            self.session.close()
            self.session = None

    def ask(self, errand: Errand, only_looks: bool = False) -> Reply:
        """An errand is for a shell: a Windows machine has nothing of it."""
        return Reply()

    def with_files(self) -> NoReturn:
        """Asks the collector anew, and raises :class:`OtherSystem`: it has no files of Linux."""
        with self._lock:
            if not self._has_just_told:
                self._collect()
            self._has_just_told = False
        raise OtherSystem(f"{self.name} runs Windows: it has no files of Linux")

    def _collect(self) -> None:
        try:
            session = self.opened()
            # To know it by its MACs at an address all of it was asked just now.
            self.facts = self.connector.facts or collected_over(session)
            self.connector.facts = None
        except Unreachable:
            self.close()
            raise

    def _look(self, asked: dict[str, Any]) -> Any:
        """What ``looking.ps1`` answers there."""
        try:
            return json.loads(self._ask(looking_source(), _LOOK, json.dumps(asked)))["answer"]
        except (ValueError, KeyError, TypeError):
            raise NoAccess(f"the answer of {self.name} makes no sense") from None

    def _ask(self, program: str, seconds: float, *arguments: str) -> bytes:
        """What a program says there."""
        with self._lock:
            try:
                return self.opened().ask(program, seconds, *arguments)
            except (Unreachable, KeyboardInterrupt):
                self.close()
                raise

    # --- what it knows of itself ----------------------------------------------------------

    def vantage(self, interface: SurveyedInterface) -> Vantage:
        """Its own programs; none where its language mode is restricted."""
        assert self.facts is not None
        if self.facts.is_restricted:
            mode = self.facts.language_mode
            return Nowhere(f"on {self.name} no program can be run: its language mode is {mode}")
        return WindowsVantage(self.name, self._look, interface)

    def why_no_change(self) -> AnchorError | None:
        """Why no change can be made there by whoever is logged in."""
        assert self.facts is not None
        return self.facts.why_no_change(self.name)
