"""What ifcfg files say beside the addressing of an interface, with their files of routes and rules."""

from __future__ import annotations

import re
from collections.abc import Iterator

from fixed_anchor.change.files import Files
from fixed_anchor.core.addresses import addresses_in
from fixed_anchor.core.aside import NAMES, NOT_AT_BOOT, OTHER_TABLE, PORT, Aside
from fixed_anchor.core.config import LinkFacts, Place
from fixed_anchor.formats.ifcfg_read import FOLDER
from fixed_anchor.text.lines import by_newline
from fixed_anchor.text.shell import ShellFile

#: What makes a port of an interface; ``MASTER`` only with ``SLAVE=yes``.
_MASTERS = ("BRIDGE", "TEAM_MASTER", "MASTER", "BRIDGE_UUID", "TEAM_MASTER_UUID", "MASTER_UUID",
            "OVS_BRIDGE")  # fmt: skip
#: How assignments begin that say addresses of the interface itself, its ways out and its resolvers.
_ADDRESSING = ("IPADDR", "IPV6ADDR", "GATEWAY", "IPV6_DEFAULTGW", "DNS", "NETMASK", "NETWORK", "BROADCAST")


def asides_of(files: Files, main: ShellFile, link: LinkFacts) -> Iterator[Aside]:
    """What the file of an interface, and those of its routes and rules, say beside its configuration."""
    path = main.file.path
    if not main.yes("ONBOOT", True):
        assignment = main.all("ONBOOT")[-1]
        yield Aside(NOT_AT_BOOT, Place(path, assignment.first + 1), f"ONBOOT={assignment.value}", link.name)
    for name in _MASTERS:
        if main.get(name) and (not name.startswith("MASTER") or main.yes("SLAVE", False)):
            assignment = main.all(name)[-1]
            text = f"{name}={assignment.value}"
            yield Aside(PORT, Place(path, assignment.first + 1), text, link.name, of=assignment.value)
            break
    for assignment in main.assignments:
        text = f"{assignment.name}={assignment.value}"
        place = Place(path, assignment.first + 1)
        if assignment.name in ("IPV4_ROUTE_TABLE", "IPV6_ROUTE_TABLE") and assignment.value not in ("", "0", "254"):
            yield Aside(OTHER_TABLE, place, text, link.name)
        named = addresses_in(assignment.value)
        if named and not assignment.name.startswith(_ADDRESSING):
            yield Aside(NAMES, place, text, link.name, named)
    for kind, pattern in (("route", r"\bsrc\s+(\S+)"), ("rule", r"\b(?:from|to)\s+(\S+)")):
        for suffix in ("", "6"):
            file = files.get(f"{FOLDER}{kind}{suffix}-{link.name}")
            for number, line in enumerate(by_newline(file.text) if file is not None else (), 1):
                named = addresses_in(" ".join(re.findall(pattern, line))) if not line.lstrip().startswith("#") else ()
                if named and file is not None:
                    yield Aside(NAMES, Place(file.path, number), line.strip(), link.name, named)
