"""The connection to one host: made when something is first asked, by its name or at its addresses, and once more where
it was lost; to a shell, or to PowerShell where a Windows machine answers.
"""

from __future__ import annotations

import logging
import threading
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from typing import Any

from fixed_anchor.core.addresses import IPAddress
from fixed_anchor.core.errors import NoAccess, OtherSystem, Unreachable
from fixed_anchor.machines.seat import Way
from fixed_anchor.machines.ssh.connector import ShellConnector, WindowsConnector
from fixed_anchor.machines.ssh.corrections import corrections
from fixed_anchor.machines.ssh.destination import Destination
from fixed_anchor.machines.ssh.errand import Errand, Reply
from fixed_anchor.machines.ssh.powershell import PowerShell
from fixed_anchor.machines.ssh.session import Password, Session
from fixed_anchor.machines.ssh.trouble import NoShell
from fixed_anchor.machines.ssh.windows_session import WindowsSession
from fixed_anchor.machines.windows.windows_facts import WindowsFacts
from fixed_anchor.vantages.relay import Relay, program

_log = logging.getLogger(__name__)


class Connected:
    """A host that is connected when it is first asked something, and again where the connection was lost.

    Where it does not answer by its own name it is looked for at the addresses of ``way``, and must have one of its
    MACs there. Everything raises :class:`NoAccess`, and :class:`Unreachable` where it does not answer.
    """

    def __init__(self, destination: Destination, way: Way) -> None:
        self.destination = destination
        self._name = way.name
        seat = self._seat = way.seat
        # Several threads may ask, one after the other.
        self._lock = threading.RLock()
        self._session: Session | None = None
        self._relay: Relay | None = None
        self._has_python: bool | None = None
        shown = way.name or destination.name
        ways = (shown, destination, way.addresses, way.macs, way.elsewhere)
        tell: Password = lambda refused: seat.password(shown, refused)  # noqa: E731
        self._connector = ShellConnector(*ways, tell, seat.jump)
        self._powershell = PowerShell(WindowsConnector(*ways, tell, seat.jump))

    # --- the connection -----------------------------------------------------------------

    @property
    def name(self) -> str:
        """Its name in the plan; of a host of no plan that which it gives itself."""
        return self._name or (self._session.name if self._session is not None else self.destination.name)

    def at_its_addresses(self) -> None:
        """From now on it is looked for at the addresses that it is to hold first, by a new connection."""
        self._drop()
        self._connector.addresses_first = self._powershell.connector.addresses_first = True

    def answers_anew(self) -> str | None:
        if not self._connector.addresses:
            return None
        with self._lock:
            self._drop()
            connector = self._connector if self.windows is None else self._powershell.connector
            connector.addresses_only = True
            try:
                found = self._open_one().found_at
            finally:
                connector.addresses_only = False
            assert found is not None
            # What is to be decided from now on is decided over it.
            connector.addresses_first = True
            return f"{found.address} is this host, by {connector.proof}"

    def session_with_it(self, early: Errand | None = None) -> Session:
        """The open session; one that is only now made is asked for ``early`` at once. Raises :class:`NoAccess`."""
        with self._lock:
            if self.windows is not None:
                raise self._is_windows()
            if self._session is None:
                try:
                    self._session = self._connector.open(early)
                except NoShell as why:
                    raise (self._is_windows() if self._powershell.is_there() else why) from None
                _log.info("%s: connected, user %s", self.name, self._session.uid)
                if self._session.may_be_windows and self._powershell.is_there():
                    self._session.close()
                    self._session = None
                    raise self._is_windows()
            return self._session

    # --- a Windows machine --------------------------------------------------------------

    @property
    def windows(self) -> WindowsFacts | None:
        return self._powershell.facts

    def recognise(self) -> None:
        if self.windows is None:
            with suppress(OtherSystem):
                self.session_with_it()

    def _ask_powershell(self, program: str, seconds: float, *arguments: str) -> bytes:
        """What a program says on a Windows machine. Raises :class:`NoAccess`."""
        with self._lock:
            return self._powershell.ask(program, seconds, *arguments)

    def _look(self, asked: dict[str, Any]) -> Any:
        """What is seen from a Windows machine. Raises :class:`NoAccess`."""
        with self._lock:
            return self._powershell.look(asked)

    def _is_windows(self) -> OtherSystem:
        return OtherSystem(f"{self.name} runs Windows: it has no files of Linux")

    def let_go(self) -> None:
        self.close()

    def close(self) -> None:
        """Ends the connection; notes what is to be corrected at the seat. It is made again if something is asked."""
        self._say_where()
        self._drop()

    def _say_where(self) -> None:
        """Notes what is to be corrected at the seat where the host was found at an address alone."""
        open_one = self._session or self._powershell.session
        found = open_one.found_at if open_one is not None else None
        if found is None:
            return
        wrong = corrections(self.destination, self._connector.effective(), found.address, found.known_as)
        if wrong:
            self._seat.remark(f"{self.name} is at {found.address}, {found.how}. Correct at this seat:", wrong)

    def _drop(self) -> None:
        if self._session is not None:
            self._session.close()
            self._session = None
            self._relay = None
        self._powershell.close()

    def ask(self, errand: Errand, only_looks: bool = False) -> Reply:
        """One errand, over a new connection where the last one was lost; a Windows machine has nothing of it."""
        if self.windows is not None:
            return Reply()
        with self._lock:
            try:
                if self._relay is not None and self._session is not None:
                    # It has the connection to itself.
                    self._relay.send(b"Q")
                    self._relay = None
                    self._session.python_has_ended()
                return self.session_with_it(errand if only_looks else None).ask(errand)
            except (Unreachable, KeyboardInterrupt):
                # Nobody knows how much of a request was sent when Ctrl-C was pressed.
                self._drop()
                raise

    def _ask_again(self, errand: Errand) -> Reply:
        """One errand that only looks: where the connection was lost it is made once more."""
        with self._lock:
            was_open = self._session is not None
            try:
                return self.ask(errand, only_looks=True)
            except Unreachable:
                if not was_open:
                    raise
                return self.ask(errand, only_looks=True)

    # --- what runs over it ---

    @contextmanager
    def relay(self) -> Iterator[Relay]:
        """Holds the relay, and starts it where it does not run. Raises :class:`NoAccess`."""
        with self._lock:
            relay = self._relay_now()
            if relay is None:
                raise NoAccess(f"there is no Python on {self.name}")
            try:
                yield relay
            except (Unreachable, KeyboardInterrupt):
                self._drop()
                raise

    def _relay_now(self) -> Relay | None:
        """The relay that runs; ``None`` where there is no Python."""
        if self._relay is None and self._has_python is not False:
            session = self.session_with_it()
            self._has_python = session.start_python(program())
            self._relay = Relay(session) if self._has_python else None
        return self._relay

    def session_address(self) -> IPAddress | None:
        return self._open_one().address

    def ssh_port(self) -> int | None:
        return self._open_one().port

    def _open_one(self) -> Session | WindowsSession:
        with self._lock:
            return self._powershell.opened() if self.windows is not None else self.session_with_it()
