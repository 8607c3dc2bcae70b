"""The address by which the operator's own session comes in, if it comes over the network."""

from __future__ import annotations

import os

from fixed_anchor.change.access import Session
from fixed_anchor.core.addresses import IPAddress, parse_address


class OwnSession(Session):
    """This machine's end of the SSH session that the tool runs in, if it runs in one.

    sshd sets SSH_CONNECTION (ssh(1)); sudo and su drop it, so the environment of the
    parents is looked at as well.
    """

    def address(self) -> IPAddress | None:
        return _end(2)

    def port(self) -> int | None:
        text = _words()[3:4]
        return int(text[0]) if text and text[0].isdecimal() else None


def session_peer() -> IPAddress | None:
    """Where that session comes from, or ``None``."""
    return _end(0)


def _end(word: int) -> IPAddress | None:
    words = _words()
    try:
        return parse_address(words[word].removeprefix("::ffff:").partition("%")[0]) if words else None
    except ValueError:
        return None


def _words() -> list[str]:
    """The four of SSH_CONNECTION; none where there is no such session."""
    words = (os.environ.get("SSH_CONNECTION") or _of_parents() or "").split()
    return words if len(words) == 4 else []


def _of_parents() -> str | None:
    pid = os.getppid()
    for _ in range(64):
        if pid <= 1:
            return None
        try:
            with open(f"/proc/{pid}/environ", "rb") as file:
                for item in file.read().split(b"\0"):
                    if item.startswith(b"SSH_CONNECTION="):
                        return item.partition(b"=")[2].decode("ascii", "replace")
            with open(f"/proc/{pid}/stat", "rb") as file:
                pid = int(file.read().rpartition(b")")[2].split()[1])
        except (OSError, ValueError, IndexError):
            return None
    return None
