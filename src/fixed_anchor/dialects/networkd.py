"""systemd-networkd's ``.network`` files, systemd.network(5): drop-ins, precedence, and all ways to match."""

from __future__ import annotations

from fnmatch import fnmatchcase

from fixed_anchor.core.addresses import (
    IPAddress,
    IPInterface,
    default_network,
    parse_address,
    parse_destination,
    parse_interface_address,
)
from fixed_anchor.core.config import InterfaceConfig, LinkFacts, Place, Route, differences
from fixed_anchor.core.errors import NotSupported
from fixed_anchor.dialects.ini_lines import Block, Entry, IniText, truth
from fixed_anchor.dialects.protocol import Declaration, FileEdit, Files, FileText, Steps

#: systemd.network(5): the folders by precedence; a file of the same name in an earlier one hides a later.
FOLDERS = (
    "/etc/systemd/network/",
    "/run/systemd/network/",
    "/usr/local/lib/systemd/network/",
    "/usr/lib/systemd/network/",
    "/lib/systemd/network/",
)

_DHCP = {
    "yes": (True, True),
    "no": (False, False),
    "ipv4": (True, False),
    "ipv6": (False, True),
    "both": (True, True),
    "none": (False, False),
    "v4": (True, False),
    "v6": (False, True),
}


class Networkd:
    """The dialect of ``/etc/systemd/network/*.network``."""

    name = "networkd"
    patterns: tuple[str, ...] = tuple(
        folder + pattern for folder in FOLDERS for pattern in ("*.network", "*.network.d/*.conf")
    )

    def read(self, files: Files, links: tuple[LinkFacts, ...]) -> tuple[Declaration, ...]:
        found = []
        for link in links:
            main = _winner(files, link)
            # What netplan generated is netplan's to declare.
            if main is None or _is_generated(main):
                continue
            parts = [IniText(files[path].text, path) for path in _parts(files, main)]
            config, places = _read(parts, link)
            dhcp4, _, dhcp_at = _dhcp(parts)
            dhcp_in = Place(dhcp_at[0].path, dhcp_at[1].line) if dhcp4 and dhcp_at else None
            found.append(Declaration(link, config, places, main, "networkd", dhcp_in))
        return tuple(found)

    def named(self, files: Files) -> tuple[str, ...]:
        names: dict[str, None] = {}
        for path in _mains(files):
            if _is_generated(path):
                continue
            for block in IniText(files[path].text, path).named("Match"):
                for word in (block.get("Name") or "").split():
                    if not any(c in word for c in "*?[!"):
                        names[word] = None
        return tuple(names)

    def rewrite(self, files: Files, link: LinkFacts, wanted: InterfaceConfig) -> tuple[FileEdit, ...]:
        main = _winner(files, link)
        if main is None or _is_generated(main):
            raise NotSupported(f"no .network file is for {link.name}", remedy="declare it first, with DHCP=yes")
        parts = [IniText(files[path].text, path) for path in _parts(files, main)]
        declared, _ = _read(parts, link)
        todo = differences(declared, wanted)
        if not todo:
            return ()
        _refuse_shared(parts[0], link)
        for part in parts:
            _clear(part, declared, wanted, todo)
        _write(parts[0], declared, wanted, todo)
        edits = []
        for part in parts:
            before = files[part.path]
            text = part.result()
            if text != before.text:
                if not part.path.startswith("/etc/"):
                    raise NotSupported(
                        f"{part.path} would have to change, and only files under /etc are edited",
                        file=part.path,
                        remedy=f"copy it to /etc/systemd/network/{part.path.rpartition('/')[2]} first",
                    )
                # networkd runs as its own user, and cannot read what is for root alone.
                edits.append(
                    FileEdit(part.path, before, FileText(part.path, text, before.mode | 0o044, before.uid, before.gid))
                )
        again = [
            IniText(next((e.after.text for e in edits if e.after and e.path == p.path), files[p.path].text), p.path)
            for p in parts
        ]
        left = differences(_read(again, link)[0], wanted)
        if left:
            raise NotSupported(f"{', '.join(left)} of {link.name} cannot be written into {main}", file=main)
        return tuple(edits)

    def steps(self, before: Files, after: Files, link: LinkFacts) -> Steps:
        load = (("networkctl", "reload"),)
        return Steps(
            activate=load,
            reload=load,
            escalate=(
                ("networkctl", "reconfigure", link.name),
                ("systemctl", "restart", "systemd-networkd.service"),
            ),
        )


def _is_generated(path: str) -> bool:
    return path.startswith("/run/systemd/network/") and "/10-netplan-" in path


def _rank(path: str) -> int:
    return next(n for n, folder in enumerate(FOLDERS) if path.startswith(folder))


def _mains(files: Files) -> list[str]:
    """The ``.network`` files in the order in which networkd tries them: by name, whatever the folder."""
    by_name: dict[str, str] = {}
    for path in sorted((p for p in files if p.endswith(".network")), key=_rank):
        by_name.setdefault(path.rpartition("/")[2], path)
    return [by_name[name] for name in sorted(by_name)]


def _parts(files: Files, main: str) -> list[str]:
    """``main`` and its drop-ins, in the order in which they are read."""
    by_name: dict[str, str] = {}
    suffix = "/" + main.rpartition("/")[2] + ".d/"
    for path in sorted((p for p in files if suffix in p and p.endswith(".conf")), key=_rank):
        by_name.setdefault(path.rpartition("/")[2], path)
    return [main, *(by_name[name] for name in sorted(by_name))]


def _winner(files: Files, link: LinkFacts) -> str | None:
    for path in _mains(files):
        parts = [IniText(files[p].text, p) for p in _parts(files, path)]
        if _matches(parts, link):
            return path
    return None


def _matches(parts: list[IniText], link: LinkFacts) -> bool:
    blocks = [b for part in parts for b in part.named("Match")]
    entries = [e for b in blocks for e in b.entries]
    # A file with no [Match] at all, or an empty one, is for every interface.
    for entry in entries:
        words = entry.value.split()
        if not words:
            continue
        if entry.key == "Name":
            if not _glob(words, link.name):
                return False
        elif entry.key in ("MACAddress", "PermanentMACAddress"):
            own = (
                {link.mac, link.permanent_mac or link.mac}
                if entry.key == "MACAddress"
                else {link.permanent_mac or link.mac}
            )
            if not own & {w.lower().replace("-", ":") for w in words}:
                return False
        elif entry.key == "Driver":
            if link.driver is None or not _glob(words, link.driver):
                return False
        elif entry.key == "Path":
            if link.path is None or not _glob(words, link.path):
                return False
        elif entry.key == "Type":
            kind = "ether" if link.kind == "ethernet" else link.kind
            if not _glob(words, kind) and not _glob(words, link.kind):
                return False
        elif entry.key == "Kind":
            if not _glob(words, link.kind):
                return False
        else:
            # A condition on the host, the architecture, the SSID: not to be seen from here.
            return False
    return True


def _glob(words: list[str], name: str) -> bool:
    """Whitespace-separated globs; a leading ``!`` inverts the list."""
    inverted = words[0].startswith("!")
    patterns = [words[0].lstrip("!"), *words[1:]]
    return any(fnmatchcase(name, p) for p in patterns) != inverted


def _refuse_shared(main: IniText, link: LinkFacts) -> None:
    """A file for several interfaces cannot hold the address of one."""
    names = [w for b in main.named("Match") for e in b.all("Name") for w in e.value.split()]
    macs = [w for b in main.named("Match") for e in b.entries if e.key.endswith("MACAddress") for w in e.value.split()]
    if len(macs) == 1 or (len(names) == 1 and not any(c in names[0] for c in "*?[!")):
        return
    raise NotSupported(
        f"this file is for every interface that matches {' '.join(names) or 'anything'}, not for {link.name} alone",
        file=main.path,
        line=1,
        remedy=f"make a file of its own for {link.name}, with a name that comes before this one",
    )


def _gather(parts: list[IniText], section: str, key: str) -> list[tuple[IniText, Entry]]:
    """All assignments of a list setting; an empty one resets what came before (systemd.syntax(7))."""
    found: list[tuple[IniText, Entry]] = []
    for part in parts:
        for block in part.named(section):
            for entry in block.all(key):
                if entry.value:
                    found.append((part, entry))
                else:
                    found.clear()
    return found


def _last(parts: list[IniText], section: str, key: str) -> tuple[IniText, Entry] | None:
    found = _gather(parts, section, key)
    return found[-1] if found else None


def _flag(parts: list[IniText], section: str, key: str) -> bool | None:
    found = _last(parts, section, key)
    if found is None:
        return None
    said = truth(found[1].value)
    if said is None:
        raise found[0].bad_value(found[1], f"{found[1].value!r} is neither yes nor no")
    return said


def _parsed(part: IniText, entry: Entry, text: str | None = None) -> IPAddress:
    try:
        # DNS=ADDRESS[:PORT][%INTERFACE][#NAME]
        return parse_address((text or entry.value).partition("#")[0].partition("%")[0])
    except ValueError as error:
        raise part.bad_value(entry, str(error)) from None


def _interface(part: IniText, entry: Entry) -> IPInterface:
    try:
        if "/" not in entry.value:
            address = parse_address(entry.value)
            return parse_interface_address(entry.value, 32 if address.version == 4 else 128)
        return parse_interface_address(entry.value)
    except ValueError as error:
        raise part.bad_value(entry, str(error)) from None


def _dhcp(parts: list[IniText]) -> tuple[bool, bool, tuple[IniText, Entry] | None]:
    found = _last(parts, "Network", "DHCP")
    if found is None:
        return False, False, None
    lowered = found[1].value.lower()
    said = _DHCP.get(lowered)
    if said is None:
        flag = truth(lowered)
        if flag is None:
            raise found[0].bad_value(found[1], f"{found[1].value!r} is none of yes, no, ipv4, ipv6")
        said = (flag, flag)
    return said[0], said[1], found


def _route(part: IniText, block: Block) -> Route | None:
    """A plain route of the main table, or ``None``."""
    if block.get("Type") not in (None, "unicast") or block.get("Table") not in (None, "main", "254"):
        return None
    gateway, destination = block.all("Gateway"), block.all("Destination")
    hop: IPAddress | None = None
    if gateway:
        if gateway[-1].value.startswith("_"):
            return None
        hop = _parsed(part, gateway[-1])
    if destination:
        text = destination[-1].value
        try:
            network = parse_destination(text)
        except ValueError as error:
            raise part.bad_value(destination[-1], str(error)) from None
    elif hop is not None:
        network = default_network(hop.version)
    else:
        return None
    metric = block.get("Metric")
    return Route(
        network,
        hop,
        int(metric) if metric and metric.isdecimal() else None,
        truth(block.get("GatewayOnLink") or block.get("GatewayOnlink") or "no") is True,
    )


def _read(parts: list[IniText], link: LinkFacts) -> tuple[InterfaceConfig, tuple[Place, ...]]:
    main = parts[0]
    places: list[Place] = []

    def seen(part: IniText, entry: Entry) -> None:
        places.append(Place(part.path, entry.line))

    dhcp4, dhcp6, dhcp_at = _dhcp(parts)
    if dhcp_at:
        seen(*dhcp_at)
    addresses: list[IPInterface] = []
    for section in ("Network", "Address"):
        for part, entry in _gather(parts, section, "Address"):
            addresses.append(_interface(part, entry))
            seen(part, entry)
    routes: list[Route] = []
    for part, entry in _gather(parts, "Network", "Gateway"):
        if not entry.value.startswith("_"):
            hop = _parsed(part, entry)
            routes.append(Route(default_network(hop.version), hop))
            seen(part, entry)
    for part in parts:
        for block in part.named("Route"):
            route = _route(part, block)
            if route is not None:
                routes.append(route)
                places.append(Place(part.path, block.first + 1))
    resolvers = []
    for part, entry in _gather(parts, "Network", "DNS"):
        for word in entry.value.split():
            resolvers.append(_parsed(part, entry, word))
        seen(part, entry)
    search: list[str] = []
    for part, entry in _gather(parts, "Network", "Domains"):
        search += [w for w in entry.value.split() if not w.startswith("~")]
        seen(part, entry)
    servers = [w for _, e in _gather(parts, "Network", "NTP") for w in e.value.split()]
    accept_ra = _flag(parts, "Network", "IPv6AcceptRA")
    mtu = _last(parts, "Link", "MTUBytes")
    held4 = any(a.version == 4 for a in addresses)
    held6 = any(a.version == 6 and not a.is_link_local for a in addresses)
    section4 = "DHCPv4" if any(p.named("DHCPv4") for p in parts) else "DHCP"
    use_routes = _flag(parts, section4, "UseRoutes")
    use_gateway = _flag(parts, section4, "UseGateway")
    use_dns = _flag(parts, section4, "UseDNS")
    config = InterfaceConfig(
        link.name,
        ipv4="dhcp" if dhcp4 else "fixed" if held4 else "off",
        ipv6="dhcp" if dhcp6 else "fixed" if held6 else "off" if accept_ra is False else "ra",
        addresses=tuple(addresses),
        routes=tuple(routes),
        resolvers=tuple(resolvers) or None,
        search=tuple(search) or None,
        mtu=int(mtu[1].value) if mtu and mtu[1].value.isdecimal() else None,
        time_servers=tuple(servers) or None,
        lease_routes=use_routes is not False and use_gateway is not False,
        lease_resolvers=use_dns is not False,
    )
    return config, (Place(main.path, 1), *sorted(set(places)))


def _clear(part: IniText, declared: InterfaceConfig, wanted: InterfaceConfig, todo: tuple[str, ...]) -> None:
    """Drops what the new configuration says otherwise, in one file or drop-in."""
    families = {v for v in (4, 6) if wanted.touches(v)}
    for block in part.named("Network"):
        if "ipv4" in todo or "ipv6" in todo:
            # The setting is for both families: it is written anew in the main file.
            for entry in block.all("DHCP"):
                part.drop(entry)
        for entry in block.all("Address") if "hold" in todo else []:
            if entry.value and _interface(part, entry).version in families:
                part.drop(entry)
        for entry in block.all("Gateway") if "gateway" in todo else []:
            if entry.value and not entry.value.startswith("_") and _parsed(part, entry).version in families:
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
        if held and _interface(part, held[-1]).version in families:
            part.drop_block(block)
    for block in part.named("Route") if "gateway" in todo else []:
        route = _route(part, block)
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


def _write(main: IniText, declared: InterfaceConfig, wanted: InterfaceConfig, todo: tuple[str, ...]) -> None:
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
        there = {r for b in main.named("Route") if b.first not in main.gone and (r := _route(main, b)) is not None}
        there |= _plain_gateways(main)
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
            main.add("DHCPv4", uses)


def _plain_gateways(main: IniText) -> set[Route]:
    found = set()
    for block in main.named("Network"):
        for entry in block.all("Gateway"):
            if entry.value and not entry.value.startswith("_") and entry.first not in main.gone:
                hop = _parsed(main, entry)
                found.add(Route(default_network(hop.version), hop))
    return found


def _dhcp_word(declared: InterfaceConfig, wanted: InterfaceConfig) -> str:
    dhcp4, dhcp6 = declared.ipv4 == "dhcp", declared.ipv6 == "dhcp"
    if wanted.ipv4 != "untouched":
        dhcp4 = wanted.ipv4 == "dhcp"
    if wanted.ipv6 != "untouched":
        dhcp6 = wanted.ipv6 == "dhcp"
    return {(True, True): "yes", (True, False): "ipv4", (False, True): "ipv6", (False, False): "no"}[dhcp4, dhcp6]
