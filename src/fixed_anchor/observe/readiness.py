"""What tells whether a machine can be changed now: what is at work, what carries the root, and what boots it."""

from __future__ import annotations

import json
import re
from collections.abc import Iterator

from fixed_anchor.core.addresses import IPAddress, parse_address
from fixed_anchor.core.readiness import CarriesRoot, Readiness
from fixed_anchor.daemons import busy_patterns, units
from fixed_anchor.machines.readable import Readable
from fixed_anchor.observe.lease import PROCESSES

_NETWORK_FILE_SYSTEMS = ("nfs", "nfs4", "cifs", "smb3", "ceph", "glusterfs", "afs")
_JOBS = ("systemctl", "list-jobs", "--no-legend", "--plain")
_ISCSI = "/sys/class/iscsi_connection"


def readiness(machine: Readable, boots: str) -> Readiness:
    """The facts at this moment. ``boots`` is what boots the machine, empty where that is nothing known."""
    return Readiness(tuple(_busy(machine)), tuple(_carry_root(machine)), boots)


def _busy(machine: Readable) -> Iterator[str]:
    patterns = [re.compile(pattern) for pattern in busy_patterns()]
    for line in machine.run(PROCESSES).out.splitlines():
        if any(pattern.search(line.strip()) for pattern in patterns):
            yield line.strip()
    jobs = machine.run(_JOBS)
    for line in jobs.out.splitlines() if jobs.good else ():
        words = line.split()
        if len(words) >= 4 and words[1] in units().values():
            yield f"systemd has a job: {words[2]} {words[1]} ({words[3]})"


def _carry_root(machine: Readable) -> Iterator[CarriesRoot]:
    """By which interface the root file system comes in, if it comes over the network."""
    for server, why in root_servers(machine):
        try:
            address: IPAddress = parse_address(server)
        except ValueError:
            yield CarriesRoot(None, why, f"{server!r} is no address")
            continue
        ran = machine.run(("ip", "-j", "route", "get", str(address)))
        if not ran.good:
            asked = "`ip route get` failed" if ran.known else "nobody asked for its route"
            yield CarriesRoot(None, why, f"{asked}: {address}")
            continue
        try:
            routes = json.loads(ran.out or "[]")
        except ValueError:
            routes = []
        interface = next((str(r["dev"]) for r in routes if "dev" in r), None)
        yield CarriesRoot(interface, why, None if interface else f"no route to {address}")


def root_servers(machine: Readable) -> list[tuple[str, str]]:
    """The servers of the root file system, each with what says so; none where it is a disk of the machine's own."""
    mounts = machine.read("/proc/mounts")
    source = kind = ""
    for line in mounts.text.splitlines() if mounts else ():
        words = line.split()
        if len(words) > 3 and words[1] == "/":
            source, kind = words[0], words[2]
    if kind in _NETWORK_FILE_SYSTEMS:
        servers = _addresses(source) or [source.partition(":")[0]]
        return [(server, f"/proc/mounts: {source} ({kind})") for server in servers]
    found = []
    for session in machine.folders(_ISCSI) if source.startswith("/dev/") else ():
        file = machine.read(f"{_ISCSI}/{session}/persistent_address")
        if file is not None:
            found.append((file.text.strip(), f"{_ISCSI}/{session}"))
    return found


def _addresses(source: str) -> list[str]:
    """The addresses in a source such as ``203.0.113.5:/root`` or ``[2001:db8:7e:1::5]:/root``."""
    found = re.findall(r"\[([0-9a-fA-F:]+)\]|(\d+\.\d+\.\d+\.\d+)", source)
    return [six or four for six, four in found]
