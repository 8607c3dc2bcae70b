"""What is wrong where a session over SSH does not come about: the one clear error, with the next step."""

from __future__ import annotations

import re
from xml.sax.saxutils import unescape

from fixed_anchor.core.errors import NoAccess, Unreachable, printable

#: ssh(1) ends so for every error of its own.
_OF_THE_CLIENT = 255

#: How the client says that nothing answers, or not as a server does.
_UNREACHABLE = re.compile(
    r"Connection refused|Connection timed out|Operation timed out|No route to host|Network is unreachable"
    r"|Host is down|Connection reset|Connection closed|Broken pipe|not responding|banner exchange"
    r"|timed out during|Connection to \S+ closed|open failed|kex_exchange_identification|ssh_dispatch_run_fatal",
    re.IGNORECASE,
)


#: How it says that a server was there and hung up before the login, as one does with too many at once (MaxStartups,
#: sshd_config(5)); at our log level mostly with no word at all. Not where a jump host says that it got no further.
_HUNG_UP = re.compile(r"Connection (closed|reset) by|kex_exchange_identification", re.IGNORECASE)
_NOT_THERE = re.compile(
    r"refused|timed out|No route|unreachable|Host is down|open failed|not responding", re.IGNORECASE
)


class HungUp(Unreachable):
    """A server took the connection and ended it before the login: another try may do."""


class NoShell(NoAccess):
    """A host let us log in, and runs no ``/bin/sh`` for us: it may be another system."""


def why_no_session(host: str, ways: str, status: int, message: str, printed: bytes) -> NoAccess:
    """Why no session with ``host`` came about: ``ways`` is what can be typed to try it by hand.

    ``status`` is how the client ended, ``said`` its standard error, and ``printed`` what came from the host instead
    of an answer. Raises nothing.
    """
    message = without_clixml(message)
    words = " ".join(message.split()).rstrip(".")
    if status == _OF_THE_CLIENT:
        return _of_the_client(host, ways, message, words)
    shown = printable(" ".join(printed.decode("utf-8", "replace").split()))[:200]
    if status in (126, 127):
        return NoShell(f"{host} runs no /bin/sh for us: {words or shown}", remedy="is its shell a restricted one?")
    if re.search(r"restricted|not allowed|rbash", words + shown, re.IGNORECASE):
        return NoShell(
            f"{host} gives a restricted shell: {printable(words) or shown}",
            remedy="reach it as a user who may run /bin/sh",
        )
    said_there = shown or printable(words) or f"status {status}"
    return NoShell(
        f"{host} let us log in and ran something else instead: {said_there}",
        remedy="the account may have no shell (nologin), or its key or sshd forces a command of its own: reach it as "
        "another user",
    )


def _of_the_client(host: str, ways: str, message: str, words: str) -> NoAccess:
    if "IDENTIFICATION HAS CHANGED" in message:
        where = re.search(r"Offending \S+ key in (\S+):(\d+)", message)
        place = f" ({where[1]}, line {where[2]})" if where else ""
        return NoAccess(
            f"{host} shows another host key than the one that is known{place}: it may be another machine",
            remedy="compare its fingerprint at its console (ssh-keygen -lf /etc/ssh/ssh_host_ed25519_key.pub); only "
            "where it was installed anew take the old one away with ssh-keygen -R",
        )
    if "revoked" in words:
        return NoAccess(f"{host} shows a host key that is marked as revoked", remedy="do not connect; find out why")
    if "Host key verification failed" in words or "host key is known for" in words:
        return NoAccess(
            f"the host key of {host} is not known here, and nobody would look at it",
            remedy=f"log in once by hand with `{ways}`, and compare the fingerprint",
        )
    if "Permission denied" in words or "Too many authentication failures" in words:
        return NoAccess(
            f"{host} does not let us log in: {_last(message)}",
            remedy=f"a key that an agent holds, or that has no passphrase, must do: try `{ways}`. On a Windows host "
            "the keys of administrators are those in %ProgramData%\\ssh\\administrators_authorized_keys alone",
        )
    if "Could not resolve hostname" in words:
        return Unreachable(
            f"{host} cannot be found: {_last(message)}", remedy="is its name right, and DNS working here?"
        )
    if re.search(r"Bad (configuration|owner|permission)|bad configuration|keyword|extra arguments", words):
        return NoAccess(f"ssh cannot read its configuration: {_last(message)}", remedy=f"try `{ways}`")
    if not words or (_HUNG_UP.search(words) and not _NOT_THERE.search(words)):
        what = f"{host} is not reached: it ends the connection before the login"
        return HungUp(what + (f": {_last(message)}" if words else ""), remedy=f"try `{ways}`")
    if _UNREACHABLE.search(words):
        return Unreachable(f"{host} is not reached: {_last(message)}", remedy=f"try `{ways}`")
    return NoAccess(f"{host} is not reached: {_last(message)}", remedy=f"try `{ways}`")


def without_clixml(message: str) -> str:
    """What PowerShell says on its standard error, where it says it as XML of its own: the texts of its errors alone."""
    before, mark, rest = message.partition("#< CLIXML")
    if not mark:
        return message
    texts = re.findall(r'<S S="(?:Error|error)">(.*?)</S>', rest, re.DOTALL)
    return before + "".join(re.sub(r"_x000[DA]_", "\n", unescape(text)) for text in texts)


def _last(message: str) -> str:
    """The last line that says something; a banner may stand above it."""
    lines = [line.strip() for line in message.splitlines() if line.strip()]
    return printable(lines[-1])[:300] if lines else ""
