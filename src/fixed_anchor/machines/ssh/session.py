"""A session with a host: begun, given root where that can be, and then asked errand after errand."""

from __future__ import annotations

import logging
import secrets
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import NamedTuple

from fixed_anchor.core.addresses import IPAddress, parse_address
from fixed_anchor.core.errors import Unreachable, printable
from fixed_anchor.machines.carried_lines import as_lines
from fixed_anchor.machines.ssh.channel import Channel, ChannelLost, ChannelSilent
from fixed_anchor.machines.ssh.errand import Errand, Reply, opening, read_reply
from fixed_anchor.machines.ssh.trouble import why_no_session

_log = logging.getLogger(__name__)

#: Seconds for everything between the connection and the first answer: logging in, a slow profile, sudo.
_LOGIN = 60.0
#: Seconds for what takes no time of its own.
_ERRAND = 60.0
#: Seconds without a question after which a session is made anew: half of what the host waits.
IDLE = 150.0
#: So often a password is tried.
_TRIES = 3

#: Tells the password of sudo, given what sudo said of the last one; ``None`` where nobody tells it.
Password = Callable[[str | None], str | None]


class FoundAt(NamedTuple):
    """An address at which a host was found, the name by which its key is known, and how the address was known."""

    address: IPAddress
    known_as: str
    how: str


class ShellSession:
    """An open session. ``uid`` is as whom the commands run there, ``why_not_root`` what keeps it from being root.

    ``address`` and ``port`` are the host's end of the connection.
    """

    def __init__(self, host: str, ways: str, channel: Channel, password: Password, early: Errand | None = None) -> None:
        """``early`` is an errand that only looks, and is asked for before anybody has answered: a round trip less."""
        self.host = host
        self.ways = ways
        self.channel = channel
        self.mark = f"@{secrets.token_hex(12)}"
        self.name = host
        self.uid = -1
        self.why_not_root = ""
        self.address: IPAddress | None = None
        self.port: int | None = None
        #: Whether its shell is a guest on a Windows machine, by its environment.
        self.may_be_windows = False
        #: Where it was found instead of by its own name.
        self.found_at: FoundAt | None = None
        self._heard = time.monotonic()
        self._asked = 0 if early is None else 1
        self._early = early
        self._begin(password)

    def _begin(self, password: Password) -> None:
        until = time.monotonic() + _LOGIN
        printed = bytearray()
        tries, refused = 0, None
        given: str | None = None
        try:
            first = self._early.encode(1) if self._early is not None else b""
            self.channel.write(opening(self.mark) + first, until)
            while True:
                line = self.channel.line(until)
                kind, rest = self._marked(line, anywhere=True)
                if kind == "password":
                    tries += 1
                    given = password(refused) if tries <= _TRIES else None
                    # Somebody at the keyboard takes his time.
                    until = time.monotonic() + _LOGIN
                    refused = rest
                    self._answer(given, until)
                    self._say_why(given, tries, rest)
                elif kind == "again":
                    secret = _line(given) + b"\n" if rest == "password" and given is not None else b""
                    self.channel.write(secret + first, until)
                elif kind == "name":
                    self.name = rest or self.name
                elif kind == "session":
                    self.address, self.port = own_end(rest)
                elif kind == "windows":
                    self.may_be_windows = True
                elif kind == "why":
                    self.why_not_root = self.why_not_root or rest
                elif kind == "hello":
                    self.uid = int(rest) if rest.isdecimal() else -1
                    return
                else:
                    printed += line + b"\n"
        except ChannelLost as lost:
            printed += self.channel.rest()
            raise why_no_session(self.host, self.ways, lost.status, lost.said, bytes(printed)) from None
        except ChannelSilent:
            self.channel.close()
            raise Unreachable(
                f"{self.host} let us connect, and said nothing for {_LOGIN:.0f} s",
                remedy=f"does a profile there wait for something? Try `{self.ways} true`",
            ) from None

    def _say_why(self, given: str | None, tries: int, message: str) -> None:
        if given is None:
            wrong = "its sudo did not take the password" if tries > 1 else "its sudo wants a password"
            self.why_not_root = f"{wrong} ({printable(message)})" if tries > 1 else wrong

    def _answer(self, given: str | None, until: float) -> None:
        line = _line(given) if given is not None else b""
        if given is None or b"\n" in line or b"\0" in line:
            self.channel.write(f"{self.mark} none\n".encode(), until)
        else:
            self.channel.write(f"{self.mark} password\n".encode() + line + b"\n", until)

    def _marked(self, line: bytes, anywhere: bool = False) -> tuple[str, str]:
        """The word behind our mark at the beginning of a line, and the rest; empty where it is somebody else's.

        ``anywhere`` also behind what a profile left without a line end.
        """
        text = line.decode("utf-8", "replace")
        begin = text.find(f"{self.mark} ")
        if begin < 0 or (begin > 0 and not anywhere):
            return "", ""
        kind, _, rest = text[begin + len(self.mark) + 1 :].partition(" ")
        return kind, rest.strip()

    @property
    def idle(self) -> float:
        """For how many seconds nothing has been asked; the host ends a session that is idle for five minutes."""
        return time.monotonic() - self._heard

    def ask(self, errand: Errand) -> Reply:
        """Sends an errand and returns the answer. Raises :class:`Unreachable` where the connection is lost."""
        is_sent = errand is self._early
        self._early = None
        self._asked += 0 if is_sent else 1
        number = self._asked
        until = time.monotonic() + _ERRAND + errand.seconds
        lines: list[bytes] = []
        with self._lost(_ERRAND + errand.seconds):
            if not is_sent:
                self.channel.write(errand.encode(number), until)
            while True:
                line = self.channel.line(until)
                kind, rest = self._marked(line)
                if kind == "reply" and rest == str(number):
                    self._heard = time.monotonic()
                    return read_reply(lines, self.mark)
                lines.append(line)

    # --- a program for Python, which has the connection to itself ------------------------

    def start_python(self, text: str) -> bool:
        """Starts a Python program there, which then reads and writes; false where there is no Python."""
        until = time.monotonic() + _ERRAND
        with self._lost():
            body = "".join(f"{line}\n" for line in as_lines(text))
            self.channel.write(f"python\n{body}.\n".encode(), until)
            while True:
                kind, _ = self._marked(self.channel.line(until))
                if kind in ("python", "no-python"):
                    return kind == "python"

    def python_has_ended(self) -> None:
        """Waits until it has, after it was told to; what it still said is passed over."""
        until = time.monotonic() + _ERRAND
        with self._lost():
            while self._marked(self.channel.line(until), anywhere=True)[0] != "python-ended":
                pass

    def write(self, data: bytes, until: float) -> None:
        """Sends bytes to the program. Raises :class:`Unreachable`."""
        self._heard = time.monotonic()
        with self._lost():
            self.channel.write(data, until)

    def exactly(self, count: int, until: float) -> bytes:
        """The next bytes from the program. Raises :class:`Unreachable`."""
        with self._lost():
            return self.channel.exactly(count, until)

    def has_something(self, until: float) -> bool:
        """Whether the program says anything until then. Raises :class:`Unreachable`."""
        with self._lost():
            return self.channel.has_something(until)

    @contextmanager
    def _lost(self, seconds: float = _ERRAND) -> Iterator[None]:
        """Tells of a connection that was lost, or of a host that says nothing, as an operator reads it."""
        try:
            yield
        except ChannelLost as lost:
            message = " ".join(lost.said.split())[-200:]
            raise Unreachable(
                f"the connection to {self.host} was lost" + (f": {printable(message)}" if message else ""),
                remedy=f"try `{self.ways}`",
            ) from None
        except ChannelSilent:
            self.channel.close()
            raise Unreachable(f"{self.host} did not answer in {seconds:.0f} s") from None

    def close(self) -> None:
        """Ends the session."""
        self.channel.close()


def _line(typed: str) -> bytes:
    return typed.encode("utf-8", "surrogateescape")


def own_end(text: str) -> tuple[IPAddress | None, int | None]:
    """The host's address and port in SSH_CONNECTION, ssh(1)."""
    words = text.split()
    try:
        address = parse_address(words[2].removeprefix("::ffff:").partition("%")[0]) if len(words) == 4 else None
        return address, int(words[3]) if address is not None else None
    except ValueError:
        return None, None
