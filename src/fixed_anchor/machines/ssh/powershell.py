"""The PowerShell of a reached machine, where that is a Windows one: found by asking, and asked from then on."""

from __future__ import annotations

import json
import logging
from typing import Any

from fixed_anchor.core.errors import NoAccess, Unreachable
from fixed_anchor.machines.ssh.connector import WindowsConnector, collected_over
from fixed_anchor.machines.ssh.trouble import NoShell
from fixed_anchor.machines.ssh.windows_session import WindowsSession
from fixed_anchor.machines.ssh.windows_vantage import looking_source
from fixed_anchor.machines.windows.windows_facts import WindowsFacts

_log = logging.getLogger(__name__)

#: Seconds for a look from there.
_LOOK = 30.0


class PowerShell:
    """Everything raises :class:`NoAccess`, and :class:`Unreachable` where the line is lost; then it is made anew.

    ``facts`` are what the collector told last, ``None`` where nobody has answered as a Windows machine.
    """

    def __init__(self, connector: WindowsConnector) -> None:
        self.connector = connector
        self.session: WindowsSession | None = None
        self.facts: WindowsFacts | None = None

    def is_there(self) -> bool:
        """Asks for it: where it answers its collector has told everything."""
        try:
            self.collect()
        except NoShell as error:
            _log.info("%s: %s", self.connector.host, error)
        return self.facts is not None

    def opened(self) -> WindowsSession:
        """The open session; made where there is none."""
        if self.session is None:
            self.connector.facts = None
            self.session = self.connector.open()
            _log.info("%s: connected, by its PowerShell", self.connector.host)
        return self.session

    def collect(self) -> None:
        """Asks the collector anew."""
        try:
            session = self.opened()
            # To know it by its MACs at an address all of it was asked just now.
            self.facts = self.connector.facts or collected_over(session)
            self.connector.facts = None
        except Unreachable:
            self.close()
            raise

    def look(self, asked: dict[str, Any]) -> Any:
        """What ``looking.ps1`` answers there."""
        try:
            return json.loads(self.ask(looking_source(), _LOOK, json.dumps(asked)))["answer"]
        except (ValueError, KeyError, TypeError):
            raise NoAccess(f"the answer of {self.connector.host} makes no sense") from None

    def ask(self, program: str, seconds: float, *arguments: str) -> bytes:
        """What a program says there."""
        try:
            return self.opened().ask(program, seconds, *arguments)
        except (Unreachable, KeyboardInterrupt):
            self.close()
            raise

    def close(self) -> None:
        """Ends the session; it is made again if something is asked."""
        if self.session is not None:
            self.session.close()
            self.session = None
