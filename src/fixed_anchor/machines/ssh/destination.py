"""Where a host is reached over SSH, as the plan says it: ``[user@]name[:port]``."""

from __future__ import annotations

import re

import msgspec

from fixed_anchor.core.addresses import parse_address
from fixed_anchor.core.errors import InputError

_EXPECTED = "ssh:[user@]name[:port], or ssh:[user@][ipv6]:port"
#: What no name of a host or user has: blanks, control characters, and what a configuration file would expand.
_NEVER = re.compile(r"[\s\x00-\x1f\x7f%\"'`$;&|<>(){}\\,]")


class Destination(msgspec.Struct, frozen=True):
    """A host for the OpenSSH client. ``name`` may be any alias of the user's own configuration.

    ``user`` and ``port`` are ``None`` where that configuration says them.
    """

    name: str
    user: str | None = None
    port: int | None = None

    def __str__(self) -> str:
        name = f"[{self.name}]" if ":" in self.name else self.name
        return (f"{self.user}@" if self.user else "") + name + (f":{self.port}" if self.port else "")


def parse_destination(text: str) -> Destination:
    """``[user@]name[:port]``, with an IPv6 address in brackets where a port follows. Raises :class:`InputError`."""
    user, at, rest = text.rpartition("@")
    if at and not user:
        raise InputError(f"ssh:{text} names no user before the @", expected=_EXPECTED)
    name, port = _name_and_port(text, rest)
    for what, word in (("user", user), ("name", name)):
        # ssh(1) would take it for an option, which may name a program to run.
        if word.startswith("-"):
            raise InputError(f"the {what} in ssh:{text} begins with `-`", expected=_EXPECTED)
        # The zone of a link-local address (RFC 4007, section 11) is the one place for a percent sign.
        plain = word.replace("%", "", 1) if ":" in word else word
        if _NEVER.search(plain) or "@" in word:
            raise InputError(f"{word!r} in ssh:{text} is no {what}", expected=_EXPECTED)
    return Destination(name, user or None, port)


def _name_and_port(text: str, rest: str) -> tuple[str, int | None]:
    if rest.startswith("["):
        name, bracket, behind = rest[1:].partition("]")
        if not bracket or (behind and not behind.startswith(":")):
            raise InputError(f"the brackets in ssh:{text} do not close around an address", expected=_EXPECTED)
        port = behind[1:] if behind else None
    elif rest.count(":") > 1:
        name, port = rest, None
    else:
        name, colon, behind = rest.partition(":")
        port = behind if colon else None
    if ":" in name:
        try:
            parse_address(name.partition("%")[0])
        except ValueError:
            raise InputError(f"{name!r} in ssh:{text} is no IPv6 address", expected=_EXPECTED) from None
    if not name:
        raise InputError(f"ssh:{text} names no host", expected=_EXPECTED)
    if port is None:
        return name, None
    if not port.isascii() or not port.isdecimal() or not 0 < int(port) < 65536:
        raise InputError(f"{port!r} in ssh:{text} is no port", expected="1 to 65535")
    return name, int(port)
