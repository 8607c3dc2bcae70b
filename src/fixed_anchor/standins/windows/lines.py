"""What is kept on a simulated Windows machine, in the lines that its engine compares; see ``change/kept_lines.py``."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Any

from fixed_anchor.core.addresses import parse_interface_address
from fixed_anchor.standins.windows.addressing import PERSISTENT, adapter_with
from fixed_anchor.standins.windows.state import ALTERNATES, INTERFACES, INTERFACES6, State


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
    servers = [*_listed(key.get("NameServer", ""))]
    servers += _listed(state["registry"].get(f"{INTERFACES6}\\{guid}", {}).get("NameServer", ""))
    yield f"{guid} resolvers {','.join(servers) or '-'}"
    yield f"{guid} suffix {key.get('Domain') or '-'}"
    for family in ("IPv4", "IPv6"):
        ignores = sides.get(family, {}).get("ignores_defaults") == "Enabled"
        yield f"{guid} default-routes {family} {'ignored' if ignores else 'taken'}"
        if family in sides and any(line.startswith(f"{guid} mtu {family} ") for line in was):
            yield f"{guid} mtu {family} {sides[family]['mtu']}"
    options = state["registry"].get(f"{ALTERNATES}\\Alternate_{guid}", {}).get("Options")
    counts = f"Alternate_{guid}" in key.get("ActiveConfigurations", ())
    yield f"{guid} fallback {bytes(options).hex() if counts and options is not None else '-'}"


def _held(key: State) -> list[str]:
    pairs = zip(key.get("IPAddress", ()), key.get("SubnetMask", ()), strict=False)
    return [str(parse_interface_address(f"{address}/{mask}")) for address, mask in pairs if address != "0.0.0.0"]


def _routes(adapter: State, key: State, is_fixed: bool) -> Iterator[str]:
    guid = adapter["guid"]
    for number, gateway in enumerate(key.get("DefaultGateway", ()) if is_fixed else ()):
        metrics: Any = key.get("DefaultGatewayMetric", ())
        yield f"{guid} gateway {gateway} metric {metrics[number] if len(metrics) > number else '-'}"
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
