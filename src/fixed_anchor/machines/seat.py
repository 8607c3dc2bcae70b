"""What the seat brings with it to every machine that it reaches: the password that was typed, and the connections."""

from __future__ import annotations

import threading
from collections import defaultdict
from collections.abc import Callable, Hashable, Iterable
from pathlib import Path
from typing import Any, Protocol, TypeVar

from fixed_anchor.core.addresses import IPAddress

#: Asks the person for the password of sudo: on the host that is named, with what sudo said if it refused one.
#: ``None`` where there is nobody to ask, or who gives none.
AskPassword = Callable[[str, str | None], str | None]

#: So many connections begin at once through one jump host: sshd drops more at random (MaxStartups, sshd_config(5)).
THROUGH_ONE_JUMP = 8


class Closes(Protocol):
    """Something that is ended with the program."""

    def close(self) -> None: ...


Connected = TypeVar("Connected", bound=Closes)


class Seat:
    """What one run of the program has in common for all hosts; safe to be used by several threads."""

    def __init__(self, ask_password: AskPassword | None = None) -> None:
        self._ask = ask_password
        self._lock = threading.Lock()
        # Its own: somebody may take his time, and nothing else waits for that.
        self._asking = threading.Lock()
        self._password: str | None = None
        self._refuses = False
        self._open: list[Closes] = []
        self._kept: dict[Hashable, Any] = {}
        #: What the operator is to be told when all is done, each with lines to be typed and where they belong.
        self.remarks: dict[str, list[tuple[str, str]]] = {}
        self._jumps: dict[str, threading.Semaphore] = defaultdict(lambda: threading.Semaphore(THROUGH_ONE_JUMP))

    def password(self, host: str, refused: str | None) -> str | None:
        """The password of sudo for ``host``: that which was typed once, unless the host has ``refused`` it."""
        with self._asking:
            if self._ask is None or self._refuses:
                return None
            if refused is not None or self._password is None:
                given = self._ask(host, refused)
                if given is None:
                    # Whoever gives none is not asked again for each host.
                    self._refuses = self._password is None
                    return None
                self._password = given
            return self._password

    def remark(self, text: str, lines: Iterable[tuple[str, str]] = ()) -> None:
        """Notes something that the operator is to be told when all is done; once."""
        with self._lock:
            self.remarks.setdefault(text, list(lines))

    def jump(self, name: str) -> threading.Semaphore:
        """Held while a connection through the jump host ``name`` begins."""
        with self._lock:
            return self._jumps[name]

    def opened(self, one: Closes) -> None:
        """Notes what :meth:`close` is to end."""
        with self._lock:
            self._open.append(one)

    def kept(self, key: Hashable, make: Callable[[], Connected]) -> Connected:
        """What was made for ``key``, the first time that it was asked for; it is ended by :meth:`close`."""
        with self._lock:
            if key not in self._kept:
                self._kept[key] = made = make()
                self._open.append(made)
            found: Connected = self._kept[key]
            return found

    def close(self) -> None:
        """Ends every connection."""
        with self._lock:
            ending = list(self._open)
            self._open.clear()
        for one in ending:
            one.close()


#: Further addresses at which a host may be, each with how it is known; looked up only where it is nowhere else.
OtherPlaces = Callable[[], Iterable[tuple[IPAddress, str]]]


def nowhere_else() -> Iterable[tuple[IPAddress, str]]:
    """Of a host of no plan no further address is known."""
    return ()


class Way:
    """How the plan says that a host is reached: ``rest`` behind the colon of ``reach:``, seen from ``folder``.

    ``name`` is the host's in the plan, and empty where it is of none; ``addresses`` are those it holds by the plan,
    ``macs`` those by which the plan knows it; ``elsewhere`` tells where else it may be.
    """

    def __init__(
        self,
        folder: Path,
        rest: str,
        seat: Seat,
        name: str = "",
        addresses: tuple[IPAddress, ...] = (),
        macs: frozenset[str] = frozenset(),
        elsewhere: OtherPlaces = nowhere_else,
    ) -> None:
        self.elsewhere = elsewhere
        self.folder = folder
        self.rest = rest
        self.seat = seat
        self.name = name
        self.addresses = addresses
        self.macs = macs
