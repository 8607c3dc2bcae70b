"""Finding the way to a host over SSH: by its own name, else at the addresses that it is to hold."""

from __future__ import annotations

import logging
import time
from collections.abc import Callable
from contextlib import AbstractContextManager, nullcontext
from typing import Generic, TypeVar

from fixed_anchor.change.files import FileText
from fixed_anchor.core.addresses import IPAddress
from fixed_anchor.core.errors import InputError, NoAccess, Unreachable
from fixed_anchor.machines.seat import OtherPlaces
from fixed_anchor.machines.ssh import client
from fixed_anchor.machines.ssh.channel import Channel
from fixed_anchor.machines.ssh.destination import Destination
from fixed_anchor.machines.ssh.errand import Errand
from fixed_anchor.machines.ssh.session import FoundAt, Password, ShellSession
from fixed_anchor.machines.ssh.trouble import HungUp, NoShell
from fixed_anchor.machines.ssh.windows_session import COLLECTING, WindowsSession, command, new_mark
from fixed_anchor.machines.windows.windows_facts import WindowsFacts, plain_mac, read_facts
from fixed_anchor.machines.windows_collected import collector_source

_log = logging.getLogger(__name__)

S = TypeVar("S", ShellSession, WindowsSession)

#: Seconds before each further try where a server hung up before the login: eight sessions may begin at once, and a
#: busy server sends some away.
_AGAIN_AFTER = (1.0, 3.0)


class Connector(Generic[S]):
    """Opens sessions with one destination: by its own name, else by the ``addresses`` it is to hold.

    What runs there, and how its MACs are asked for, the two kinds of session say: :class:`ShellConnector` and
    :class:`WindowsConnector`.

    At those, and where it may be ``elsewhere``, only a machine is taken that has the host's key, and one of its
    ``macs``: machines that were cloned have the same key.
    ``jump`` is held while a connection begins through a jump host of that name.
    """

    def __init__(
        self,
        host: str,
        destination: Destination,
        addresses: tuple[IPAddress, ...],
        macs: frozenset[str],
        elsewhere: OtherPlaces,
        password: Password,
        jump: Callable[[str], AbstractContextManager[object]],
    ) -> None:
        self.host = host
        self.destination = destination
        self.addresses = addresses
        self._macs = macs
        self._elsewhere = elsewhere
        #: Whether the addresses come first: for what is to be decided over a new one.
        self.addresses_first = False
        #: Whether nothing else counts: for what is to be proven.
        self.addresses_only = False
        self.password = password
        self._jump = jump
        self._effective: client.Effective | None = None

    @property
    def ways(self) -> str:
        """What can be typed to try it by hand."""
        port = f"-p {self.destination.port} " if self.destination.port else ""
        user = f"{self.destination.user}@" if self.destination.user else ""
        return f"ssh {port}{user}{self.destination.name}"

    @property
    def proof(self) -> str:
        """By what a machine at one of its addresses is known to be the host."""
        return "its host key and its MAC" if self._macs else "its host key alone: the plan names no MAC of it"

    # --- what a kind of session says of itself -------------------------------------------

    def _command(self) -> str:
        """What is run there."""
        raise NotImplementedError

    def _begun(self, channel: Channel, early: Errand | None) -> S:
        """The session that begins on a channel."""
        raise NotImplementedError

    def _macs_there(self, session: S) -> frozenset[str]:
        """The MACs of the machine behind a session."""
        raise NotImplementedError

    # --- the ways to it ------------------------------------------------------------------

    def open(self, early: Errand | None = None) -> S:
        """A session, asked for ``early`` at once.

        Raises :class:`NoAccess`; :class:`Unreachable` where nothing answers at any address.
        """
        ways: list[IPAddress | None] = [*self.addresses]
        if not self.addresses_only:
            ways.insert(len(ways) if self.addresses_first else 0, None)
        failed: dict[IPAddress | None, NoAccess] = {}
        for address in ways:
            try:
                return self._by_name(early) if address is None else self._by_address(address)
            except NoShell:
                # It is there, and another kind of session may do.
                raise
            except NoAccess as error:
                if not isinstance(error, Unreachable) and (address is None or address is ways[0]):
                    raise
                failed[address] = error
        if not self.addresses_only:
            for address, how in self._elsewhere():
                if address in failed:
                    continue
                try:
                    return self._by_address(address, how)
                except NoShell:
                    raise
                except NoAccess as error:
                    failed[address] = error
        raise self._not_found(failed)

    def _not_found(self, failed: dict[IPAddress | None, NoAccess]) -> Unreachable:
        """That it is nowhere: who answers at its address, and is not it, is worth knowing; else where it was sought."""
        by_name = failed.pop(None, None)
        others = [f"; at {a}: {e.what}" for a, e in failed.items() if not isinstance(e, Unreachable)]
        silent = ", ".join(str(a) for a, e in failed.items() if isinstance(e, Unreachable))
        if by_name is None:
            what = f"{self.host} does not answer a new connection to {silent or 'its address'}"
            return Unreachable(what + "".join(others), remedy=f"try `{self.ways}`")
        nor = f"; nor at {silent}" if silent else ""
        return Unreachable(by_name.what + nor + "".join(others), remedy=by_name.remedy)

    def _by_name(self, early: Errand | None) -> S:
        return self._session(client.session_argv(self.destination, self.effective().jump, self._command()), early)

    def _by_address(self, address: IPAddress, how: str = "by its plan") -> S:
        last: NoAccess | None = None
        for known_as in self.effective().known_as():
            try:
                jump, command = self.effective().jump, self._command()
                session = self._session(
                    client.session_at_argv(self.destination, jump, address, known_as, command), None
                )
            except (Unreachable, NoShell):
                raise
            except NoAccess as error:
                # Off port 22 its certificate's authority is known by the plain name.
                last = error
                continue
            self._refuse_another(session, address)
            session.found_at = FoundAt(address, known_as, how)
            return session
        assert last is not None
        raise last

    def _refuse_another(self, session: S, address: IPAddress) -> None:
        """Raises :class:`NoAccess` where what answers at ``address`` has none of the host's MACs."""
        if not self._macs:
            return
        there = self._macs_there(session)
        if not self._macs & there:
            session.close()
            shown = ", ".join(sorted(there - {"00:00:00:00:00:00", ""})) or "none"
            raise NoAccess(
                f"another machine answers at {address}, with the host key of {self.host}: its MACs are {shown}",
                remedy="was it cloned, and its key not made anew? Take the address away from it",
            )

    def effective(self) -> client.Effective:
        """What the user's configuration says of the destination."""
        if self._effective is None:
            self._effective = client.effective(self.destination)
        return self._effective

    def _session(self, argv: list[str], early: Errand | None) -> S:
        for pause in (*_AGAIN_AFTER, None):
            try:
                return self._one_session(argv, early)
            except HungUp as error:
                if pause is None:
                    raise
                _log.info("%s; once more in %.0f s", error.what, pause)
                time.sleep(pause)
        raise AssertionError

    def _one_session(self, argv: list[str], early: Errand | None) -> S:
        jump = self.effective().jump
        with self._jump(jump) if jump else nullcontext():
            return self._begun(Channel(argv), early)


class ShellConnector(Connector[ShellSession]):
    """For hosts with a ``/bin/sh``."""

    def _command(self) -> str:
        return client.BOOTSTRAP

    def _begun(self, channel: Channel, early: Errand | None) -> ShellSession:
        return ShellSession(self.host, self.ways, channel, self.password, early)

    def _macs_there(self, session: ShellSession) -> frozenset[str]:
        errand = Errand()
        errand.glob("/sys/class/net/*/address")
        files = session.ask(errand).files.values()
        return frozenset(file.text.strip().lower() for file in files if isinstance(file, FileText))


class WindowsConnector(Connector[WindowsSession]):
    """For Windows machines, by their PowerShell. What the collector tells of one is kept in :attr:`facts`."""

    facts: WindowsFacts | None = None
    _mark = ""

    def _command(self) -> str:
        self._mark = new_mark()
        return command(self._mark)

    def _begun(self, channel: Channel, early: Errand | None) -> WindowsSession:
        return WindowsSession(self.host, self.ways, channel, self._mark)

    def _macs_there(self, session: WindowsSession) -> frozenset[str]:
        self.facts = collected_over(session)
        return frozenset(mac for a in self.facts.adapters if (mac := plain_mac(a.mac)) is not None)


def collected_over(session: WindowsSession) -> WindowsFacts:
    """What the collector tells over a session; of a machine in a restricted mode that alone. Raises ``NoAccess``."""
    if session.restricted is not None:
        return session.restricted
    try:
        return read_facts(session.ask(collector_source(), COLLECTING), f"what {session.host} told")
    except InputError as error:
        raise NoAccess(f"the answer of {session.host} makes no sense: {error.what}") from None
