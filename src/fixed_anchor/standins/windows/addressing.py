"""How Windows changes addresses, routes and DHCP, with what bites there: on the state of a simulated machine.

Each function does what the documented call of that name does, and raises :class:`Failed` with what it says where it
refuses. What comes by itself afterwards is in :mod:`fixed_anchor.standins.windows.by_itself`.
"""

from __future__ import annotations

import time
from typing import Any

from fixed_anchor.core.addresses import default_network, parse_address, parse_interface_address
from fixed_anchor.standins.windows.state import INTERFACES, State

ACTIVE, PERSISTENT = "ActiveStore", "PersistentStore"
BOTH = (ACTIVE, PERSISTENT)
#: Seconds, where the description of the wire says nothing else.
_DETECTION = 3.0
#: What EnableStatic answers for an adapter without a carrier; and a call whose values are wrong.
NOT_ENABLED, WRONG = 84, 70


class Failed(Exception):
    """What a command says where it does not do what was asked."""


def adapter_of(state: State, index: int) -> State:
    """The adapter of that number."""
    for adapter in state["adapters"]:
        if adapter["index"] == index:
            return adapter  # type: ignore[no-any-return]
    raise Failed(f"No matching MSFT_NetAdapter objects found with property 'InterfaceIndex' equal to '{index}'.")


def adapter_with(state: State, guid: str) -> State:
    """The adapter of that GUID."""
    for adapter in state["adapters"]:
        if adapter["guid"] == guid:
            return adapter  # type: ignore[no-any-return]
    raise Failed(f"there is no adapter {guid}")


def side_of(adapter: State, version: int) -> State | None:
    """What an adapter has for one IP version; ``None`` where it does not speak it."""
    return next((i for i in adapter["ip"] if (i["family"] == "IPv6") == (version == 6)), None)


def key_of(state: State, adapter: State) -> State:
    """The registry key of an adapter's IPv4 settings."""
    return state["registry"].setdefault(f"{INTERFACES}\\{adapter['guid']}", {})  # type: ignore[no-any-return]


def is_up(adapter: State) -> bool:
    """Whether an adapter has a carrier."""
    return bool(adapter["status"] == "Up")


def asks_dhcp(adapter: State) -> bool:
    """Whether an adapter asks DHCP servers for IPv4."""
    four = side_of(adapter, 4)
    return four is not None and four["dhcp"] == "Enabled"


def _four(adapter: State, store: str, manual: bool | None = None) -> list[State]:
    return [
        a
        for a in adapter["addresses"]
        if a["store"] == store
        and ":" not in a["address"]
        and (manual is None or (a["prefix_origin"] == "Manual") == manual)
    ]


def new_held(state: State, adapter: State, store: str, address: str, prefix: int, skip: bool = False) -> State:
    """An address of an adapter; in force it waits for duplicate detection, which another adapter answers, too."""
    twice = any(
        other is not adapter and is_up(other) and held["store"] == ACTIVE and held["address"] == address
        for other in state["adapters"]
        for held in other["addresses"]
    )
    until = time.time() + state.get("wire", {}).get("detection", _DETECTION)
    made = {
        "store": store,
        "address": address,
        "prefix": prefix,
        "prefix_origin": "Manual",
        "suffix_origin": "Manual",
        # It is not used before nobody has answered for it; on an adapter without a carrier never.
        "state": "Tentative" if store == ACTIVE else "Preferred",
        "skip_as_source": skip,
        "seconds": None,
    }
    if store == ACTIVE and is_up(adapter):
        made |= {"until": until} | ({"twice": True} if twice else {})
    return made


def _keep_in_registry(state: State, adapter: State) -> None:
    """The registry has the persistent IPv4 settings as lists of texts."""
    held = [parse_interface_address(f"{a['address']}/{a['prefix']}") for a in _four(adapter, PERSISTENT, True)]
    routes = [r for r in adapter["routes"] if r["store"] == PERSISTENT and r["destination"] == "0.0.0.0/0"]
    key_of(state, adapter).update(
        EnableDHCP=int(asks_dhcp(adapter)),
        IPAddress=[str(a.ip) for a in held],
        SubnetMask=[str(a.netmask) for a in held],
        DefaultGateway=[r["next_hop"] for r in routes],
        DefaultGatewayMetric=[str(r["metric"]) for r in routes],
    )


def _lease_goes(state: State, adapter: State) -> None:
    """DHCP is off: address, default route and resolvers of the lease are gone at once; the registry still has them."""
    four = side_of(adapter, 4)
    if four is not None:
        four["dhcp"] = "Disabled"
    adapter["addresses"] = [a for a in adapter["addresses"] if ":" in a["address"] or a["prefix_origin"] == "Manual"]
    adapter["routes"] = [r for r in adapter["routes"] if not r.get("leased")]
    adapter.pop("asked", None)
    if not key_of(state, adapter).get("NameServer"):
        resolvers_are(adapter, [])
        if not key_of(state, adapter).get("Domain"):
            adapter["suffix"] = ""


def resolvers_are(adapter: State, servers: list[str]) -> None:
    """Sets the IPv4 resolvers in force."""
    for settings in adapter["resolvers"]:
        if settings["family"] == 2:
            settings["servers"] = servers


# --- CIM: all IPv4 addresses in one call ------------------------------------------------------


def enable_static(state: State, index: int, addresses: list[str], masks: list[str]) -> int:
    """``EnableStatic``: 0 where it is done. Who may be a source is forgotten."""
    adapter = adapter_of(state, index)
    if not is_up(adapter) or side_of(adapter, 4) is None:
        return NOT_ENABLED
    if state.get("busy"):
        return int(state["busy"].pop(0))
    try:
        held = [parse_interface_address(f"{a}/{m}") for a, m in zip(addresses, masks, strict=True)]
    except ValueError:
        return WRONG
    if not held:
        return WRONG
    _lease_goes(state, adapter)
    adapter["addresses"] = [a for a in adapter["addresses"] if ":" in a["address"]]
    for one in held:
        for store in BOTH:
            adapter["addresses"].append(new_held(state, adapter, store, str(one.ip), one.network.prefixlen))
    _keep_in_registry(state, adapter)
    identify_anew(state, adapter)
    return 0


def set_gateways(state: State, index: int, gateways: list[str], metrics: list[int]) -> int:
    """``SetGateways``: replaces them, and cannot take the last one away."""
    adapter = adapter_of(state, index)
    if not is_up(adapter):
        return NOT_ENABLED
    if not gateways:
        return 0
    if len(gateways) != len(metrics) or not all(1 <= m <= 9999 for m in metrics):
        return WRONG
    adapter["routes"] = [r for r in adapter["routes"] if r["destination"] != "0.0.0.0/0"]
    for gateway, metric in zip(gateways, metrics, strict=True):
        for store in BOTH:
            adapter["routes"].append(route_of(store, "0.0.0.0/0", gateway, metric))
    _keep_in_registry(state, adapter)
    identify_anew(state, adapter)
    return 0


def route_of(store: str, destination: str, next_hop: str, metric: int) -> State:
    """A route as a person sets it."""
    return {"store": store, "destination": destination, "next_hop": next_hop, "metric": metric, "protocol": "NetMgmt"}


# --- the commands of NetTCPIP -------------------------------------------------------------------


def new_address(
    state: State, index: int, address: str, prefix: int, gateway: str | None, skip: bool, store: str | None
) -> None:
    """``New-NetIPAddress``: without a store it writes both; on an adapter that asks DHCP it ends that."""
    adapter = adapter_of(state, index)
    version = parse_address(address).version
    if side_of(adapter, version) is None:
        raise Failed("The parameter is incorrect: the adapter does not speak this version.")
    stores = BOTH if store is None else (store,)
    if version == 4 and asks_dhcp(adapter) and not is_up(adapter):
        raise Failed("Inconsistent parameters PolicyStore PersistentStore and Dhcp Enabled")
    if any(a["address"] == address and a["store"] in stores for a in adapter["addresses"]):
        raise Failed("The object already exists.")
    everywhere = str(default_network(version))
    if gateway is not None and any(r["destination"] == everywhere and not r.get("leased") for r in adapter["routes"]):
        raise Failed("Instance DefaultGateway already exists")
    if version == 4 and asks_dhcp(adapter):
        _lease_goes(state, adapter)
    for one in stores:
        adapter["addresses"].append(new_held(state, adapter, one, address, prefix, skip))
        if gateway is not None:
            adapter["routes"].append(route_of(one, everywhere, gateway, 256))
    _keep_in_registry(state, adapter)


def remove_address(state: State, index: int, address: str, store: str | None) -> None:
    """``Remove-NetIPAddress``: by its name from both stores, else from the one that is named; routes are left."""
    adapter = adapter_of(state, index)
    stores = BOTH if store is None else (store,)

    def goes(held: State) -> bool:
        return held["address"].partition("%")[0] == address and held["store"] in stores

    if not any(map(goes, adapter["addresses"])):
        raise Failed(f"No matching MSFT_NetIPAddress objects found with property 'IPAddress' equal to '{address}'.")
    adapter["addresses"] = [a for a in adapter["addresses"] if not goes(a)]
    version = parse_address(address).version
    left = [a for a in adapter["addresses"] if a["store"] == ACTIVE and (":" in a["address"]) == (version == 6)]
    if version == 4 and not left:
        # What was reached by it is not any more; the persistent store keeps the route.
        adapter["routes"] = [r for r in adapter["routes"] if r["store"] == PERSISTENT or ":" in r["destination"]]
    _keep_in_registry(state, adapter)
    identify_anew(state, adapter)


def set_address(
    state: State, index: int, address: str, skip: bool | None, prefix: int | None, store: str | None
) -> None:
    """``Set-NetIPAddress``: whether it may be a source, and its prefix; without a store in both."""
    adapter = adapter_of(state, index)
    found = [a for a in adapter["addresses"] if a["address"] == address and store in (None, a["store"])]
    if not found:
        raise Failed(f"No matching MSFT_NetIPAddress objects found with property 'IPAddress' equal to '{address}'.")
    for one in found:
        one["skip_as_source"] = one["skip_as_source"] if skip is None else skip
        one["prefix"] = one["prefix"] if prefix is None else prefix
    _keep_in_registry(state, adapter)


def new_route(state: State, index: int, destination: str, next_hop: str, metric: int, store: str | None) -> None:
    """``New-NetRoute``: without a store it writes both."""
    adapter = adapter_of(state, index)
    stores = BOTH if store is None else (store,)
    same = (destination, next_hop)
    if any((r["destination"], r["next_hop"]) == same and r["store"] in stores for r in adapter["routes"]):
        raise Failed("Instance MSFT_NetRoute already exists")
    adapter["routes"] += [route_of(one, destination, next_hop, metric) for one in stores]
    _keep_in_registry(state, adapter)
    identify_anew(state, adapter)


def remove_route(state: State, index: int, destination: str, next_hop: str | None, store: str | None) -> None:
    """``Remove-NetRoute``: by its name from both stores, else from the one that is named."""
    adapter = adapter_of(state, index)
    stores = BOTH if store is None else (store,)

    def goes(route: State) -> bool:
        return (
            route["destination"] == destination and next_hop in (None, route["next_hop"]) and route["store"] in stores
        )

    if not any(map(goes, adapter["routes"])):
        raise Failed("No matching MSFT_NetRoute objects found.")
    adapter["routes"] = [r for r in adapter["routes"] if not goes(r)]
    kept = {name: key_of(state, adapter).get(name, []) for name in ("DefaultGateway", "DefaultGatewayMetric")}
    _keep_in_registry(state, adapter)
    if state.get("keeps_gateway"):
        # Some releases leave it in the registry, where a restart finds it.
        key_of(state, adapter).update(kept)
    identify_anew(state, adapter)


def set_interface(state: State, index: int, version: int | None, settings: dict[str, Any]) -> None:
    """``Set-NetIPInterface``: ``dhcp``, ``router_discovery``, ``ignores_defaults``, ``mtu`` and ``metric``."""
    adapter = adapter_of(state, index)
    sides = [s for v in (4, 6) if version in (None, v) and (s := side_of(adapter, v)) is not None]
    if not sides:
        raise Failed("No matching MSFT_NetIPInterface objects found.")
    for side in sides:
        if settings.get("dhcp") == "Enabled" and side["family"] == "IPv4" and side["dhcp"] != "Enabled":
            # Fixed addresses, the static default route and the resolvers stay where nobody takes them away.
            adapter["asked"] = time.time()
        if settings.get("dhcp") == "Disabled" and side["family"] == "IPv4" and side["dhcp"] == "Enabled":
            _lease_goes(state, adapter)
        side.update({name: value for name, value in settings.items() if value is not None})
    _keep_in_registry(state, adapter)


def set_binding(state: State, index: int, version: int, speaks: bool) -> None:
    """``Enable-NetAdapterBinding``, ``Disable-NetAdapterBinding``: whether the adapter speaks a version at all."""
    adapter = adapter_of(state, index)
    side = side_of(adapter, version)
    if speaks and side is None:
        family = "IPv6" if version == 6 else "IPv4"
        adapter["ip"].append(
            {
                "family": family, "dhcp": "Enabled" if version == 6 else "Disabled", "metric": 25,
                "automatic_metric": "Enabled", "mtu": 1500, "state": "Connected" if is_up(adapter) else "Disconnected",
                "router_discovery": "Enabled" if version == 6 else "Dhcp", "ignores_defaults": "Disabled",
            }
        )  # fmt: skip
        if version == 6:
            local = new_held(state, adapter, ACTIVE, f"fe80::5c1:{index:x}%{index}", 64)
            adapter["addresses"].insert(0, {**local, "prefix_origin": "WellKnown", "suffix_origin": "Link"})
    elif not speaks and side is not None:
        adapter["ip"].remove(side)
        adapter["addresses"] = [a for a in adapter["addresses"] if (":" in a["address"]) != (version == 6)]
        adapter["routes"] = [r for r in adapter["routes"] if (":" in r["destination"]) != (version == 6)]


def restart_adapter(state: State, index: int) -> None:
    """``Restart-NetAdapter``: what is kept comes into force again, and a lease is asked for anew."""
    boot_adapter(state, adapter_of(state, index))


def boot_adapter(state: State, adapter: State) -> None:
    """What is in force is forgotten; what is kept is loaded."""
    kept = [a for a in adapter["addresses"] if a["store"] == PERSISTENT]
    local = [a for a in adapter["addresses"] if a["store"] == ACTIVE and a["address"].startswith("fe80")]
    loaded = [new_held(state, adapter, ACTIVE, a["address"], a["prefix"], a["skip_as_source"]) for a in kept]
    adapter["addresses"] = [*local, *loaded, *kept]
    routes = [r for r in adapter["routes"] if r["store"] == PERSISTENT]
    has_four = any(":" not in a["address"] for a in loaded)
    adapter["routes"] = [
        *({**r, "store": ACTIVE} for r in routes if has_four or ":" in r["destination"]), *routes,
    ]  # fmt: skip
    if asks_dhcp(adapter):
        adapter["asked"] = time.time()
        resolvers_are(adapter, [])
    identify_anew(state, adapter)


def identify_anew(state: State, adapter: State) -> None:
    """The network of an adapter is identified by its gateway; while that goes on its category cannot be set."""
    adapter["identified"] = time.time() + state.get("wire", {}).get("identification", 1.0)
