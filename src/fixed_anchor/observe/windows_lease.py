"""What a DHCP lease gives a Windows machine, its address and much beside, by the registry."""

from __future__ import annotations

from collections.abc import Iterator

import msgspec

from fixed_anchor.core.addresses import parse_address
from fixed_anchor.core.config import Route
from fixed_anchor.core.errors import printable
from fixed_anchor.core.survey import FoundAddress, Lease
from fixed_anchor.machines.windows.alternate import options_in
from fixed_anchor.machines.windows.windows_facts import Kept, listed
from fixed_anchor.packets.dhcp import SEARCH, STATIC_ROUTES, Dhcp

_MTU, _TIME_SERVERS, _NAME_SERVERS_OF_OLD, _NODE_TYPE, _ROUTES_OF_OLD, _PROXY = 26, 42, 44, 46, 249, 252


def lease_of(kept: Kept | None, addresses: tuple[FoundAddress, ...]) -> Lease | None:
    """The lease in force. What an older one gave stays in the registry, and counts for nothing.

    Raises :class:`ValueError` for a value that is none.
    """
    leased = next((a for a in addresses if a.origin == "dhcp" and a.address.version == 4), None)
    if kept is None or leased is None or kept.dhcp != "1":
        return None
    gave = kept.lease
    lease = Lease(
        leased.address.ip,
        leased.seconds_left,
        parse_address(gave.server) if gave.server else None,
        resolvers=tuple(parse_address(a) for a in listed(gave.name_servers)),
        search=listed(gave.domain),
    )
    try:
        options = options_in(bytes.fromhex(gave.options or ""))
    except ValueError:
        return msgspec.structs.replace(lease, others=("options that could not be read",))
    return _with_options(lease, options)


def _with_options(lease: Lease, options: dict[int, bytes]) -> Lease:
    # Option 249 is what 121 was called before it had a number (RFC 3442); where both are there the later one counts.
    message = Dhcp(
        True, 0, "", {**options, STATIC_ROUTES: options.get(STATIC_ROUTES) or options.get(_ROUTES_OF_OLD, b"")}
    )
    routes = tuple(Route(network, hop) for network, hop in message.routes if network.prefixlen)
    mtu = options.get(_MTU, b"")
    return msgspec.structs.replace(
        lease,
        mtu=int.from_bytes(mtu, "big") if len(mtu) == 2 else None,
        time_servers=tuple(map(str, message.addresses(_TIME_SERVERS))),
        routes=routes,
        search=message.search if SEARCH in options else lease.search,
        others=tuple(_others(message)),
    )


def _others(message: Dhcp) -> Iterator[str]:
    """What no key of a plan is about."""
    names = message.addresses(_NAME_SERVERS_OF_OLD)
    if names:
        yield f"the NetBIOS name servers {', '.join(map(str, names))}"
    node = message.options.get(_NODE_TYPE, b"")
    if node:
        yield f"the NetBIOS node type {node[0]}"
    proxy = message.options.get(_PROXY, b"").rstrip(b"\0").decode("ascii", "replace").strip()
    if proxy:
        yield f"the proxy configuration {printable(proxy)}"
