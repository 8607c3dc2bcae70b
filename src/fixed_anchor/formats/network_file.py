"""systemd-networkd's ``.network`` files, systemd.network(5): the format, and its editing."""

from __future__ import annotations

from fixed_anchor.change.files import Files, FileText
from fixed_anchor.core.aside import Aside
from fixed_anchor.core.config import InterfaceConfig, LinkFacts, Place, Wireless, differences
from fixed_anchor.core.errors import NotSupported
from fixed_anchor.core.programs import DHCPV4_SECTION
from fixed_anchor.formats.network_asides import asides_of, tunnels_in
from fixed_anchor.formats.network_match import (
    FOLDERS,
    is_generated,
    is_shared,
    mains,
    match_rules,
    new_file,
    own_file,
    texts_of,
    unclear,
    winner,
)
from fixed_anchor.formats.network_read import (
    dhcp_of,
    interface_address,
    parsed,
    plain_gateways,
    plain_route,
    read_parts,
)
from fixed_anchor.formats.protocol import Declaration, Texts
from fixed_anchor.text.ini import IniText

#: The sections that an edit may change.
_EDITED = ("Network", "Address", "Route", "Link", "DHCPv4", "DHCP")


class NetworkFile:
    """The format of ``/etc/systemd/network/*.network``."""

    name = "networkd"
    patterns: tuple[str, ...] = tuple(
        folder + pattern for folder in FOLDERS for pattern in ("*.network", "*.network.d/*.conf", "*.netdev")
    )
    mode_taken = 0
    # networkd runs as its own user, and cannot read what is for root alone.
    mode_given = 0o044
    created = 0o644
    run_wins = False
    time_daemon, has_fallback = "systemd-timesyncd", False
    all_or_nothing = False

    def check(self, file: FileText) -> None:
        IniText(file.text, file.path)

    def read(self, files: Files, links: tuple[LinkFacts, ...]) -> tuple[Declaration, ...]:
        found = []
        for link in links:
            parts = _parts(files, link)
            if not parts:
                continue
            config, places = read_parts(parts, link)
            dhcp4, _, dhcp_at = dhcp_of(parts)
            dhcp_in = Place(dhcp_at[0].path, dhcp_at[1].line) if dhcp4 and dhcp_at else None
            found.append(Declaration(link, config, "systemd-networkd", places, identity=parts[0].path, dhcp_in=dhcp_in))
        return tuple(found)

    def asides(self, files: Files, links: tuple[LinkFacts, ...]) -> tuple[Aside, ...]:
        devices = (IniText(file.text, path) for path, file in files.items() if path.endswith(".netdev"))
        found = [aside for device in devices for aside in tunnels_in(device)]
        for link in links:
            found += unclear(files, link)
            found += asides_of(_parts(files, link), link)
        return tuple(found)

    def named(self, files: Files) -> dict[str, str]:
        names: dict[str, str] = {}
        made: dict[str, str] = {}
        for path in mains(files):
            if not is_generated(path):
                parts = texts_of(files, path)
                words = match_rules(parts).get("Name", ())
                names |= dict.fromkeys((word for word in words if not any(c in word for c in "*?[!")), "ethernet")
                # What is made of a link is named in the file of that link, systemd.network(5).
                for block in (b for part in parts for b in part.named("Network")):
                    for key, kind in (("VLAN", "vlan"), ("Bond", "bond"), ("Bridge", "bridge")):
                        made |= {word: kind for entry in block.all(key) for word in entry.value.split()}
        return {name: made.get(name, kind) for name, kind in names.items()}

    def edit(
        self,
        files: Files,
        declared: Declaration,
        wanted: InterfaceConfig,
        todo: tuple[str, ...],
        links: tuple[LinkFacts, ...],
    ) -> Texts:
        parts = _parts(files, declared.link)
        if is_shared(parts) or not parts[0].path.startswith(FOLDERS[0]):
            parts = [own_file(files, parts, declared.link)]
        for part in parts:
            _clear(part, wanted, todo)
        _write(parts[0], declared.config, wanted, todo, declared.link.lacks)
        return {part.path: part.result() for part in parts}

    def declare(
        self, files: Files, link: LinkFacts, wanted: InterfaceConfig, daemon: str, wireless: Wireless | None = None
    ) -> Texts:
        if wireless is not None:
            raise NotSupported(
                f"systemd-networkd joins no wireless network by itself, so {link.name} cannot be declared for it alone",
                remedy="let netplan or NetworkManager have the link: `stack:` of the host in the plan",
            )
        own = new_file(files, link)
        now = InterfaceConfig(link.name, ipv4="off", ipv6="ra")
        _write(own, now, wanted, ("ipv4", *differences(now, wanted)), link.lacks)
        return {own.path: own.result()}

    def names_files(self, files: Files) -> tuple[str, ...]:
        return ()

    def others(self, files: Files, declared: Declaration) -> object:
        # Of the file that was read: it stays as it is where the link gets one of its own.
        parts = texts_of(files, declared.identity)
        return [
            (part.path, block.name, [(e.key, e.value) for e in block.entries])
            for part in parts
            for block in part.blocks
            if block.name not in _EDITED
        ]


def _parts(files: Files, link: LinkFacts) -> list[IniText]:
    """The file of ``link`` and its drop-ins; none where no file matches, or what netplan made does."""
    main = winner(files, link)
    if main is None or is_generated(main):
        return []
    return texts_of(files, main)


def _clear(part: IniText, wanted: InterfaceConfig, todo: tuple[str, ...]) -> None:
    """Drops what the new configuration says otherwise, in one file or drop-in."""
    families = {v for v in (4, 6) if wanted.touches(v)}
    for block in part.named("Network"):
        if "ipv4" in todo or "ipv6" in todo:
            # The setting is for both families: it is written anew in the main file.
            for entry in block.all("DHCP"):
                part.drop(entry)
        for entry in block.all("Address") if "hold" in todo else []:
            if entry.value and interface_address(part, entry).version in families:
                part.drop(entry)
        for entry in block.all("Gateway") if "gateway" in todo else []:
            if entry.value and not entry.value.startswith("_") and parsed(part, entry).version in families:
                part.drop(entry)
        for entry in block.all("DefaultRouteOnDevice") if "gateway" in todo else []:
            part.drop(entry)
        for key, name in (("DNS", "resolvers"), ("NTP", "time_servers")):
            for entry in block.all(key) if name in todo else []:
                part.drop(entry)
        for entry in block.all("Domains") if "search" in todo else []:
            part.drop(entry)
            kept = [w for w in entry.value.split() if w.startswith("~")]
            if kept:
                part.add("Network", [f"Domains={' '.join(kept)}"])
        for entry in block.all("IPv6AcceptRA") + block.all("LinkLocalAddressing") if "ipv6" in todo else []:
            part.drop(entry)
    for block in part.named("Address") if "hold" in todo else []:
        held = block.all("Address")
        if held and interface_address(part, held[-1]).version in families:
            part.drop_block(block)
    for block in part.named("Route") if "gateway" in todo else []:
        route = plain_route(part, block)
        if (
            route is not None
            and route.is_default
            and route.destination.version in families
            and route not in wanted.routes
        ):
            part.drop_block(block)
    if "mtu" in todo:
        for block in part.named("Link"):
            for entry in block.all("MTUBytes"):
                part.drop(entry)
    if wanted.ipv4 == "dhcp":
        for block in part.named("DHCPv4") + part.named("DHCP"):
            for entry in block.all("UseRoutes") + block.all("UseGateway") if "gateway" in todo else []:
                part.drop(entry)
            for entry in block.all("UseDNS") if "resolvers" in todo else []:
                part.drop(entry)


def _write(
    main: IniText, declared: InterfaceConfig, wanted: InterfaceConfig, todo: tuple[str, ...], lacks: frozenset[str]
) -> None:
    """Adds what is wanted to the main file."""
    lines: list[str] = []
    if "ipv4" in todo or "ipv6" in todo:
        lines.append("DHCP=" + _dhcp_word(declared, wanted))
        if "ipv6" in todo and wanted.ipv6 in ("fixed", "off"):
            lines.append("IPv6AcceptRA=no")
            if wanted.ipv6 == "off":
                lines.append("LinkLocalAddressing=no")
        elif "ipv6" in todo and wanted.ipv6 == "ra":
            lines.append("IPv6AcceptRA=yes")
    if "hold" in todo:
        lines += [f"Address={a}" for a in wanted.addresses]
    missing = []
    if "gateway" in todo or "routes" in todo:
        there = {r for b in main.named("Route") if not main.is_gone(b) and (r := plain_route(main, b)) is not None}
        there |= plain_gateways(main)
        for route in wanted.routes:
            if route in there or (route.is_default and "gateway" not in todo):
                continue
            if route.is_default and route.metric is None and not route.on_link:
                lines.append(f"Gateway={route.next_hop}")
            else:
                missing.append(route)
    if "resolvers" in todo:
        lines += [f"DNS={r}" for r in wanted.resolvers or ()]
    if "search" in todo and wanted.search:
        lines.append(f"Domains={' '.join(wanted.search)}")
    if "time_servers" in todo and wanted.time_servers:
        lines.append(f"NTP={' '.join(wanted.time_servers)}")
    if lines:
        main.add("Network", lines)
    if "mtu" in todo:
        main.add("Link", [f"MTUBytes={wanted.mtu}"])
    for route in missing:
        block = [f"Destination={route.destination}"]
        if route.next_hop is not None:
            block.append(f"Gateway={route.next_hop}")
        if route.metric is not None:
            block.append(f"Metric={route.metric}")
        if route.on_link:
            block.append("GatewayOnLink=yes")
        main.add_block("Route", block)
    if wanted.ipv4 == "dhcp":
        uses = []
        if not wanted.lease_routes and "gateway" in todo:
            uses.append("UseRoutes=no")
        if not wanted.lease_resolvers and "resolvers" in todo:
            uses.append("UseDNS=no")
        if uses:
            main.add("DHCP" if DHCPV4_SECTION in lacks else "DHCPv4", uses)


def _dhcp_word(declared: InterfaceConfig, wanted: InterfaceConfig) -> str:
    dhcp4, dhcp6 = declared.ipv4 == "dhcp", declared.ipv6 == "dhcp"
    if wanted.ipv4 != "untouched":
        dhcp4 = wanted.ipv4 == "dhcp"
    if wanted.ipv6 != "untouched":
        dhcp6 = wanted.ipv6 == "dhcp"
    return {(True, True): "yes", (True, False): "ipv4", (False, True): "ipv6", (False, False): "no"}[dhcp4, dhcp6]
