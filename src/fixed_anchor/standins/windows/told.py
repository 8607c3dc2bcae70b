"""What the collector would tell of a simulated Windows machine, without a PowerShell; a test holds the two together."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import msgspec

from fixed_anchor.machines.windows.windows_facts import FORM, WindowsFacts
from fixed_anchor.standins.windows.state import (
    ALTERNATES,
    INTERFACES,
    INTERFACES6,
    NETBT,
    PERSISTENT_ROUTES,
    POLICIES,
    State,
)

#: The scopes in which it can be said which scripts may run, in their order.
_SCOPES = ("MachinePolicy", "UserPolicy", "Process", "CurrentUser", "LocalMachine")
_WATCHED = ("NTDS", "DNS", "DHCPServer", "ClusSvc", "vmms", "RemoteAccess", "WINS", "CertSvc", "MSSQLSERVER",
    "WindowsAzureGuestAgent", "AmazonSSMAgent", "GCEAgent", "cloudbase-init",
)  # fmt: skip
_TAKERS = ("vms_pp", "ms_implat", "ms_wlbs")
_POLICY_VALUES = ("SearchList", "NameServer", "PrimaryDnsSuffix", "AdapterDomainName")


def facts_of(state: State) -> WindowsFacts:
    """The facts about the machine of ``state``."""
    mode = state.get("language_mode", "FullLanguage")
    if mode != "FullLanguage":
        return WindowsFacts(FORM, mode)
    processes = {p["id"]: p["name"] for p in state["processes"]}
    told: dict[str, Any] = {
        "fixed_anchor_windows": FORM,
        "language_mode": mode,
        "edition": "Desktop",
        "version": "5.1",
        "elevated": state["elevated"],
        "execution_policy": [{"scope": s, "policy": state["execution_policy"].get(s, "Undefined")} for s in _SCOPES],
        "host": state["name"],
        "dns_host": state["dns_name"],
        "domain": state["domain"],
        "domain_member": state["member"],
        "system": f"{state['caption']} {state['version']}",
        "adapters": [_adapter(a) for a in state["adapters"]],
        "ip_interfaces": [{"index": a["index"], **i} for a in state["adapters"] for i in a["ip"]],
        "addresses": list(_in_stores(state, "addresses")),
        "routes": list(_in_stores(state, "routes")),
        "resolvers": [
            {"index": a["index"], "family": str(r["family"]), "servers": r["servers"]}
            for a in state["adapters"]
            for r in a["resolvers"]
        ],
        "dns": [
            {"index": a["index"], "suffix": a["suffix"], "registers": a["registers"], "uses_suffix": a["uses_suffix"]}
            for a in state["adapters"]
        ],
        "search": state["search"],
        "profiles": [
            {"index": a["index"], "name": a["network"], "category": a["category"]}
            for a in state["adapters"]
            if a["category"]
        ],
        "kept": [_kept(state["registry"], a["guid"]) for a in state["adapters"] if _key(a) in state["registry"]],
        "policies": _policies(state["registry"].get(POLICIES, {})),
        "missing": state.get("missing", {}),
        "services": [s for s in state["services"] if s["name"] in _WATCHED],
        "teams": state["teams"] or [],
        "switches": [
            {"name": s["name"], "kind": s["kind"], "adapters": s["adapters"]} for s in state["switches"] or []
        ],
        "bindings": [
            {"name": a["name"], "description": a["description"], "component": c}
            for a in state["adapters"]
            for c in a["bindings"]
            if c in _TAKERS
        ],
        "boot_disks": [d["bus"] for d in state["disks"] if d["boot"]],
        "persistent_routes": list(state["registry"].get(PERSISTENT_ROUTES, {})),
        "sockets": [
            {**s, "process": processes.get(s["process"])}
            for p in ("tcp", "udp")
            for s in state["sockets"]
            if s["protocol"] == p
        ],
    }
    return msgspec.convert(told, WindowsFacts)


def _key(adapter: State) -> str:
    return f"{INTERFACES}\\{adapter['guid']}"


def _adapter(adapter: State) -> State:
    names = (
        "name", "description", "guid", "index", "mac", "permanent_mac", "status", "hardware", "virtual", "hidden",
        "media", "component",
    )  # fmt: skip
    return {name: adapter[name] for name in names}


def _in_stores(state: State, what: str) -> Iterator[State]:
    """Addresses or routes, first all that are in force, then all that are kept."""
    for store in ("ActiveStore", "PersistentStore"):
        for adapter in state["adapters"]:
            yield from ({"index": adapter["index"], **one} for one in adapter[what] if one["store"] == store)


def _kept(registry: State, guid: str) -> State:
    key = registry[f"{INTERFACES}\\{guid}"]
    six = registry.get(f"{INTERFACES6}\\{guid}", {})
    options = registry.get(f"{ALTERNATES}\\Alternate_{guid}", {}).get("Options")

    def text(name: str) -> str:
        return str(key.get(name, ""))

    def texts(name: str) -> list[str]:
        return [str(value) for value in key.get(name, ())]

    return {
        "guid": guid,
        "dhcp": text("EnableDHCP"),
        "addresses": texts("IPAddress"),
        "masks": texts("SubnetMask"),
        "gateways": texts("DefaultGateway"),
        "metrics": texts("DefaultGatewayMetric"),
        "name_servers": text("NameServer"),
        "name_servers6": str(six.get("NameServer", "")),
        "domain": text("Domain"),
        "active_configurations": texts("ActiveConfigurations"),
        "alternate": bytes(options).hex() if options is not None else None,
        "autoconfiguration": text("IPAutoconfigurationEnabled"),
        "profile_name_servers": text("ProfileNameServer"),
        "netbios_servers": [str(s) for s in registry.get(f"{NETBT}\\Tcpip_{guid}", {}).get("NameServerList", ()) if s],
        "lease": {
            "address": text("DhcpIPAddress"),
            "mask": text("DhcpSubnetMask"),
            "server": text("DhcpServer"),
            "gateways": texts("DhcpDefaultGateway"),
            "name_servers": text("DhcpNameServer"),
            "domain": text("DhcpDomain"),
            "obtained": text("LeaseObtainedTime"),
            "ends": text("LeaseTerminatesTime"),
            "options": bytes(key["DhcpInterfaceOptions"]).hex() if "DhcpInterfaceOptions" in key else None,
        },
    }


def _policies(key: State) -> State:
    said = {name: key[name] for name in _POLICY_VALUES if key.get(name)}
    return {name: [str(v) for v in value] if isinstance(value, list) else [str(value)] for name, value in said.items()}
