"""What makes a host this one and no other: machine-id, SSH host keys, DHCP unique identifier."""

from __future__ import annotations

import re
from collections.abc import Iterator

from fixed_anchor.core.config import Place
from fixed_anchor.core.errors import NoAccess
from fixed_anchor.core.survey import Identity
from fixed_anchor.machines.readable import Readable

#: machine-id(5).
MACHINE_ID = "/etc/machine-id"
#: The public halves alone, sshd(8).
HOST_KEYS = "/etc/ssh/ssh_host_*_key.pub"
#: Where lease clients keep a DUID (RFC 8415, section 11) of their own: dhclient.leases(5), dhcpcd(8).
DUIDS = ("/var/lib/dhcp/dhclient*.leases", "/var/lib/dhcpcd/duid", "/etc/dhcpcd.duid")
#: What has to be read to tell.
FILES = (MACHINE_ID, HOST_KEYS, *DUIDS)

_DUID = re.compile(r'default-duid "((?:[^"\\]|\\.)*)"')


def identities_of(machine: Readable) -> tuple[Identity, ...]:
    """All of them that may be read; a machine-id that is still to be made is none."""
    return tuple(_found(machine))


def _found(machine: Readable) -> Iterator[Identity]:
    for path, line, text in _lines(machine, MACHINE_ID):
        if re.fullmatch(r"[0-9a-f]{32}", text):
            yield Identity("machine-id", text, Place(path, line))
    for path, line, text in _lines(machine, HOST_KEYS):
        words = text.split()
        if len(words) > 1:
            yield Identity("SSH host key", f"{words[0]} {words[1]}", Place(path, line))
    for pattern in DUIDS:
        for path, line, text in _lines(machine, pattern):
            found = _DUID.search(text)
            if found:
                yield Identity("DUID", found[1], Place(path, line))
            elif re.fullmatch(r"[0-9a-fA-F]{2}(:[0-9a-fA-F]{2})+", text):
                yield Identity("DUID", text.lower(), Place(path, line))


def _lines(machine: Readable, pattern: str) -> Iterator[tuple[str, int, str]]:
    """The lines of the files that match, each with its path and number. What may not be read says nothing."""
    try:
        paths = machine.glob(pattern)
    except NoAccess:
        return
    for path in paths:
        try:
            file = machine.read(path)
        except NoAccess:
            continue
        for number, line in enumerate(file.text.splitlines() if file is not None else (), 1):
            yield path, number, line.strip()
