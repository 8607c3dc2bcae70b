"""The argument lists of the user's OpenSSH client, ssh(1)."""

from __future__ import annotations

import logging
import shutil
import subprocess

import msgspec

from fixed_anchor.core.addresses import IPAddress
from fixed_anchor.core.errors import NoAccess
from fixed_anchor.machines.ssh.destination import Destination

_log = logging.getLogger(__name__)

#: Seconds until a server that is not there, or accepts and says nothing, is given up. Behind a jump host that also
#: covers the whole connection to the jump host, and eight may begin there at once.
CONNECT_TIMEOUT = 8
THROUGH_JUMP_TIMEOUT = 24
_OPTIONS = (
    # What an older client does not know yet.
    "IgnoreUnknown=SessionType,StdinNull,ForkAfterAuthentication",
    # Nobody is asked: what goes on here must not stand in front of a hidden prompt.
    "BatchMode=yes",
    # A peer that is gone is noticed in 3 to 4 s.
    "ServerAliveInterval=1",
    "ServerAliveCountMax=3",
    # A user's own configuration may want these for a session at a terminal.
    "ClearAllForwardings=yes",
    "ForwardX11=no",
    "PermitLocalCommand=no",
    "RemoteCommand=none",
    "RequestTTY=no",
    "SessionType=default",
    "StdinNull=no",
    "ForkAfterAuthentication=no",
    "LogLevel=ERROR",
    # Of a connection that is shared nobody would know which address it goes to.
    "ControlMaster=no",
    "ControlPath=none",
)

#: What the host's login shell runs, whichever that is: it reads a program up to its end mark, and becomes that. Before
#: it come empty lines, in case that a profile reads some. `exec` leaves no shell behind whose traps could print.
BOOTSTRAP = (
    "exec /bin/sh -c '"
    'LC_ALL=C; export LC_ALL; nl=$(printf "\\nx"); nl=${nl%x}; text=; '
    'while IFS= read -r line; do case $line in "fixed-anchor "*) break ;; esac; done; mark=${line#* }; '
    'while IFS= read -r line && [ "$line" != "end $mark" ]; do text=$text$line$nl; done; '
    'exec /bin/sh -c "$text" fixed-anchor "$mark" "${SSH_CONNECTION-}" "$text"'
    "'"
)


class Effective(msgspec.Struct, frozen=True):
    """What the user's configuration makes of a destination, as ``ssh -G`` tells it."""

    hostname: str
    port: int
    alias: str | None = None
    #: The jump host or proxy command by which it is reached; empty without one.
    jump: str = ""
    #: The files that know host keys, the user's own first.
    known_hosts: tuple[str, ...] = ()

    def known_as(self) -> tuple[str, ...]:
        """The names by which known_hosts has its key, the likeliest first; sshd(8).

        Off port 22 a plain key stands there as ``[name]:port``, the authority of a certificate with the plain name.
        """
        if self.alias is not None:
            return (self.alias,)
        return (self.hostname,) if self.port == 22 else (f"[{self.hostname}]:{self.port}", self.hostname)


def _program() -> str:
    found = shutil.which("ssh")
    if found is None:
        raise NoAccess("there is no ssh on this machine", remedy="install the OpenSSH client")
    return found


def _whom(destination: Destination) -> list[str]:
    words = ["-p", str(destination.port)] if destination.port is not None else []
    words += ["-l", destination.user] if destination.user is not None else []
    return [*words, "--", destination.name]


def effective(destination: Destination) -> Effective:
    """What ``ssh -G`` says of ``destination``. Raises :class:`NoAccess` where the configuration cannot be read."""
    argv = [_program(), "-G", *_whom(destination)]
    try:
        done = subprocess.run(
            argv, stdin=subprocess.DEVNULL, capture_output=True, text=True, errors="replace", timeout=20, check=False
        )
    except subprocess.TimeoutExpired:
        raise NoAccess(f"`ssh -G {destination.name}` did not end", remedy="look at your SSH configuration") from None
    if done.returncode != 0:
        why = " ".join(done.stderr.split()) or f"status {done.returncode}"
        raise NoAccess(f"ssh cannot read its configuration: {why}", remedy=f"try `ssh -G {destination.name}`")
    settings: dict[str, str] = {}
    for line in done.stdout.splitlines():
        key, _, value = line.partition(" ")
        settings.setdefault(key, value.strip())
    jump = next((settings[k] for k in ("proxyjump", "proxycommand") if settings.get(k, "none") != "none"), "")
    port = settings.get("port", "22")
    files = " ".join(settings.get(key, "") for key in ("userknownhostsfile", "globalknownhostsfile"))
    return Effective(
        settings.get("hostname", destination.name),
        int(port) if port.isdecimal() else 22,
        settings.get("hostkeyalias"),
        jump,
        tuple(files.split()),
    )


def session_argv(destination: Destination, jump: str, command: str = BOOTSTRAP) -> list[str]:
    """The client with a session on ``destination``, which is reached through ``jump`` where that is not empty.

    It is a connection of its own, whatever the user's configuration shares: everything goes over this one session, at
    one round trip an errand, and there is no master whose socket could be left behind.
    """
    return _argv(destination, jump, [], command)


def session_at_argv(
    destination: Destination, jump: str, address: IPAddress, known_as: str, command: str = BOOTSTRAP
) -> list[str]:
    """The same by way of ``address``, where only the machine is accepted whose key is ``known_as``.

    User, port, keys and jump host stay those of the destination.
    """
    strict = ["StrictHostKeyChecking=yes", "CheckHostIP=no", f"HostKeyAlias={known_as}"]
    return _argv(destination, jump, [f"HostName={address}", *strict], command)


def trial_argv(destination: Destination, jump: str) -> list[str]:
    """A session that ends at once, of which the client tells with which keys it came about; see `alone.py`."""
    argv = _argv(destination, jump, [])
    # Of an option given twice the first counts, and jump hosts are asked to tell as well.
    return [argv[0], "-v", *argv[1:]]


def _argv(destination: Destination, jump: str, more: list[str], command: str = BOOTSTRAP) -> list[str]:
    words = [_program(), "-T", "-e", "none"]
    seconds = THROUGH_JUMP_TIMEOUT if jump else CONNECT_TIMEOUT
    for option in (*_OPTIONS, f"ConnectTimeout={seconds}", *more):
        words += ["-o", option]
    argv = [*words, *_whom(destination), command]
    _log.info("%s", " ".join(argv[:-1]))
    return argv
