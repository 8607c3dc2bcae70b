"""What is kept on a simulated Windows machine, in the lines that its engine compares; see ``change/kept_lines.py``."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Any

from fixed_anchor.core.addresses import parse_interface_address
from fixed_anchor.standins.windows.addressing import ACTIVE, PERSISTENT, adapter_with
from fixed_anchor.standins.windows.state import ALTERNATES, INTERFACES, INTERFACES6, NETBT, State


def lines_of(state: State, guids: Sequence[str], was: Sequence[str]) -> list[str]:
    """The lines of the adapters of ``guids``. A size counts where ``was`` names one."""
    lines = [line for guid in guids for line in _of_adapter(state, adapter_with(state, guid), was)]
    return [*lines, "machine search " + (",".join(state["search"]) or "-")]


def _of_adapter(state: State, adapter: State, was: Sequence[str]) -> Iterator[str]:
    guid = adapter["guid"]
    key: State = state["registry"].get(f"{INTERFACES}\\{guid}", {})
    sides = {side["family"]: side for side in adapter["ip"]}
    asks = "IPv4" in sides and key.get("EnableDHCP") == 1
    four = [] if asks or "IPv4" not in sides else _held(key)
    six = [
        f"{a['address']}/{a['prefix']}"
        for a in adapter["addresses"]
        if a["store"] == PERSISTENT and ":" in a["address"] and not a["address"].startswith("fe80")
    ]
    hears = "IPv6" in sides and sides["IPv6"]["router_discovery"] == "Enabled"
    yield f"{guid} ipv4 {'dhcp' if asks else 'fixed' if four else 'off'}"
    yield f"{guid} ipv6 {'fixed' if six else 'ra' if hears else 'off'}"
    yield f"{guid} hears-routers {'yes' if hears else 'no'}"
    never = {a["address"].partition("%")[0] for a in adapter["addresses"] if a["skip_as_source"]}
    for held in (*four, *six):
        yield f"{guid} address {held} {'aside' if held.partition('/')[0] in never else 'source'}"
    yield from _routes(adapter, key, "IPv4" in sides and not asks)
    if asks:
        yield from _left(adapter, key)
    servers = [*_listed(key.get("NameServer", ""))]
    servers += _listed(state["registry"].get(f"{INTERFACES6}\\{guid}", {}).get("NameServer", ""))
    yield f"{guid} resolvers {','.join(servers) or '-'}"
    listed = state["registry"].get(f"{NETBT}\\Tcpip_{guid}", {}).get("NameServerList", ())
    yield f"{guid} netbios {','.join(s for s in listed if s) or '-'}"
    yield f"{guid} suffix {key.get('Domain') or '-'}"
    for family in ("IPv4", "IPv6"):
        ignores = sides.get(family, {}).get("ignores_defaults") == "Enabled"
        yield f"{guid} default-routes {family} {'ignored' if ignores else 'taken'}"
        if family in sides and any(line.startswith(f"{guid} mtu {family} ") for line in was):
            yield f"{guid} mtu {family} {sides[family]['mtu']}"
    options = state["registry"].get(f"{ALTERNATES}\\Alternate_{guid}", {}).get("Options")
    counts = f"Alternate_{guid}" in key.get("ActiveConfigurations", ())
    yield f"{guid} fallback {bytes(options).hex() if counts and options is not None else '-'}"


def differing(there: Sequence[str], wanted: Sequence[str]) -> list[str]:
    """The lines that are in one list alone; what an earlier setting had left is wanted by nobody."""
    gone = [f"- {line}" for line in wanted if line not in there and " left " not in line]
    return [*gone, *(f"+ {line}" for line in there if line not in wanted)]


def in_force(state: State, guids: Sequence[str]) -> list[str]:
    """Fixed addresses and gateways that are in force and not of a lease."""
    found = []
    for guid in guids:
        adapter = adapter_with(state, guid)
        leased = state["registry"].get(f"{INTERFACES}\\{guid}", {}).get("DhcpDefaultGateway", ())
        active = [a for a in adapter["addresses"] if a["store"] == ACTIVE and a["prefix_origin"] == "Manual"]
        found += [f"{guid} address {a['address'].partition('%')[0]}" for a in active]
        routes = [r for r in adapter["routes"] if r["store"] == ACTIVE and r["destination"] in ("0.0.0.0/0", "::/0")]
        found += [f"{guid} gateway {r['next_hop']}" for r in routes if r["next_hop"] not in leased]
    return found


def _left(adapter: State, key: State) -> Iterator[str]:
    """What an earlier fixed setting has left under DHCP."""
    kept = [a for a in adapter["addresses"] if a["store"] == PERSISTENT and a["prefix_origin"] == "Manual"]
    addresses = [a for a in key.get("IPAddress", ()) if a and a != "0.0.0.0"]
    addresses += [a["address"] for a in kept if ":" not in a["address"]]
    hops = [g for g in key.get("DefaultGateway", ()) if g]
    routes = [r for r in adapter["routes"] if r["store"] == PERSISTENT and r["destination"] == "0.0.0.0/0"]
    hops += [r["next_hop"] for r in routes]
    yield from (f"{adapter['guid']} left address {a}" for a in dict.fromkeys(addresses))
    yield from (f"{adapter['guid']} left gateway {g}" for g in dict.fromkeys(hops))


def _held(key: State) -> list[str]:
    pairs = zip(key.get("IPAddress", ()), key.get("SubnetMask", ()), strict=False)
    return [str(parse_interface_address(f"{address}/{mask}")) for address, mask in pairs if address != "0.0.0.0"]


def _routes(adapter: State, key: State, is_fixed: bool) -> Iterator[str]:
    guid = adapter["guid"]
    for number, gateway in enumerate(key.get("DefaultGateway", ()) if is_fixed else ()):
        metrics: Any = key.get("DefaultGatewayMetric", ())
        metric = str(metrics[number]) if len(metrics) > number else ""
        yield f"{guid} gateway {gateway} metric {(int(metric) if metric.isdecimal() else 0) or 256}"
    for route in adapter["routes"]:
        if route["store"] != PERSISTENT or route["destination"] == "0.0.0.0/0":
            continue
        hop = route["next_hop"].partition("%")[0]
        if route["destination"] == "::/0":
            yield f"{guid} gateway {hop} metric {route['metric']}"
        else:
            via = "-" if hop in ("0.0.0.0", "::") else hop
            yield f"{guid} route {route['destination']} via {via} metric {route['metric']}"


def _listed(text: Any) -> list[str]:
    return str(text).replace(",", " ").split()
