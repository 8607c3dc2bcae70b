"""ifcfg files of the Red Hat family: the format, and its editing."""

from __future__ import annotations

from fixed_anchor.change.files import Files, FileText
from fixed_anchor.core.aside import Aside
from fixed_anchor.core.config import ALL_NAMES, InterfaceConfig, LinkFacts, Place, Wireless, differences
from fixed_anchor.core.errors import NotSupported
from fixed_anchor.formats.ifcfg_asides import asides_of
from fixed_anchor.formats.ifcfg_new import new_lines, radio_of
from fixed_anchor.formats.ifcfg_read import (
    FOLDER,
    NETWORK,
    NUMBERED,
    aliases_of,
    carried_out_by,
    host_file,
    interface_files,
    is_assigned,
    is_unbound,
    kept_from_default,
    main_of,
    mains,
    read_main,
    routes_in,
)
from fixed_anchor.formats.protocol import Declaration, Loaded, Texts
from fixed_anchor.text.lines import LineEditor
from fixed_anchor.text.shell import ShellFile

#: What an edit may change, beside the numbered ones.
_EDITED = frozenset(
    {
        "DEVICE", "BOOTPROTO", "METRIC", "DOMAIN", "MTU", "DEFROUTE", "PEERDNS", "IPV6_DEFROUTE",
        "IPV6INIT", "IPV6_AUTOCONF", "DHCPV6C", "IPV6ADDR", "IPV6ADDR_SECONDARIES", "IPV6_DEFAULTGW",
    }
)  # fmt: skip

#: What the file for all interfaces says of the one way out, beside what else it says.
_OF_HOST = ("GATEWAY", "GATEWAYDEV", "IPV6_DEFAULTDEV")


#: Kinds of link by `TYPE`, in lower case.
_KINDS = {"wireless": "wireless", "vlan": "vlan", "bond": "bond", "bridge": "bridge", "team": "team"}


class Ifcfg:
    """The format of ``/etc/sysconfig/network-scripts``."""

    name = "ifcfg"
    patterns: tuple[str, ...] = (
        *(FOLDER + p for p in ("ifcfg-*", "keys-*", "route-*", "route6-*", "rule-*", "rule6-*")),
        NETWORK,
    )
    mode_taken = 0
    mode_given = 0
    created = 0o644
    run_wins = False
    time_daemon, has_fallback = "", False
    all_or_nothing = False

    def check(self, file: FileText) -> None:
        if file.path == NETWORK or interface_files({file.path: file}):
            ShellFile(file)
        elif "/route" in file.path:
            routes_in(file)

    def read(self, files: Files, links: tuple[LinkFacts, ...]) -> tuple[Declaration, ...]:
        found = []
        for link in links:
            main = main_of(files, link)
            if main is None:
                continue
            config, places = read_main(files, main, link)
            daemon = carried_out_by(main)
            path, uuid = main.file.path, main.get("UUID")
            on = main.all("BOOTPROTO")
            dhcp_in = Place(path, on[-1].first + 1) if on and config.ipv4 == "dhcp" else None
            # NetworkManager makes a UUID of its own where the file names none.
            loaded = Loaded(path, ("uuid", uuid) if uuid else ())
            identity = path.rpartition("ifcfg-")[2]
            found.append(Declaration(link, config, daemon, places, identity, loaded, dhcp_in))
        return tuple(found)

    def asides(self, files: Files, links: tuple[LinkFacts, ...]) -> tuple[Aside, ...]:
        pairs = ((main_of(files, link), link) for link in links)
        return tuple(a for main, link in pairs if main is not None for a in asides_of(files, main, link))

    def named(self, files: Files) -> dict[str, str]:
        names: dict[str, str] = {}
        for path in mains(files):
            file = ShellFile(files[path])
            name = file.get("DEVICE") or path.rpartition("ifcfg-")[2]
            if name != "lo" and not is_unbound(file):
                kind = _KINDS.get(file.get("TYPE").lower(), "ethernet")
                names[name] = "vlan" if file.yes("VLAN", False) else "bond" if file.get("BONDING_OPTS") else kind
        return names

    def edit(
        self,
        files: Files,
        declared: Declaration,
        wanted: InterfaceConfig,
        todo: tuple[str, ...],
        links: tuple[LinkFacts, ...],
    ) -> Texts:
        main, link = ShellFile(files[declared.file]), declared.link
        _refuse_unsupported(wanted)
        _edit_main(main, wanted, todo)
        if is_unbound(main):
            # On another link the fixed addresses would be wrong.
            main.set("DEVICE", link.name)
        texts: dict[str, str | None] = {main.file.path: main.result()}
        if "hold" in todo and wanted.touches(4):
            # The files hold nothing but additional addresses of the family: they go.
            texts |= dict.fromkeys(aliases_of(files, main, link))
        if "gateway" in todo:
            texts |= _edit_host_file(files, link, wanted)
        if {"gateway", "routes"} & set(todo):
            texts |= _edit_routes(files, link, wanted)
        return texts

    def declare(
        self, files: Files, link: LinkFacts, wanted: InterfaceConfig, daemon: str, wireless: Wireless | None = None
    ) -> Texts:
        _refuse_unsupported(wanted)
        path = f"{FOLDER}ifcfg-{link.name}"
        if path in files:
            raise NotSupported(f"{path} exists, and is for another interface", file=path)
        keys, more = radio_of(files, link, wireless) if wireless is not None else ({}, {})
        main = ShellFile(FileText(path, "".join(new_lines(files, link, wanted, daemon)), self.created))
        for name, value in keys.items():
            main.set(name, value)
        now, _ = read_main({**files, path: main.file}, main, link)
        todo = differences(now, wanted)
        # A file that is not there yet keeps no former lines.
        _edit_main(main, wanted, todo)
        texts: dict[str, str | None] = {path: main.result(), **more}
        if "gateway" in todo:
            texts |= _edit_host_file({**files, path: main.file}, link, wanted)
        return texts | (_edit_routes(files, link, wanted) if "routes" in todo else {})

    def names_files(self, files: Files) -> tuple[str, ...]:
        return ()

    def others(self, files: Files, declared: Declaration) -> object:
        main = ShellFile(files[declared.file])
        host = host_file(files)
        rest = [(a.name, a.value) for a in (host.assignments if host is not None else ()) if a.name not in _OF_HOST]
        return rest, [
            (a.name, a.value) for a in main.assignments if a.name not in _EDITED and NUMBERED.fullmatch(a.name) is None
        ]


def _refuse_unsupported(wanted: InterfaceConfig) -> None:
    if wanted.time_servers is not None:
        raise NotSupported(f"`time_servers` on {wanted.interface}: ifcfg files have no place for them")
    hops6 = wanted.default_routes(6)
    if any(r.metric is not None for r in hops6) or len(hops6) > 1 or len(wanted.default_routes(4)) > 1:
        raise NotSupported(
            f"several or weighted IPv6 gateways, or several IPv4 ones, on {wanted.interface}: one is written"
        )


def _edit_main(main: ShellFile, wanted: InterfaceConfig, todo: tuple[str, ...]) -> None:
    if wanted.touches(4) and {"ipv4", "hold", "gateway"} & set(todo):
        if "ipv4" in todo:
            main.set("BOOTPROTO", "dhcp" if wanted.ipv4 == "dhcp" else "none")
        if "hold" in todo:
            _edit_addresses(main, wanted)
        defaults = wanted.default_routes(4)
        for assignment in main.assignments:
            if (m := NUMBERED.fullmatch(assignment.name)) and m[1] == "GATEWAY" and m[2]:
                main.drop(assignment.name)
        if not defaults:
            main.drop("GATEWAY")
        else:
            main.set("GATEWAY", str(defaults[0].next_hop))
            if defaults[0].metric is not None:
                main.set("METRIC", str(defaults[0].metric))
            else:
                main.drop("METRIC")
    if wanted.touches(6) and {"ipv6", "hold", "gateway"} & set(todo):
        _edit_ipv6(main, wanted)
    if "resolvers" in todo:
        for assignment in main.assignments:
            if (m := NUMBERED.fullmatch(assignment.name)) and m[1] == "DNS":
                number = int(m[2] or 0)
                if not 1 <= number <= len(wanted.resolvers or ()):
                    main.drop(assignment.name)
        for number, resolver in enumerate(wanted.resolvers or (), 1):
            main.set(f"DNS{number}", str(resolver))
    if {"search", "resolvers"} & set(todo):
        words = main.get("DOMAIN").split()
        searched = [w for w in words if not w.startswith("~")] if wanted.search is None else list(wanted.search)
        kept = [w for w in words if w.startswith("~") and w != ALL_NAMES]
        # Without a default route or a search domain NetworkManager would not ask these resolvers.
        nowhere = wanted.resolvers_lead_nowhere and carried_out_by(main) == "NetworkManager"
        domains = [*searched, *kept, *([ALL_NAMES] if nowhere else [])]
        if domains:
            main.set("DOMAIN", " ".join(domains))
        else:
            main.drop("DOMAIN")
    if "mtu" in todo:
        main.set("MTU", str(wanted.mtu))
    leased = {4: wanted.ipv4 == "dhcp", 6: wanted.ipv6 in ("dhcp", "ra")}
    for version, name in ((4, "DEFROUTE"), (6, "IPV6_DEFROUTE")):
        if wanted.default_routes(version) or leased[version]:
            carries = bool(wanted.default_routes(version)) or wanted.lease_routes
            if main.yes(name, True) != carries and (carries or version == 4):
                main.set(name, "yes" if carries else "no")
    if any(leased.values()) and main.yes("PEERDNS", True) != wanted.lease_resolvers:
        main.set("PEERDNS", "yes" if wanted.lease_resolvers else "no")


def _edit_addresses(main: ShellFile, wanted: InterfaceConfig) -> None:
    addresses = wanted.of_family(4)
    # The form that is there is kept: IPADDR alone or numbered, prefix or dotted mask.
    numbered = any(a.name == "IPADDR0" for a in main.assignments) and not main.get("IPADDR")
    suffixes = [str(n) if n or numbered else "" for n in range(len(addresses))]
    dotted = any(a.name.startswith("NETMASK") for a in main.assignments) and not main.get("PREFIX")
    for assignment in main.assignments:
        matched = NUMBERED.fullmatch(assignment.name)
        if matched and matched[1] in ("IPADDR", "PREFIX", "NETMASK") and matched[2] not in suffixes:
            main.drop(assignment.name)
        elif matched and matched[1] in ("BROADCAST", "NETWORK"):
            # What was computed of the former address.
            main.drop(assignment.name)
    for suffix, address in zip(suffixes, addresses, strict=True):
        main.set(f"IPADDR{suffix}", str(address.ip))
        if dotted:
            main.drop(f"PREFIX{suffix}")
            main.set(f"NETMASK{suffix}", str(address.netmask))
        else:
            main.drop(f"NETMASK{suffix}")
            main.set(f"PREFIX{suffix}", str(address.network.prefixlen))


def _edit_ipv6(main: ShellFile, wanted: InterfaceConfig) -> None:
    held = [str(a) for a in wanted.of_family(6)]
    main.set("IPV6INIT", "no" if wanted.ipv6 == "off" else "yes")
    if wanted.ipv6 == "ra" and main.all("IPV6_AUTOCONF"):
        main.set("IPV6_AUTOCONF", "yes")
    elif wanted.ipv6 in ("fixed", "off"):
        main.set("IPV6_AUTOCONF", "no")
    if wanted.ipv6 == "dhcp":
        main.set("DHCPV6C", "yes")
    elif main.yes("DHCPV6C", False):
        main.set("DHCPV6C", "no")
    for name, value in (("IPV6ADDR", held[:1]), ("IPV6ADDR_SECONDARIES", held[1:])):
        if value:
            main.set(name, " ".join(value))
        else:
            main.drop(name)
    defaults = wanted.default_routes(6)
    if defaults:
        hop = defaults[0].next_hop
        # The scripts want the zone of a link-local one said.
        zone = f"%{wanted.interface}" if hop is not None and hop.is_link_local else ""
        main.set("IPV6_DEFAULTGW", f"{hop}{zone}")
    else:
        main.drop("IPV6_DEFAULTGW")


def _edit_host_file(files: Files, link: LinkFacts, wanted: InterfaceConfig) -> dict[str, str | None]:
    """What is said of the one way out for all interfaces goes where it is not what is wanted."""
    host = host_file(files)
    main = main_of(files, link)
    if host is None or main is None:
        return {}
    for version, file, name in kept_from_default(files, main, link):
        if file.file.path == NETWORK and wanted.default_routes(version):
            host.drop(name)
    if wanted.touches(4) and not wanted.default_routes(4):
        host.drop("GATEWAY")
    text = host.result()
    return {NETWORK: text} if text != files[NETWORK].text else {}


def _edit_routes(files: Files, link: LinkFacts, wanted: InterfaceConfig) -> dict[str, str | None]:
    texts: dict[str, str | None] = {}
    for version, kind in ((4, "route-"), (6, "route6-")):
        path = f"{FOLDER}{kind}{link.name}"
        there = routes_in(files.get(path))
        gone = [
            (first, last)
            for first, last, route in there
            if route.is_default and wanted.touches(version) and route not in wanted.routes
        ]
        present = {route for _, _, route in there}
        missing = [
            r for r in wanted.routes if not r.is_default and r.destination.version == version and r not in present
        ]
        if not gone and not missing:
            continue
        editor = LineEditor(files[path].text if path in files else "")
        if is_assigned(editor.lines):
            raise NotSupported(
                "routes in the form ADDRESSn=... are not added to",
                file=path,
                remedy="use the form `DESTINATION via GATEWAY dev IF`",
            )
        for first, last in gone:
            editor.drop(first, last)
        for route in missing:
            via = f" via {route.next_hop}" if route.next_hop is not None else ""
            metric = f" metric {route.metric}" if route.metric is not None else ""
            on_link = " onlink" if route.on_link else ""
            editor.append([f"{route.destination}{via} dev {link.name}{metric}{on_link}"])
        texts[path] = editor.result()
    return texts
