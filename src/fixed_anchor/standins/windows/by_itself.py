"""What comes by itself on a simulated Windows machine: duplicate detection, a lease, the address for when none comes,
and the category of a network that was identified anew.
"""

from __future__ import annotations

import time

from fixed_anchor.core.addresses import parse_interface_address
from fixed_anchor.machines.windows.alternate import decode
from fixed_anchor.standins.windows.addressing import (
    ACTIVE,
    identify_anew,
    is_up,
    key_of,
    new_held,
    resolvers_are,
    route_of,
    side_of,
)
from fixed_anchor.standins.windows.state import ALTERNATES, State

#: Seconds, where the description of the wire says nothing else.
_LEASE, _NO_LEASE = 1.0, 6.0


def settled(state: State) -> State:
    """The state as it is by now."""
    now = time.time()
    wire = state.get("wire", {})
    for adapter in state["adapters"]:
        for held in adapter["addresses"]:
            if held.get("until", now + 1) <= now and held["state"] == "Tentative":
                held["state"] = (
                    "Duplicate" if held.get("twice") or held["address"] in wire.get("taken", ()) else "Preferred"
                )
        if adapter.get("asked") is not None and is_up(adapter):
            _lease_comes(state, adapter, now - adapter["asked"])
        if adapter.get("identified") is not None and adapter["identified"] <= now:
            _identified(state, adapter)
    return state


def _lease_comes(state: State, adapter: State, waited: float) -> None:
    wire = state.get("wire", {})
    lease = wire.get("leases", {}).get(adapter["guid"])
    if lease is not None and waited >= wire.get("lease", _LEASE):
        del adapter["asked"]
        _give(state, adapter, lease)
    elif lease is None and waited >= wire.get("no_lease", _NO_LEASE):
        del adapter["asked"]
        _without(state, adapter)


def _give(state: State, adapter: State, lease: State) -> None:
    held = parse_interface_address(lease["address"])
    adapter["addresses"].append(
        {
            "store": ACTIVE, "address": str(held.ip), "prefix": held.network.prefixlen, "prefix_origin": "Dhcp",
            "suffix_origin": "Dhcp", "state": "Preferred", "skip_as_source": False,
            "seconds": lease.get("seconds", 86400),
        }
    )  # fmt: skip
    four = side_of(adapter, 4)
    if lease.get("gateway") and four is not None and four["ignores_defaults"] != "Enabled":
        adapter["routes"].append({**route_of(ACTIVE, "0.0.0.0/0", lease["gateway"], 0), "leased": True})
    key = key_of(state, adapter)
    key.update(
        DhcpIPAddress=str(held.ip),
        DhcpSubnetMask=str(held.netmask),
        DhcpServer=lease.get("server", ""),
        DhcpDefaultGateway=[lease["gateway"]] if lease.get("gateway") else [],
        DhcpNameServer=" ".join(lease.get("resolvers", ())),
        DhcpDomain=lease.get("domain", ""),
    )
    if not key.get("NameServer"):
        resolvers_are(adapter, list(lease.get("resolvers", ())))
    if not key.get("Domain"):
        adapter["suffix"] = lease.get("domain", "")
    identify_anew(state, adapter)


def _without(state: State, adapter: State) -> None:
    """No server has answered: the alternate configuration, or an address of its own making."""
    key = key_of(state, adapter)
    options = state["registry"].get(f"{ALTERNATES}\\Alternate_{adapter['guid']}", {}).get("Options")
    if options is not None and f"Alternate_{adapter['guid']}" in key.get("ActiveConfigurations", ()):
        message = decode(bytes(options))
        if message.address is not None:
            made = new_held(state, adapter, ACTIVE, str(message.address.ip), message.address.network.prefixlen)
            adapter["addresses"].append({**made, "prefix_origin": "Dhcp", "suffix_origin": "Dhcp"})
            if message.gateway is not None:
                adapter["routes"].append({**route_of(ACTIVE, "0.0.0.0/0", str(message.gateway), 0), "leased": True})
            resolvers_are(adapter, [str(r) for r in message.resolvers])
            return
    if str(key.get("IPAutoconfigurationEnabled", "1")) != "0":
        made = new_held(state, adapter, ACTIVE, "169.254.11.9", 16)
        adapter["addresses"].append({**made, "prefix_origin": "WellKnown", "suffix_origin": "Link"})


def _identified(state: State, adapter: State) -> None:
    """Which network it is, by its gateway: one that is not known, or none at all, is public."""
    del adapter["identified"]
    hops = [r["next_hop"] for r in adapter["routes"] if r["store"] == ACTIVE and r["destination"] == "0.0.0.0/0"]
    known = state.get("wire", {}).get("networks", {})
    if not adapter["category"]:
        return
    adapter["category"] = next((known[h] for h in hops if h in known), "Public")
