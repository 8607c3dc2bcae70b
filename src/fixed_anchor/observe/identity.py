"""What makes a host this one and no other: machine-id, SSH host keys, DHCP unique identifier."""

from __future__ import annotations

import re
from collections.abc import Iterator

from fixed_anchor.core.config import Place
from fixed_anchor.core.survey import Identity
from fixed_anchor.machines.readable import Readable
from fixed_anchor.observe.permitted import Permitted

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
    return tuple(_found(Permitted(machine)))


def _found(files: Permitted) -> Iterator[Identity]:
    for path, line, text in files.lines(MACHINE_ID):
        if re.fullmatch(r"[0-9a-f]{32}", text):
            yield Identity("machine-id", text, Place(path, line))
    for path, line, text in files.lines(HOST_KEYS):
        words = text.split()
        if len(words) > 1:
            yield Identity("SSH host key", f"{words[0]} {words[1]}", Place(path, line))
    for pattern in DUIDS:
        for path, line, text in files.lines(pattern):
            found = _DUID.search(text)
            if found:
                yield Identity("DUID", found[1], Place(path, line))
            elif re.fullmatch(r"[0-9a-fA-F]{2}(:[0-9a-fA-F]{2})+", text):
                yield Identity("DUID", text.lower(), Place(path, line))
