"""The acts of a change on a simulated Windows machine: each by the call that a machine of that kind would be told."""

from __future__ import annotations

from typing import Any

from fixed_anchor.change import acts
from fixed_anchor.standins.windows.addressing import BOTH, PERSISTENT, Failed, adapter_of, asks_dhcp
from fixed_anchor.standins.windows.calls import call
from fixed_anchor.standins.windows.state import ALTERNATES, INTERFACES, NETBT, State


def reach(state: State, act: acts.Act) -> None:
    """Brings about what an act wants, whatever of it is so already: as the engine does. Raises :class:`Failed`."""
    match act:
        case acts.AddAddress():
            for held in _found(state, act.index, act.address):
                call(state, "remove_address", {"index": act.index, "address": act.address, "store": held["store"]})
            perform(state, act)
        case acts.DropAddress():
            for held in _found(state, act.index, act.address):
                # One that is leased is not ours to take.
                if held["prefix_origin"] == "Manual":
                    call(state, "remove_address", {"index": act.index, "address": act.address, "store": held["store"]})
        case acts.AddRoute() | acts.DropRoute():
            _reach_route(state, act)
        case acts.SetNetbios() if adapter_of(state, act.index)["status"] != "Up":
            # As the engine: where the call takes nothing a restart brings it.
            where = {"key": f"{NETBT}\\Tcpip_{act.guid}", "name": "NameServerList"}
            call(state, "set_value", {**where, "value": list(act.servers)})
        case acts.SetDhcp(asks=True):
            perform(state, act)
            # What a fixed setting left in the registry goes: a restart might bring it.
            key = f"{INTERFACES}\\{act.guid}"
            for name in ("IPAddress", "SubnetMask", "DefaultGateway", "DefaultGatewayMetric"):
                call(state, "set_value", {"key": key, "name": name, "value": []})
        case acts.SetFallback(options="") if f"{ALTERNATES}\\Alternate_{act.guid}" not in state["registry"]:
            pass
        case _:
            perform(state, act)


def _found(state: State, index: int, address: str) -> list[State]:
    return [a for a in adapter_of(state, index)["addresses"] if a["address"].partition("%")[0] == address]


def _reach_route(state: State, act: acts.AddRoute | acts.DropRoute) -> None:
    adapter = adapter_of(state, act.index)
    # While the adapter asks DHCP what is in force may be the lease's own.
    stores = (PERSISTENT,) if asks_dhcp(adapter) and ":" not in act.destination else BOTH
    where = {"destination": act.destination, "next_hop": act.next_hop}
    for store in stores:
        if any(r["store"] == store and all(r[k] == v for k, v in where.items()) for r in adapter["routes"]):
            call(state, "remove_route", {"index": act.index, **where, "store": store})
    if isinstance(act, acts.AddRoute):
        perform(state, act)


def perform(state: State, act: acts.Act) -> None:
    """Carries one act out. Raises :class:`Failed` where the machine refuses it."""
    if isinstance(act, acts.SetFallback):
        _alternate(state, act)
        return
    name, arguments = _as_call(act)
    said = call(state, name, arguments)
    if isinstance(said, int) and said != 0:
        raise Failed(f"{act.shown}: it answered {said}")


def _as_call(act: acts.Act) -> tuple[str, dict[str, Any]]:
    match act:
        case acts.SetSearch():
            return "set_search", {"domains": list(act.domains)}
        case acts.Rename():
            return "rename", {"name": act.name}
        case acts.SetResolvers():
            return "set_resolvers", {"index": act.index, "servers": list(act.servers)}
        case acts.SetNetbios():
            return "set_netbios", {"index": act.index, "servers": list(act.servers)}
        case acts.SetSuffix():
            return "set_suffix", {"index": act.index, "suffix": act.suffix}
        case acts.SetVersion():
            return "set_binding", {"index": act.index, "version": act.version, "speaks": act.speaks}
        case acts.HoldIPv4():
            return "enable_static", {"index": act.index, "addresses": list(act.addresses), "masks": list(act.masks)}
        case acts.SetGateways():
            return "set_gateways", {"index": act.index, "gateways": list(act.addresses), "metrics": list(act.metrics)}
        case acts.AddAddress():
            return "new_address", {
                "index": act.index, "address": act.address, "prefix": act.prefix, "gateway": None,
                "skip": not act.is_source, "store": None,
            }  # fmt: skip
        case acts.DropAddress():
            return "remove_address", {"index": act.index, "address": act.address, "store": None}
        case acts.SetSource():
            skip = not act.is_source
            return "set_address", {
                "index": act.index, "address": act.address, "skip": skip, "prefix": None, "store": None
            }  # fmt: skip
        case acts.AddRoute():
            where = {"destination": act.destination, "next_hop": act.next_hop}
            return "new_route", {"index": act.index, **where, "metric": act.metric, "store": None}
        case acts.DropRoute():
            where = {"destination": act.destination, "next_hop": act.next_hop}
            return "remove_route", {"index": act.index, **where, "store": None}
        case acts.SetDhcp() | acts.HearRouters() | acts.TakeDefaultRoutes() | acts.SetMtu():
            version, said = _of_interface(act)
            return "set_interface", {"index": act.index, "version": version, "settings": said}
    raise Failed(f"{act!r} is no act of this machine")


def _of_interface(act: acts.SetDhcp | acts.HearRouters | acts.TakeDefaultRoutes | acts.SetMtu) -> tuple[int, State]:
    """What ``Set-NetIPInterface`` is told, and for which IP version."""
    match act:
        case acts.SetDhcp():
            return 4, {"dhcp": "Enabled" if act.asks else "Disabled"}
        case acts.HearRouters():
            return 6, {"router_discovery": "Enabled" if act.hears else "Disabled"}
        case acts.TakeDefaultRoutes():
            return act.version, {"ignores_defaults": "Disabled" if act.takes else "Enabled"}
        case acts.SetMtu():
            return act.version, {"mtu": act.size}


def _alternate(state: State, act: acts.SetFallback) -> None:
    """The alternate configuration has no command: two keys of the registry."""
    interface, alternate = f"{INTERFACES}\\{act.guid}", f"Alternate_{act.guid}"
    if act.options:
        call(state, "new_key", {"key": f"{ALTERNATES}\\{alternate}"})
        value = list(bytes.fromhex(act.options))
        call(state, "set_value", {"key": f"{ALTERNATES}\\{alternate}", "name": "Options", "value": value})
        call(state, "set_value", {"key": interface, "name": "ActiveConfigurations", "value": [alternate]})
    else:
        call(state, "set_value", {"key": interface, "name": "ActiveConfigurations", "value": []})
        call(state, "remove_key", {"key": f"{ALTERNATES}\\{alternate}"})
