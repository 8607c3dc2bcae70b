"""A session with a Windows machine: programs for its PowerShell go there in base64, and what they say comes back so."""

from __future__ import annotations

import base64
import binascii
import logging
import secrets
import time
from importlib import resources

from fixed_anchor.core.addresses import IPAddress
from fixed_anchor.core.errors import NoAccess, Unreachable, printable
from fixed_anchor.machines.ssh.channel import Channel, ChannelLost, ChannelSilent
from fixed_anchor.machines.ssh.session import FoundAt, own_end
from fixed_anchor.machines.ssh.trouble import NoShell, why_no_session, without_clixml
from fixed_anchor.machines.windows.windows_facts import WindowsFacts, read_facts

_log = logging.getLogger(__name__)

#: Seconds for logging in and for PowerShell to start, which takes its time where it is scanned for viruses.
_LOGIN = 60.0
#: Seconds for the collector, on a machine with many adapters.
COLLECTING = 120.0
#: The characters that cmd.exe takes on a command line.
_COMMAND_LINE = 8191
_MARK = "@MARK@"


def command(mark: str) -> str:
    """What is run there, whether its shell is cmd.exe, PowerShell or another one: all three start a program so."""
    text = resources.files(__package__).joinpath("bootstrap.ps1").read_text("ascii").replace(_MARK, mark)
    lines = (line.strip() for line in text.splitlines())
    program = "\n".join(line for line in lines if line and not line.startswith("#"))
    encoded = base64.b64encode(program.encode("utf-16-le")).decode()
    made = f"powershell -NoProfile -NonInteractive -EncodedCommand {encoded}"
    assert len(made) < _COMMAND_LINE
    return made


def new_mark() -> str:
    """A word that nobody else prints."""
    return f"@{secrets.token_hex(12)}"


class WindowsSession:
    """An open session. ``address`` and ``port`` are the machine's end of the connection.

    Where its language mode is restricted no program can be run; :attr:`restricted` is then all that it tells.
    Raises :class:`NoShell` where no PowerShell answers.
    """

    def __init__(self, host: str, ways: str, channel: Channel, mark: str) -> None:
        self.host, self.ways, self.channel = host, ways, channel
        self._mark = mark
        self.address: IPAddress | None = None
        self.port: int | None = None
        self.restricted: WindowsFacts | None = None
        self._heard = time.monotonic()
        #: The programs that were sent, in their order: one that is known is called by its number.
        self._programs: list[str] = []
        #: Where it was found instead of by its own name.
        self.found_at: FoundAt | None = None
        try:
            self._begin(time.monotonic() + _LOGIN)
        except ChannelLost as lost:
            why = why_no_session(host, ways, lost.status, lost.said, channel.rest())
            none = NoShell(f"{host} runs no PowerShell for us", remedy=f"try `{ways} powershell`")
            raise (none if isinstance(why, NoShell) else why) from None
        except ChannelSilent:
            channel.close()
            raise Unreachable(
                f"{host} let us connect, and its PowerShell said nothing for {_LOGIN:.0f} s",
                remedy=f"try `{ways} powershell`",
            ) from None

    def _begin(self, until: float) -> None:
        while True:
            kind, rest = self._marked(self.channel.line(until))
            if kind == "hello":
                self.address, self.port = own_end(rest)
                return
            if kind == "restricted":
                self.restricted = read_facts(self.channel.line(until), f"what {self.host} told")
                self.channel.close()
                return

    def _marked(self, line: bytes) -> tuple[str, str]:
        """The word behind our mark, and the rest; empty where the line is somebody else's."""
        text = line.decode("utf-8", "replace")
        begin = text.find(f"{self._mark} ")
        if begin < 0:
            return "", ""
        kind, _, rest = text[begin + len(self._mark) + 1 :].partition(" ")
        return kind, rest.strip()

    @property
    def idle(self) -> float:
        """For how many seconds nothing has been asked; the machine ends a session that is idle for five minutes."""
        return time.monotonic() - self._heard

    def ask(self, program: str, seconds: float, *arguments: str) -> bytes:
        """What a program says, which has ``arguments``.

        Raises :class:`NoAccess` where it fails, :class:`Unreachable` where the line is lost.
        """
        until = time.monotonic() + seconds
        try:
            self.channel.write(self._line(program, arguments), until)
            while True:
                kind, status = self._marked(self.channel.line(until))
                if kind == "reply":
                    break
            said = self.channel.line(until).strip()
            while self._marked(self.channel.line(until))[0] != "end":
                pass
            self._heard = time.monotonic()
        except ChannelLost as lost:
            words = printable(" ".join(without_clixml(lost.said).split())[-200:])
            raise Unreachable(
                f"the connection to {self.host} was lost" + (f": {words}" if words else ""), remedy=f"try `{self.ways}`"
            ) from None
        except ChannelSilent:
            self.channel.close()
            raise Unreachable(f"{self.host} did not answer in {seconds:.0f} s") from None
        try:
            answer = base64.b64decode(said, validate=True)
        except binascii.Error:
            raise NoAccess(
                f"the answer of {self.host} makes no sense", remedy="is something printing into it?"
            ) from None
        if status != "0":
            raise NoAccess(f"PowerShell on {self.host} says: {printable(answer.decode('utf-8', 'replace'))[:600]}")
        return answer

    def _line(self, program: str, arguments: tuple[str, ...]) -> bytes:
        if program in self._programs:
            first = f"={self._programs.index(program) + 1}".encode()
        else:
            first = base64.b64encode(program.encode())
            self._programs.append(program)
        # What a host gave may hold anything.
        rest = (base64.b64encode(text.encode("utf-8", "replace")) for text in arguments)
        return b" ".join((first, *rest)) + b"\n"

    def close(self) -> None:
        """Ends the session."""
        self.channel.close()
