"""A site of the lab: real hosts of several stacks, reached over OpenSSH from a seat that is another host."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Iterable, Mapping
from typing import Any

from tests.lab.conftest import MakeHost
from tests.lab.host import LabHost
from tests.lab.network import wait_for
from tests.lab.seats import SSH, Reached, Seat
from tests.lab.test_matrix import STACKS

HEAD = """\
plan: 1
segments:
  quay: {{subnet: 203.0.113.0/24, gateway: 203.0.113.1, resolvers: [{resolvers}], search: ternpoint.example,
         pools: [203.0.113.100 - 203.0.113.199]}}
{more}hosts:
"""


class Room:
    """Hosts, one for each of ``stacks``, on leases; and a seat that reaches them all."""

    def __init__(self, make_host: MakeHost, stacks: Iterable[str]) -> None:
        self.hosts: list[LabHost] = []
        self.of_stack: dict[str, str] = {}
        self._make_host = make_host
        self.seat = Seat(make_host(*STACKS["networkd"]))
        for stack in stacks:
            self.add(stack)

    def add(self, stack: str, files: Mapping[str, str] | None = None, address: str | None = None) -> LabHost:
        """One more host: on a lease, or by other ``files`` at a fixed ``address``."""
        usual, units = STACKS[stack]
        # All hosts of the lab are made of one image; those of a plan are to be no clones.
        machine_id = hashlib.md5(f"{stack} {len(self.hosts)}".encode()).hexdigest()
        more = {"/etc/machine-id": f"{machine_id}\n"}
        host = self._make_host({**(files or usual), **more}, (*units, SSH), lease=address is None)
        host("sh", "-c", "rm -f /etc/ssh/ssh_host_*; ssh-keygen -A")
        self.hosts.append(host)
        self.of_stack[host.name] = stack
        self.seat.knows(Reached(host, address=address))
        return host

    def host(self, name: str) -> LabHost:
        return next(host for host in self.hosts if host.name == name)

    def plan(
        self,
        holds: Mapping[str, str],
        more: str = "",
        resolvers: str = "203.0.113.2",
        gateways: Mapping[str, str] | None = None,
    ) -> None:
        """Writes the plan: what each host is to hold, with commas between several.

        ``gateways`` are those that are not the segment's.
        """
        text = HEAD.format(more=more, resolvers=resolvers)
        for name, address in holds.items():
            mac = self.host(name).mac
            gateway = f", gateway: {gateways[name]}" if name in (gateways or {}) else ""
            interface = f'{{mac: "{mac}", segment: quay, hold: [{address}]{gateway}}}'
            text += f"  {name}: {{reach: 'ssh:{name}', interfaces: {{eth0: {interface}}}}}\n"
        self.seat.write("/root/plan.yaml", text)

    def leases(self) -> dict[str, str]:
        """Which address each host is leased now."""
        return {host.name: host.leased_address() for host in self.hosts}

    def changes(self, name: str) -> list[str]:
        """The final word of each change of a host, oldest first."""
        folder = self.host(name).disk("/var/lib/fixed-anchor/changes")
        return [one.read_text().strip() for one in sorted(folder.glob("0*/state"))] if folder.is_dir() else []

    def logs(self) -> str:
        """What the engines wrote, for a test that fails."""
        found = []
        for host in self.hosts:
            for log in sorted(host.disk("/var/lib/fixed-anchor/changes").glob("0*/log")):
                found.append(f"--- {host.name} ({self.of_stack[host.name]}) {log.parent.name}\n{log.read_text()}")
        return "\n".join(found)

    def run(self, *words: str, status: int = 0) -> dict[str, Any]:
        """A command at the seat whose document is read."""
        done = self.seat.tool(*words, "--json")
        assert done.returncode == status, f"{words}: {done.returncode}\n{done.stdout}\n{done.stderr}\n{self.logs()}"
        read: dict[str, Any] = json.loads(done.stdout)
        return read

    def hold(self, holds: Mapping[str, str]) -> None:
        """Waits until each host holds its address, and no lease."""
        for name, address in holds.items():
            host = self.host(name)

            def is_there(host: LabHost = host, address: str = address) -> bool:
                wanted = address.split(", ")
                held = host.addresses().count(" inet ")
                return all(host.holds(a) for a in wanted) and held == len(wanted) and not host.leased()

            wait_for(f"{name}: {address}; {host.addresses()}; {self.logs()}", is_there, 20)


def states(document: Mapping[str, Any]) -> dict[str, str | None]:
    """How the change of each host of a document stands."""
    return {one["host"]: (one["change"] or {}).get("state") for one in document["hosts"]}
