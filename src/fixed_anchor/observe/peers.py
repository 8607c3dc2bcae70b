"""Whom a host talks to over its routers: the other ends of its connections, by ss(8)."""

from __future__ import annotations

import re
from collections.abc import Iterable

from fixed_anchor.core.addresses import IPAddress, IPNetwork, parse_address
from fixed_anchor.core.reaching import is_beyond
from fixed_anchor.machines.readable import Readable

#: Every established connection, in numbers.
CONNECTIONS = ("ss", "-H", "-t", "-n", "state", "established")
#: Ports from which clients connect (ip-sysctl, ip_local_port_range): a service is below.
_CLIENTS_FROM = 32768
_NTP = 123
_END = re.compile(r"(\[[0-9a-fA-F:.]+\]|[0-9.]+)(?:%[^:\]]+)?:(\d+)")


def peers(machine: Readable, on_link: Iterable[IPNetwork], time_servers: Iterable[str] = ()) -> tuple[str, ...]:
    """``ADDRESS PORT`` of those beyond the routers, services first; time servers are tried at their port, last."""
    near = tuple(on_link)
    found: dict[IPAddress, int] = {}
    ran = machine.run(CONNECTIONS) if machine.running else None
    ends = [end for line in ran.out.splitlines() if (end := _far_end(line.split()))] if ran and ran.good else []
    for address, port in sorted(ends, key=lambda end: end[1] >= _CLIENTS_FROM):
        if is_beyond(address, near):
            found.setdefault(address, port)
    for server in time_servers:
        try:
            address = parse_address(server)
        except ValueError:
            continue
        if is_beyond(address, near):
            found.setdefault(address, _NTP)
    return tuple(f"{address} {port}" for address, port in found.items())


def _far_end(words: list[str]) -> tuple[IPAddress, int] | None:
    """``0 0 198.51.100.7:22 203.0.113.9:51514``."""
    end = _END.fullmatch(words[3]) if len(words) > 3 else None
    if end is None:
        return None
    try:
        return parse_address(end[1].strip("[]").removeprefix("::ffff:")), int(end[2])
    except ValueError:
        return None
