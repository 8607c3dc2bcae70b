"""What ``.network`` files say beside the addressing of an interface, systemd.network(5)."""

from __future__ import annotations

from collections.abc import Iterator

from fixed_anchor.core.addresses import lone_address
from fixed_anchor.core.aside import NAMES, NOT_AT_BOOT, OTHER_TABLE, PORT, Aside
from fixed_anchor.core.config import LinkFacts, Place
from fixed_anchor.formats.network_read import dhcp_of
from fixed_anchor.text.ini import IniText, Setting, truth

#: Settings that name an address, by their sections.
_NAMING = (("Route", "PreferredSource"), ("RoutingPolicyRule", "From"), ("RoutingPolicyRule", "To"))
_MAIN_TABLES = ("254", "main")


def asides_of(parts: list[IniText], link: LinkFacts) -> Iterator[Aside]:
    """What the file of an interface, with its drop-ins, says beside its configuration."""
    for section, key in _NAMING:
        for part, entry in _all(parts, section, key):
            address = lone_address(entry.value)
            if address is not None:
                yield Aside(NAMES, Place(part.path, entry.line), f"{key}={entry.value}", link.name, (address,))
    for key in ("Bridge", "Bond"):
        for part, entry in _all(parts, "Network", key)[-1:]:
            if entry.value:
                text = f"{key}={entry.value}"
                yield Aside(PORT, Place(part.path, entry.line), text, link.name, of=entry.value)
    for part, entry in _all(parts, "Link", "ActivationPolicy")[-1:]:
        if entry.value in ("manual", "down", "always-down"):
            yield Aside(NOT_AT_BOOT, Place(part.path, entry.line), f"ActivationPolicy={entry.value}", link.name)
    for part, entry in _all(parts, "Link", "Unmanaged")[-1:]:
        if truth(entry.value):
            yield Aside(NOT_AT_BOOT, Place(part.path, entry.line), f"Unmanaged={entry.value}", link.name)
    for part, entry in _all(parts, "DHCPv4", "RouteTable")[-1:]:
        if entry.value not in _MAIN_TABLES and dhcp_of(parts)[0]:
            yield Aside(OTHER_TABLE, Place(part.path, entry.line), f"RouteTable={entry.value}", link.name)


def tunnels_in(device: IniText) -> Iterator[Aside]:
    """The addresses from which tunnels leave, in a ``.netdev`` file."""
    name = next((entry.value for _, entry in _all([device], "NetDev", "Name")), "")
    for section in ("Tunnel", "VXLAN", "GENEVE", "FooOverUDP"):
        for _, entry in _all([device], section, "Local"):
            address = lone_address(entry.value)
            if address is not None:
                yield Aside(NAMES, Place(device.path, entry.line), f"Local={entry.value}", name, (address,))


def _all(parts: list[IniText], section: str, key: str) -> list[tuple[IniText, Setting]]:
    return [(part, entry) for part in parts for block in part.named(section) for entry in block.all(key)]
