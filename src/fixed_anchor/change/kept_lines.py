"""What is kept on a Windows machine as plain lines, in which its engine reads it there and compares it with a change's.

``settings.ps1`` makes the same lines of what it finds; a test holds the two together. Adapters are called by their
GUIDs. Order means nothing but within a line.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping

from fixed_anchor.change.settings import AdapterSettings, Settings

_FAMILIES = {4: "IPv4", 6: "IPv6"}


def kept_lines(settings: Settings, options: Mapping[str, str]) -> tuple[str, ...]:
    """The lines of ``settings``; ``options`` are the alternate configurations by GUID, in hexadecimal."""
    lines = [line for adapter in settings.adapters for line in _of_adapter(adapter, options.get(adapter.guid, ""))]
    return (*lines, "machine search " + (",".join(settings.machine.search) or "-"))


def _of_adapter(adapter: AdapterSettings, options: str) -> Iterator[str]:
    said = adapter.guid
    yield f"{said} ipv4 {adapter.ipv4}"
    yield f"{said} ipv6 {adapter.ipv6}"
    yield f"{said} hears-routers {'yes' if adapter.hears_routers else 'no'}"
    for held in adapter.addresses:
        yield f"{said} address {held.address} {'source' if held.is_source else 'aside'}"
    for gateway in adapter.gateways:
        yield f"{said} gateway {gateway.address} metric {gateway.metric}"
    for route in adapter.routes:
        hop = "-" if route.next_hop is None else route.next_hop
        yield f"{said} route {route.destination} via {hop} metric {route.metric}"
    yield from (f"{said} left {what}" for what in adapter.left)
    yield f"{said} resolvers {','.join(map(str, adapter.resolvers)) or '-'}"
    yield f"{said} netbios {','.join(map(str, adapter.netbios_servers)) or '-'}"
    yield f"{said} suffix {adapter.suffix or '-'}"
    for version, family in _FAMILIES.items():
        takes = version in adapter.default_from_lease or adapter.method(version) == "off"
        yield f"{said} default-routes {family} {'taken' if takes else 'ignored'}"
        if adapter.mtu is not None and adapter.method(version) != "off":
            yield f"{said} mtu {family} {adapter.mtu}"
    yield f"{said} fallback {options or '-'}"
