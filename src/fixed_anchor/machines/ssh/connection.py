"""The connection to one host: made when something is first asked, by its name or at its addresses, and once more where
it was lost. What answers is a shell, or the PowerShell of a Windows machine: it has the one end or the other.
"""

from __future__ import annotations

import logging
import threading
from typing import TypeAlias

from fixed_anchor.change.access import Session
from fixed_anchor.core.addresses import IPAddress
from fixed_anchor.core.errors import Unreachable
from fixed_anchor.machines.fetched import Fetched
from fixed_anchor.machines.seat import Way
from fixed_anchor.machines.ssh.connector import ShellConnector, WindowsConnector
from fixed_anchor.machines.ssh.corrections import corrections
from fixed_anchor.machines.ssh.destination import Destination
from fixed_anchor.machines.ssh.errand import Errand, Reply
from fixed_anchor.machines.ssh.session import Password
from fixed_anchor.machines.ssh.shell_end import ShellEnd
from fixed_anchor.machines.ssh.trouble import NoShell
from fixed_anchor.machines.ssh.windows_end import WindowsEnd

_log = logging.getLogger(__name__)

End: TypeAlias = ShellEnd | WindowsEnd


class Connection(Session):
    """A host that is connected when it is first asked something, and again where the connection was lost.

    Where it does not answer by its own name it is looked for at the addresses of ``way``, and must have one of its
    MACs there. Everything raises :class:`NoAccess`, and :class:`Unreachable` where it does not answer.
    """

    def __init__(self, destination: Destination, way: Way) -> None:
        self.destination = destination
        seat = self._seat = way.seat
        shown = way.name or destination.name
        ways = (shown, destination, way.addresses, way.macs, way.elsewhere)
        tell: Password = lambda refused: seat.password(shown, refused)  # noqa: E731
        # Several threads may ask, one after the other.
        self._lock = threading.RLock()
        self._shell = ShellEnd(way.name, ShellConnector(*ways, tell, seat.jump), self._lock)
        self._windows = WindowsEnd(WindowsConnector(*ways, tell, seat.jump), self._lock)
        #: What is there: a shell, until something else has answered.
        self.end: End = self._shell
        #: What was read over it: until something is done there, or it ends.
        self.fetched: Fetched | None = None

    @property
    def name(self) -> str:
        """Its name in the plan; of a host of no plan that which it gives itself."""
        return self.end.name

    def open(self, early: Errand | None = None) -> End:
        """What is there, connected; a connection that is only now made is asked for ``early`` at once."""
        with self._lock:
            if self.end is self._shell and self._shell.session is None:
                try:
                    if not self._shell.opened(early).may_be_windows or not self._windows.is_there():
                        return self._shell
                except NoShell as why:
                    if not self._windows.is_there():
                        raise why from None
                self._shell.close()
                self.end = self._windows
            return self.end

    def ask(self, errand: Errand, only_looks: bool = False) -> Reply:
        """One errand, over a new connection where the last one was lost; a Windows machine has nothing of it."""
        with self._lock:
            return self.open(errand if only_looks else None).ask(errand, only_looks)

    def ask_again(self, errand: Errand) -> Reply:
        """One errand that only looks: where the connection was lost it is made once more."""
        with self._lock:
            was_open = self._shell.session is not None
            try:
                return self.ask(errand, only_looks=True)
            except Unreachable:
                if not was_open:
                    raise
                return self.ask(errand, only_looks=True)

    # --- the session with it --------------------------------------------------------------

    def recognise(self) -> None:
        self.open()

    def address(self) -> IPAddress | None:
        return self.open().opened().address

    def port(self) -> int | None:
        return self.open().opened().port

    def through(self) -> tuple[str, ...]:
        """The jump hosts of ssh_config(5), ``[user@]host[:port]`` each."""
        jump = self.end.connector.effective().jump
        if " " in jump:
            # A command of the user's own: where it leads through, nobody knows.
            return ()
        hosts = [one.rpartition("@")[2] for one in jump.split(",") if one]
        return tuple(h[1:].partition("]")[0] if h.startswith("[") else h.partition(":")[0] for h in hosts)

    def is_to_hold(self, addresses: tuple[IPAddress, ...]) -> None:
        self._shell.connector.addresses = self._windows.connector.addresses = addresses

    def at_its_addresses(self) -> None:
        """From now on it is looked for at the addresses that it is to hold first, by a new connection."""
        self._drop()
        self._shell.connector.addresses_first = self._windows.connector.addresses_first = True

    def answers_anew(self) -> str | None:
        connector = self.end.connector
        if not connector.addresses:
            return None
        with self._lock:
            self._drop()
            connector.addresses_only = True
            try:
                found = self.open().opened().found_at
            finally:
                connector.addresses_only = False
            assert found is not None
            # What is to be decided from now on is decided over it.
            connector.addresses_first = True
            return f"{found.address} is this host, by {connector.proof}"

    def let_go(self) -> None:
        """Ends the connection; notes what is to be corrected at the seat. It is made again if something is asked."""
        self._say_where()
        self._drop()

    def _say_where(self) -> None:
        """Notes what is to be corrected at the seat where the host was found at an address alone."""
        found = self.end.session.found_at if self.end.session is not None else None
        if found is None:
            return
        wrong = corrections(self.destination, self.end.connector.effective(), found.address, found.known_as)
        if wrong:
            self._seat.remark(f"{self.name} is at {found.address}, {found.how}. Correct at this seat:", wrong)

    def _drop(self) -> None:
        self.fetched = None
        self._shell.close()
        self._windows.close()
