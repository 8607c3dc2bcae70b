"""The end of a connection where a shell answers: errands, and a relay that has the connection to itself meanwhile."""

from __future__ import annotations

import logging
import threading
from collections.abc import Iterator
from contextlib import contextmanager

from fixed_anchor.core.errors import AnchorError, NoAccess, Unreachable
from fixed_anchor.core.survey import SurveyedInterface
from fixed_anchor.machines.readable import Ran, not_asked
from fixed_anchor.machines.ssh.connector import ShellConnector
from fixed_anchor.machines.ssh.errand import Errand, Reply
from fixed_anchor.machines.ssh.session import IDLE, ShellSession
from fixed_anchor.machines.ssh.shell_vantage import ShellVantage
from fixed_anchor.vantages.protocol import Vantage
from fixed_anchor.vantages.relay import Relay, program
from fixed_anchor.vantages.relay_vantage import RelayVantage

_log = logging.getLogger(__name__)


class ShellEnd:
    """Everything raises :class:`NoAccess`, and :class:`Unreachable` where the line is lost; then it is made anew."""

    #: No Windows machine: it has no settings to tell of, and its files are its store.
    facts = None
    store = None

    def __init__(self, of_plan: str, connector: ShellConnector, lock: threading.RLock) -> None:
        self._of_plan = of_plan
        self.connector = connector
        self.session: ShellSession | None = None
        self._lock = lock
        self._relay: Relay | None = None
        self._has_python: bool | None = None

    @property
    def name(self) -> str:
        """The host's name in the plan; of a host of no plan that which it gives itself."""
        return self._of_plan or (self.session.name if self.session is not None else self.connector.host)

    def opened(self, early: Errand | None = None) -> ShellSession:
        """The open session; one that is only now made is asked for ``early`` at once."""
        with self._lock:
            if self.session is None:
                self.session = self.connector.open(early)
                _log.info("%s: connected, user %s", self.name, self.session.uid)
            return self.session

    def close(self) -> None:
        """Ends the session; it is made again if something is asked."""
        if self.session is not None:
            self.session.close()
            self.session = None
            self._relay = None

    def ask(self, errand: Errand, only_looks: bool = False) -> Reply:
        """One errand; an answer that was sent for with the connection is at hand."""
        with self._lock:
            self._close_if_idle()
            try:
                if self._relay is not None and self.session is not None:
                    # It has the connection to itself.
                    self._relay.send(b"Q")
                    self._relay = None
                    self.session.python_has_ended()
                return self.opened(errand if only_looks else None).ask(errand)
            except (Unreachable, KeyboardInterrupt):
                # Nobody knows how much of a request was sent when Ctrl-C was pressed.
                self.close()
                raise

    def _close_if_idle(self) -> None:
        """The host may be about to end a session that was not used: a new one is safer."""
        if self.session is not None and self.session.idle > IDLE:
            self.close()

    def with_files(self) -> ShellEnd:
        """The end of a machine that has files of Linux."""
        return self

    def needs_root(self, what: str, path: str) -> NoAccess:
        """Why ``what`` was refused there, of a file or folder."""
        why = self.session.why_not_root if self.session is not None else ""
        return NoAccess(
            f"{what} needs root on {self.name}" + (f", and it cannot be had: {why}" if why else ""),
            file=path,
            remedy="reach it as root, or as a user who may use sudo",
        )

    # --- what it knows of itself ----------------------------------------------------------

    def vantage(self, interface: SurveyedInterface) -> Vantage:
        """A relay there; without root or Python its kernel's neighbour table."""
        with self._lock:
            root = self.opened().uid == 0
            if root and self._relay_now() is not None:
                return RelayVantage(self.name, self.relay, interface)
        return ShellVantage(self.name, self._run, interface, "no Python there" if root else "no root there")

    def _run(self, argv: tuple[str, ...], timeout: float) -> Ran:
        errand = Errand()
        errand.run(argv, timeout)
        ran = self.ask(errand).ran
        return ran[0] if ran else not_asked(argv)

    def why_no_change(self) -> AnchorError | None:
        """Why no change can be made there by whoever is logged in."""
        session = self.opened()
        if session.uid == 0:
            return None
        why = f": {session.why_not_root}" if session.why_not_root else ""
        return NoAccess(
            f"changing {self.name} needs root, which cannot be had there{why}",
            remedy="reach it as root, or as a user who may use sudo; nothing was changed",
        )

    # --- what runs over it ----------------------------------------------------------------

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
                self.close()
                raise

    def _relay_now(self) -> Relay | None:
        """The relay that runs; ``None`` where there is no Python."""
        self._close_if_idle()
        if self._relay is None and self._has_python is not False:
            session = self.opened()
            self._has_python = session.start_python(program())
            self._relay = Relay(session) if self._has_python else None
        return self._relay
