"""The running side of a simulated Windows machine: its whole state is one JSON file in its tree."""

from __future__ import annotations

import json
from typing import Any

from fixed_anchor.change.files import FileText
from fixed_anchor.core.addresses import with_prefix
from fixed_anchor.core.errors import InputError
from fixed_anchor.standins.simulated_host import StandinHost
from fixed_anchor.standins.station import SimulatedHost
from fixed_anchor.standins.windows.by_itself import settled
from fixed_anchor.standins.windows.state import State, machine

#: The state, which the module that stands for Windows' commands works on as well.
STATE_FILE = "/machine.json"
#: What an administrator would say of it: from that it is made when it is first looked at.
SHORT_FILE = "/windows.yaml"


def is_windows(host: SimulatedHost) -> bool:
    """Whether a simulated host is a Windows machine."""
    return (host.tree / SHORT_FILE.lstrip("/")).is_file()


class WindowsStandinHost(StandinHost):
    """A simulated host whose kernel is the state of a Windows machine."""

    def state(self) -> State:
        """The machine as it is now."""
        stored = self.files.read(STATE_FILE)
        state: State = json.loads(stored.text) if stored is not None else machine(self._described())
        state["wire"] = self._wire(state)
        if stored is None:
            self.keep(state)
        return settled(state)

    def _wire(self, state: State) -> State:
        """What comes to it by its segments: leases, networks that are known, and who answers there."""
        leases: State = {}
        known: State = {}
        taken: list[str] = []
        for interface in self.host.interfaces:
            segment = self.station.segments[interface.segment]
            described = self._leased(interface.segment, interface.mac)
            for adapter in state["adapters"]:
                if adapter["name"] == interface.name and "lease" in described:
                    leases[adapter["guid"]] = described["lease"]
            if segment.router is not None:
                known[str(segment.router)] = "Private"
        times = {"detection": 0.3, "identification": 0.3, "lease": 0.5, "no_lease": 1.5}
        return {**times, "leases": leases, "networks": known, "answers": list(known), "taken": taken}

    def keep(self, state: State) -> None:
        """Keeps the machine for the next command."""
        self.files.put(STATE_FILE, json.dumps(state, indent=1).encode(), 0o644)

    def _described(self) -> State:
        """The short description, with MACs, and leases of the segments, for adapters that ask for one."""
        # Loaded here: few stand-ins are described so.
        import yaml

        short: FileText | None = self.files.read(SHORT_FILE)
        described = yaml.safe_load(short.text) if short is not None else None
        if not isinstance(described, dict) or not isinstance(described.get("adapters"), dict):
            raise InputError("this does not describe a Windows machine", file=SHORT_FILE, expected="`adapters:`")
        for interface in self.host.interfaces:
            adapter = described["adapters"].setdefault(interface.name, {})
            adapter["mac"] = interface.mac
            if adapter.get("asks"):
                adapter |= self._leased(interface.segment, interface.mac)
        return described

    def _leased(self, name: str, mac: str) -> State:
        segment = self.station.segments[name]
        address = segment.lease_for(mac)
        if address is None:
            return {"self_assigned": True}
        lease = {
            "address": str(with_prefix(address, segment.subnet.prefixlen)),
            "server": str(segment.server or segment.router or ""),
            "gateway": str(segment.router or ""),
            "resolvers": [str(r) for r in segment.resolvers],
            "domain": next(iter(segment.search), ""),
            "seconds": segment.lease_seconds * 3 // 4,
        }
        return {"lease": lease}

    def kernel(self) -> dict[str, dict[str, Any]]:
        """What is in force, as the wire asks for it."""
        return {adapter["name"]: _in_force(adapter) for adapter in self.state()["adapters"]}


def _in_force(adapter: State) -> dict[str, Any]:
    held = [a for a in adapter["addresses"] if a["store"] == "ActiveStore" and a["state"] == "Preferred"]
    routes = [r for r in adapter["routes"] if r["store"] == "ActiveStore"]
    return {
        "addresses": [
            {"address": f"{a['address']}/{a['prefix']}", "leased": a["prefix_origin"] == "Dhcp"}
            for a in held
            if "%" not in a["address"]
        ],
        "routes": [{"to": r["destination"], "via": r["next_hop"], "metric": r["metric"]} for r in routes],
        "resolvers": [s for r in adapter["resolvers"] for s in r["servers"] if not s.startswith("fec0:")],
        "search": [adapter["suffix"]] if adapter["suffix"] else [],
    }
