"""The whole state of a simulated Windows machine, made of a short description.

Each key of an adapter is what an administrator would say of it; the rest is as Windows leaves it. Names and words in
the state are those of Windows' own objects and registry, since both the simulated target and the module that stands for
Windows' commands go by it.
"""

from __future__ import annotations

import uuid
from typing import Any

from fixed_anchor.core.addresses import parse_interface_address

INTERFACES = r"SYSTEM\CurrentControlSet\Services\Tcpip\Parameters\Interfaces"
INTERFACES6 = r"SYSTEM\CurrentControlSet\Services\Tcpip6\Parameters\Interfaces"
ALTERNATES = r"SYSTEM\CurrentControlSet\Services\Dhcp\Configurations"
NETBT = r"SYSTEM\CurrentControlSet\Services\NetBT\Parameters\Interfaces"
PERSISTENT_ROUTES = r"SYSTEM\CurrentControlSet\Services\Tcpip\Parameters\PersistentRoutes"
POLICIES = r"SOFTWARE\Policies\Microsoft\Windows NT\DNSClient"
#: A leased default route has no metric of its own, a static one 256 where none is given.
_STATIC_METRIC, _INTERFACE_METRIC = 256, 25

State = dict[str, Any]


def machine(said: State) -> State:
    """The state of a machine; ``adapters`` maps their names to their descriptions, or lists them with their names."""
    described = said.get("adapters", {})
    named = described.items() if isinstance(described, dict) else [(one["name"], one) for one in described]
    adapters = [_Adapter(n, name, one) for n, (name, one) in enumerate(named, 4)]
    registry: State = {}
    for adapter in adapters:
        registry |= adapter.registry()
    if said.get("policies"):
        registry[POLICIES] = said["policies"]
    if said.get("route_p"):
        registry[PERSISTENT_ROUTES] = dict.fromkeys(said["route_p"], "")
    name = said.get("name", "GANNET-WS")
    return {
        "name": name,
        "dns_name": said.get("dns_name", name.lower()),
        "domain": said.get("domain", "WORKGROUP"),
        "member": "domain" in said,
        "caption": said.get("caption", "Windows 11 Pro"),
        "version": said.get("version", "10.0.22631"),
        "elevated": said.get("elevated", True),
        "execution_policy": said.get("execution_policy", {"LocalMachine": "RemoteSigned"}),
        "adapters": [adapter.state() for adapter in adapters],
        "search": said.get("search", []),
        "services": [{"name": n, "status": "Running"} for n in said.get("services", ())],
        "processes": [{"id": 4, "name": "System"}, {"id": 800, "name": "svchost"}],
        "sockets": said.get("sockets", []),
        "teams": said.get("teams"),
        "switches": said.get("switches"),
        "neighbours": said.get("neighbours", []),
        "registry": registry,
        "booted": 0,
        "disks": said.get("disks", [{"boot": True, "bus": "NVMe"}]),
    }


class _Adapter:
    """One adapter: ``lease`` or ``fixed`` addresses, ``gateways`` as ``ADDRESS [METRIC]``, ``resolvers``, and so on."""

    def __init__(self, index: int, name: str, described: State) -> None:
        self.index, self.name, self.said = index, name, described
        self.guid = "{" + str(uuid.uuid5(uuid.NAMESPACE_DNS, f"{index}.{name}")).upper() + "}"
        self.lease: State | None = described.get("lease")
        self.fixed = [parse_interface_address(text) for text in described.get("fixed", ())]
        self.metric = described.get("metric", _INTERFACE_METRIC)
        self.up = described.get("status", "Up") == "Up"
        #: Of an adapter that is not there nothing is in force.
        self.stores = ("PersistentStore",) if described.get("gone") else ("ActiveStore", "PersistentStore")

    def _gateways(self) -> list[tuple[str, int, str]]:
        """Address, metric in force, and metric in the registry: as the dialog leaves it where that is ``automatic``."""
        found = []
        for text in self.said.get("gateways", ()):
            address, _, metric = str(text).partition(" ")
            number = int(metric) if metric.isdecimal() else _STATIC_METRIC
            found.append((address, number, {"automatic": "0", "unsaid": ""}.get(metric, str(number))))
        return found

    def state(self) -> State:
        """It as the module's commands tell of it."""
        mac = self.said["mac"].replace(":", "-").upper()
        has_ip = self.said.get("bound", True)
        return {
            "name": self.name,
            "description": self.said.get("description", "Gigabit Network Connection"),
            "guid": self.guid,
            "index": self.index,
            "mac": mac,
            "permanent_mac": mac.replace("-", ""),
            "status": self.said.get("status", "Up"),
            "hardware": self.said.get("hardware", True),
            "virtual": not self.said.get("hardware", True),
            "hidden": self.said.get("hidden", False),
            "media": self.said.get("media", "802.3"),
            "component": self.said.get("component", ""),
            # Beside its IP versions; what has taken it.
            "bindings": self.said.get("bindings", []),
            "ip": [self._ip(family) for family in self._families()] if has_ip else [],
            "addresses": list(self._addresses()) if has_ip else [],
            "routes": list(self._routes()),
            "resolvers": [{"family": 2, "servers": self._resolvers(4)}, {"family": 23, "servers": self._resolvers(6)}],
            "suffix": self.said.get("suffix", (self.lease or {}).get("domain", "")),
            "registers": True,
            "uses_suffix": False,
            "network": self.said.get("network", "ternpoint.example"),
            "category": self.said.get("category", "Private") if self.up and has_ip else "",
        }

    def _families(self) -> list[str]:
        """The IP versions that it speaks."""
        return ["IPv4", "IPv6"] if self.said.get("ipv6", True) else ["IPv4"]

    def _ip(self, family: str) -> State:
        asks = self.lease is not None or bool(self.said.get("asks")) or family == "IPv6"
        return {
            "family": family,
            "dhcp": "Enabled" if asks else "Disabled",
            "metric": self.metric,
            "automatic_metric": "Disabled" if "metric" in self.said else "Enabled",
            "mtu": self.said.get("mtu", 1500),
            "state": "Connected" if self.up else "Disconnected",
            # By default IPv6 hears routers, and IPv4 where DHCP says so.
            "router_discovery": "Dhcp" if family == "IPv4" else "Enabled" if self.said.get("ra", True) else "Disabled",
            "ignores_defaults": "Disabled",
        }

    def _addresses(self) -> Any:
        usable = "Preferred" if self.up else "Tentative"
        yield from () if not self.said.get("ipv6", True) else ({
            "store": "ActiveStore", "address": f"fe80::5c1:{self.index:x}%{self.index}", "prefix": 64,
            "prefix_origin": "WellKnown", "suffix_origin": "Link", "state": usable, "skip_as_source": False,
            "seconds": None,
        },)  # fmt: skip
        if self.lease is not None:
            held = parse_interface_address(self.lease["address"])
            yield _address("ActiveStore", held, "Dhcp", "Dhcp", usable, self.lease.get("seconds", 86400))
        if self.said.get("self_assigned"):
            yield _address("ActiveStore", parse_interface_address("169.254.11.9/16"), "WellKnown", "Link", usable, None)
        for text in self.said.get("by_hand", ()):
            yield _address("ActiveStore", parse_interface_address(text), "Manual", "Manual", usable, None)
        for number, held in enumerate(self.fixed):
            skip = number > 0 and bool(self.said.get("skip", True))
            for store in self.stores:
                state = self.said.get("state", usable) if store == "ActiveStore" else usable
                yield _address(store, held, "Manual", "Manual", state, None, skip)

    def _routes(self) -> Any:
        for address, metric, _ in self._gateways():
            for store in self.stores:
                yield _route(store, address, metric)
        for address in self.said.get("left_over", ()):
            yield _route("PersistentStore", address, _STATIC_METRIC)
        if self.lease is not None and self.lease.get("gateway"):
            yield {**_route("ActiveStore", self.lease["gateway"], 0), "leased": True}

    def _resolvers(self, version: int) -> list[str]:
        described = self.said.get("resolvers") or (self.lease or {}).get("resolvers", [])
        found = [a for a in described if (":" in a) == (version == 6)]
        return found or (["fec0:0:0:ffff::1%1", "fec0:0:0:ffff::2%1"] if version == 6 else [])

    def registry(self) -> State:
        """What is kept of it, by the paths of its keys."""
        if not self.said.get("bound", True):
            return {}
        lease = self.lease or self.said.get("stale_lease") or {}
        four = [a for a in self.fixed if a.version == 4]
        asks = self.lease is not None or bool(self.said.get("asks"))
        gateways = [(a, m) for a, _, m in self._gateways() if ":" not in a]
        values: State = {
            "EnableDHCP": int(asks),
            "IPAddress": [str(a.ip) for a in four],
            "SubnetMask": [str(a.netmask) for a in four],
            "DefaultGateway": [a for a, _ in gateways],
            "DefaultGatewayMetric": [m for _, m in gateways],
            "NameServer": ",".join(a for a in self.said.get("resolvers", ()) if ":" not in a),
            "Domain": self.said.get("suffix", ""),
        }
        if lease:
            held = parse_interface_address(lease["address"])
            values |= {
                "DhcpIPAddress": str(held.ip),
                "DhcpSubnetMask": str(held.netmask),
                "DhcpServer": lease.get("server", ""),
                "DhcpDefaultGateway": [lease["gateway"]] if lease.get("gateway") else [],
                "DhcpNameServer": " ".join(lease.get("resolvers", ())),
                "DhcpDomain": lease.get("domain", ""),
                **({"DhcpInterfaceOptions": list(bytes.fromhex(lease["options"]))} if lease.get("options") else {}),
                "LeaseObtainedTime": 1795000000,
                "LeaseTerminatesTime": 1795086400,
            }
        six = ",".join(a for a in self.said.get("resolvers", ()) if ":" in a)
        found = {f"{INTERFACES}\\{self.guid}": values, f"{INTERFACES6}\\{self.guid}": {"NameServer": six}}
        found[f"{NETBT}\\Tcpip_{self.guid}"] = {"NameServerList": self.said.get("netbios_servers", [])}
        values |= {"ProfileNameServer": self.said["profile_resolvers"]} if "profile_resolvers" in self.said else {}
        if self.said.get("alternate"):
            values["ActiveConfigurations"] = [f"Alternate_{self.guid}"]
            found[f"{ALTERNATES}\\Alternate_{self.guid}"] = {"Options": list(bytes.fromhex(self.said["alternate"]))}
        return found


def _address(
    store: str, held: Any, prefix_origin: str, suffix_origin: str, state: str, seconds: int | None, skip: bool = False
) -> State:
    return {
        "store": store,
        "address": str(held.ip),
        "prefix": held.network.prefixlen,
        "prefix_origin": prefix_origin,
        "suffix_origin": suffix_origin,
        "state": state,
        "skip_as_source": skip,
        "seconds": seconds,
    }


def _route(store: str, next_hop: str, metric: int) -> State:
    destination = "::/0" if ":" in next_hop else "0.0.0.0/0"
    return {"store": store, "destination": destination, "next_hop": next_hop, "metric": metric, "protocol": "NetMgmt"}
