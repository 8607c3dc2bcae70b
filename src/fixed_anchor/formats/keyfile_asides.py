"""What NetworkManager's profiles say beside the addressing of an interface, nm-settings(5)."""

from __future__ import annotations

from collections.abc import Iterator

from fixed_anchor.core.addresses import IPAddress, addresses_in, lone_address
from fixed_anchor.core.aside import NAMES, NOT_AT_BOOT, OTHER_TABLE, PORT, Aside
from fixed_anchor.core.config import LinkFacts, Place
from fixed_anchor.formats.keyfile_match import starts_by_itself
from fixed_anchor.formats.keyfile_read import entries_of, value_of
from fixed_anchor.text.ini import IniText

#: What makes ports of interfaces, as a profile calls it; those of a VRF do take addresses.
_MASTERS = ("bridge", "bond", "team", "ovs-bridge", "ovs-port")


def asides_of(profile: IniText, profiles: list[IniText], link: LinkFacts) -> Iterator[Aside]:
    """What the ``profile`` of a link says beside its configuration; ``profiles`` are all of the host."""

    def at(line: int) -> Place:
        return Place(profile.path, line)

    for entry in entries_of(profile, "connection"):
        text = f"{entry.key}={entry.value}"
        if entry.key == "autoconnect" and not starts_by_itself(profile):
            yield Aside(NOT_AT_BOOT, at(entry.line), text, link.name)
        kinds = (value_of(profile, "connection", key) for key in ("slave-type", "port-type"))
        if entry.key in ("master", "controller") and entry.value and any(kind in _MASTERS for kind in kinds):
            yield Aside(PORT, at(entry.line), text, link.name, of=_interface(entry.value, profiles))
    for section in ("ipv4", "ipv6"):
        for entry in entries_of(profile, section):
            text = f"{entry.key}={entry.value}"
            if entry.key == "route-table" and entry.value not in ("0", "254", ""):
                yield Aside(OTHER_TABLE, at(entry.line), text, link.name)
            named: tuple[IPAddress, ...] = ()
            if entry.key.startswith("routing-rule"):
                named = addresses_in(entry.value)
            elif entry.key.startswith("route") and entry.key.endswith("_options"):
                options = dict(o.strip().partition("=")[::2] for o in entry.value.split(","))
                source = lone_address(options.get("src", ""))
                named = (source,) if source is not None else ()
            if named:
                yield Aside(NAMES, at(entry.line), text, link.name, named)


def _interface(master: str, profiles: list[IniText]) -> str:
    """The interface of a master that is named by the UUID of its profile; one that is named itself."""
    for profile in profiles:
        if value_of(profile, "connection", "uuid") == master:
            return value_of(profile, "connection", "interface-name") or master
    return master


def tunnels_in(profiles: list[IniText]) -> Iterator[Aside]:
    """The addresses from which tunnels leave."""
    for profile in profiles:
        for section in ("ip-tunnel", "vxlan"):
            for entry in entries_of(profile, section):
                address = lone_address(entry.value) if entry.key == "local" else None
                if address is not None:
                    name = value_of(profile, "connection", "interface-name") or section
                    place = Place(profile.path, entry.line)
                    yield Aside(NAMES, place, f"local={entry.value}", name, (address,))
