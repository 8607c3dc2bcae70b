"""Whether a machine is ready to be changed now: nothing else is at work, and there is a way back at boot."""

from __future__ import annotations

import json
import re
from collections.abc import Iterator
from functools import partial

from fixed_anchor.core.addresses import IPAddress, parse_address
from fixed_anchor.core.findings import Finding, finding
from fixed_anchor.daemons import busy_patterns, units
from fixed_anchor.engine.boot import INITS, init_of
from fixed_anchor.machines.protocol import Machine

_NETWORK_FILE_SYSTEMS = ("nfs", "nfs4", "cifs", "smb3", "ceph", "glusterfs", "afs")


def readiness(machine: Machine, interfaces: tuple[str, ...], host: str) -> Iterator[Finding]:
    """The findings about a change of ``interfaces`` at this moment."""
    raised = partial(finding, host=host)
    for what in _at_work(machine):
        yield raised("stack-busy", f"the network stack is in the middle of a change: {what}", seen_in="processes")
    for name, why in _carry_root(machine):
        if name in interfaces:
            yield raised("carries-root", f"{name} carries the root file system: {why}", interface=name, seen_in=why)
    if init_of(machine) not in INITS:
        yield raised(
            "no-boot-guard",
            "neither systemd nor OpenRC nor System V init boots this host: "
            "after a power cut nothing would put an unconfirmed change back",
            seen_in="/run/systemd/system, /run/openrc, /etc/rcS.d",
        )


def _at_work(machine: Machine) -> Iterator[str]:
    patterns = [re.compile(pattern) for pattern in busy_patterns()]
    for line in machine.run(("ps", "-eo", "args")).out.splitlines():
        if any(pattern.search(line.strip()) for pattern in patterns):
            yield line.strip()
    jobs = machine.run(("systemctl", "list-jobs", "--no-legend", "--plain"))
    for line in jobs.out.splitlines() if jobs.status == 0 else ():
        words = line.split()
        if len(words) >= 4 and words[1] in units().values():
            yield f"systemd has a job: {words[2]} {words[1]} ({words[3]})"


def _carry_root(machine: Machine) -> Iterator[tuple[str, str]]:
    """Interfaces by which the root file system comes in, each with what says so."""
    mounts = machine.read("/proc/mounts")
    source = kind = ""
    for line in mounts.text.splitlines() if mounts else ():
        words = line.split()
        if len(words) > 3 and words[1] == "/":
            source, kind = words[0], words[2]
    servers: list[tuple[str, str]] = []
    if kind in _NETWORK_FILE_SYSTEMS:
        servers = [(a, f"/proc/mounts: {source} ({kind})") for a in _addresses(source)]
    elif source.startswith("/dev/"):
        for session in machine.folders("/sys/class/iscsi_connection"):
            file = machine.read(f"/sys/class/iscsi_connection/{session}/persistent_address")
            if file is not None:
                servers.append((file.text.strip(), f"/sys/class/iscsi_connection/{session}"))
    for server, why in servers:
        interface = _way_to(machine, server)
        if interface is not None:
            yield interface, why


def _addresses(source: str) -> list[str]:
    """The addresses in a source such as ``203.0.113.5:/root`` or ``[2001:db8:7e:1::5]:/root``."""
    found = re.findall(r"\[([0-9a-fA-F:]+)\]|(\d+\.\d+\.\d+\.\d+)", source)
    return [six or four for six, four in found]


def _way_to(machine: Machine, server: str) -> str | None:
    try:
        address: IPAddress = parse_address(server)
    except ValueError:
        return None
    ran = machine.run(("ip", "-j", "route", "get", str(address)))
    try:
        routes = json.loads(ran.out or "[]")
    except ValueError:
        return None
    return next((str(r["dev"]) for r in routes if "dev" in r), None)
