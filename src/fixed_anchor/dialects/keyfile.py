"""NetworkManager's key files, nm-settings-keyfile(5): profiles in all its folders, and which of them wins."""

from __future__ import annotations

import re
import uuid

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
from fixed_anchor.dialects.ini_lines import Entry, IniText, truth
from fixed_anchor.dialects.protocol import Declaration, FileEdit, Files, FileText, Steps

ETC = "/etc/NetworkManager/system-connections/"
FOLDERS = (ETC, "/run/NetworkManager/system-connections/", "/usr/lib/NetworkManager/system-connections/")

#: Profile types by the kind of link they are for.
_TYPES = {
    "ethernet": ("ethernet", "802-3-ethernet"),
    "wireless": ("wifi", "802-11-wireless"),
    "vlan": ("vlan",),
    "bond": ("bond",),
    "bridge": ("bridge",),
}
_METHODS4 = {"auto": "dhcp", "manual": "fixed", "disabled": "off", "link-local": "off"}
_METHODS6 = {"auto": "ra", "dhcp": "dhcp", "manual": "fixed", "disabled": "off", "ignore": "off", "link-local": "off"}
_WRITTEN4 = {"dhcp": "auto", "fixed": "manual", "off": "disabled"}
_WRITTEN6 = {"ra": "auto", "dhcp": "dhcp", "fixed": "manual", "off": "disabled"}
_NUMBERED = re.compile(r"(address|addresses|route|routes)([0-9]*)")
_NAMESPACE = uuid.UUID("6f2d3b1c-5d0e-5c59-9f6e-2b7f0a6f1a10")


class Keyfile:
    """The dialect of ``/etc/NetworkManager/system-connections``."""

    name = "NetworkManager"
    patterns: tuple[str, ...] = tuple(f"{folder}*" for folder in FOLDERS)

    def read(self, files: Files, links: tuple[LinkFacts, ...]) -> tuple[Declaration, ...]:
        profiles = _profiles(files)
        found = []
        for link in links:
            mine = _ranked(profiles, link)
            if not mine or _is_generated(mine[0].path):
                continue
            config, places = _read(mine[0], link)
            on = [e for e in _entries(mine[0], "ipv4") if e.key == "method" and e.value == "auto"]
            dhcp_in = Place(mine[0].path, on[-1].line) if on else None
            found.append(Declaration(link, config, places, _uuid(mine[0]), "NetworkManager", dhcp_in))
        return tuple(found)

    def named(self, files: Files) -> tuple[str, ...]:
        names = (_value(p, "connection", "interface-name") for p in _profiles(files) if not _is_generated(p.path))
        return tuple(dict.fromkeys(n for n in names if n))

    def rewrite(self, files: Files, link: LinkFacts, wanted: InterfaceConfig) -> tuple[FileEdit, ...]:
        mine = _ranked(_profiles(files), link)
        if not mine or _is_generated(mine[0].path):
            raise NotSupported(
                f"no profile is for {link.name}", remedy="let NetworkManager bring it up first, on its lease"
            )
        winner = mine[0]
        declared, _ = _read(winner, link)
        todo = differences(declared, wanted)
        if not todo:
            return ()
        _refuse_unsupported(winner, link, wanted)
        if not winner.path.startswith(ETC):
            before, path = None, f"{ETC}{link.name}.nmconnection"
            if path in files:
                raise NotSupported(f"{path} exists, but another profile wins for {link.name}", file=path)
            text = IniText(_new_profile(link), path, comments="#", continued=False)
            todo = differences(_read(text, link)[0], wanted)
        else:
            before, path = files[winner.path], winner.path
            text = winner
        _edit(text, wanted, todo)
        rivals = [p for p in mine[1:] if _priority(p) >= _priority(winner) and p.path.startswith(ETC)]
        if rivals and before is not None:
            # At equal priority the profile used last wins, which no file tells.
            text.set("connection", "autoconnect-priority", str(max(_priority(p) for p in rivals) + 10))
        after = FileText(path, text.result(), 0o600, 0, 0)
        left = differences(_read(IniText(after.text, path, comments="#", continued=False), link)[0], wanted)
        if left:
            raise NotSupported(f"{', '.join(left)} of {link.name} cannot be written into {path}", file=path)
        return (FileEdit(path, before, after),)

    def steps(self, before: Files, after: Files, link: LinkFacts) -> Steps:
        old, new = _ranked(_profiles(before), link), _ranked(_profiles(after), link)
        restart = ("systemctl", "restart", "NetworkManager.service")
        connect = ("nmcli", "--wait", "30", "device", "connect", link.name)
        if not old or not new:
            return Steps(activate=(restart,), reload=(restart,))
        same = old[0].path == new[0].path
        same_priority = same and _priority(old[0]) == _priority(new[0])
        return Steps(
            activate=_load(new[0], link, gently=same_priority),
            reload=_load(old[0], link, gently=same_priority)
            if same
            # The new file is gone again: NetworkManager makes its automatic profile anew.
            else (("nmcli", "connection", "reload"), connect),
            escalate=(connect, restart),
        )


def _load(profile: IniText, link: LinkFacts, gently: bool) -> tuple[tuple[str, ...], ...]:
    load = ("nmcli", "connection", "load", profile.path)
    if gently:
        # Edited in place, and applied to the device as it runs: nothing goes down.
        return (load, ("nmcli", "device", "reapply", link.name))
    return (load, ("nmcli", "--wait", "30", "connection", "up", "uuid", _uuid(profile)))


def _is_generated(path: str) -> bool:
    """Whether netplan wrote the profile: then it is netplan's to declare."""
    return path.startswith("/run/") and path.rpartition("/")[2].startswith("netplan-")


def _profiles(files: Files) -> list[IniText]:
    """All profiles; of one file name, /etc hides /run hides /usr/lib."""
    by_name: dict[str, str] = {}
    for folder in FOLDERS:
        for path in sorted(p for p in files if p.startswith(folder)):
            name = path[len(folder) :]
            # Backup and hidden files are passed over, and so is what is no key file at all.
            if name.startswith(".") or name.endswith(("~", ".rpmsave", ".rpmnew", ".bak", ".swp")):
                continue
            by_name.setdefault(name, path)
    return [IniText(files[p].text, p, comments="#", continued=False) for p in by_name.values()]


def _value(profile: IniText, section: str, key: str) -> str | None:
    values = [v for b in profile.named(section) if (v := b.get(key)) is not None]
    return values[-1] if values else None


def _uuid(profile: IniText) -> str:
    return _value(profile, "connection", "uuid") or ""


def _priority(profile: IniText) -> int:
    text = _value(profile, "connection", "autoconnect-priority") or "0"
    try:
        return int(text)
    except ValueError:
        return 0


def _ranked(profiles: list[IniText], link: LinkFacts) -> list[IniText]:
    """The profiles that may be brought up on ``link``, the one that wins first."""
    types = _TYPES.get(link.kind, _TYPES["ethernet"])
    found = []
    for profile in profiles:
        if _value(profile, "connection", "type") not in types:
            continue
        if truth(_value(profile, "connection", "autoconnect") or "yes") is False:
            continue
        name = _value(profile, "connection", "interface-name")
        if name is not None and name != link.name:
            continue
        macs = [m for s in types if (m := _value(profile, s, "mac-address"))]
        if macs and macs[-1].lower() not in (link.permanent_mac, link.mac):
            continue
        found.append((-_priority(profile), name is None and not macs, profile.path, profile))
    return [entry[3] for entry in sorted(found, key=lambda entry: entry[:3])]


def _entries(profile: IniText, section: str) -> list[Entry]:
    return [e for b in profile.named(section) for e in b.entries]


def _list(value: str) -> list[str]:
    return [word.strip() for word in re.split(r"[;,]", value) if word.strip()]


def _address(profile: IniText, entry: Entry, text: str) -> IPInterface:
    try:
        if "/" not in text:
            raise ValueError(f"{text!r} has no prefix, and NetworkManager would take /24")
        return parse_interface_address(text)
    except ValueError as error:
        raise profile.bad_value(entry, str(error)) from None


def _plain(profile: IniText, entry: Entry, text: str) -> IPAddress:
    try:
        return parse_address(text)
    except ValueError as error:
        raise profile.bad_value(entry, str(error)) from None


def _route(profile: IniText, entry: Entry, options: str) -> Route | None:
    """``DESTINATION/PREFIX[,NEXT-HOP[,METRIC]]``, with its options; ``None`` outside the main table."""
    words = [w.strip() for w in entry.value.split(",")]
    said = dict(o.partition("=")[::2] for o in options.split(","))
    if said.get("table", "254") not in ("254", "0", "") or said.get("type", "unicast") != "unicast":
        return None
    try:
        destination = parse_destination(words[0])
    except ValueError as error:
        raise profile.bad_value(entry, str(error)) from None
    hop = _plain(profile, entry, words[1]) if len(words) > 1 and words[1] else None
    if hop is not None and not int(hop):
        hop = None
    metric = int(words[2]) if len(words) > 2 and words[2].isdecimal() and words[2] != "0" else None
    return Route(destination, hop, metric, truth(said.get("onlink", "no")) is True)


def _family(
    profile: IniText, version: int
) -> tuple[list[IPInterface], list[Route], list[IPAddress], list[str], set[int]]:
    section = f"ipv{version}"
    addresses: list[tuple[int, IPInterface]] = []
    routes: list[Route] = []
    gateways: list[IPAddress] = []
    resolvers: list[IPAddress] = []
    search: list[str] = []
    lines: set[int] = set()
    entries = _entries(profile, section)
    options = {e.key: e.value for e in entries if e.key.endswith("_options")}
    metric_text = _value(profile, section, "route-metric") or ""
    metric = int(metric_text) if metric_text.isdecimal() else None
    for entry in entries:
        numbered = _NUMBERED.fullmatch(entry.key)
        if numbered and numbered[1].startswith("address"):
            if numbered[2]:
                # address1=ADDRESS/PREFIX[,GATEWAY]
                words = [w.strip() for w in entry.value.split(",")]
                addresses.append((int(numbered[2]), _address(profile, entry, words[0])))
                if len(words) > 1 and words[1]:
                    gateways.append(_plain(profile, entry, words[1]))
            else:
                addresses += [(0, _address(profile, entry, w)) for w in _list(entry.value)]
            lines.add(entry.line)
        elif numbered:
            route = _route(profile, entry, options.get(f"{entry.key}_options", ""))
            if route is not None:
                routes.append(route)
                lines.add(entry.line)
        elif entry.key == "gateway":
            gateways.append(_plain(profile, entry, entry.value))
            lines.add(entry.line)
        elif entry.key == "dns":
            resolvers += [_plain(profile, entry, w.partition("#")[0]) for w in _list(entry.value)]
            lines.add(entry.line)
        elif entry.key == "dns-search":
            search += [w for w in _list(entry.value) if not w.startswith("~")]
            lines.add(entry.line)
        elif entry.key == "method":
            lines.add(entry.line)
    held = [a for _, a in sorted(addresses, key=lambda pair: pair[0])]
    for gateway in dict.fromkeys(gateways):
        if int(gateway):
            on_link = not any(gateway in a.network for a in held)
            routes.insert(0, Route(default_network(version), gateway, metric, on_link))
    return held, routes, resolvers, search, lines


def _read(profile: IniText, link: LinkFacts) -> tuple[InterfaceConfig, tuple[Place, ...]]:
    held4, routes4, dns4, search4, lines4 = _family(profile, 4)
    held6, routes6, dns6, search6, lines6 = _family(profile, 6)
    method4 = _value(profile, "ipv4", "method") or "auto"
    method6 = _value(profile, "ipv6", "method") or "auto"
    mtu = next((m for s in _TYPES["ethernet"] + _TYPES["wireless"] if (m := _value(profile, s, "mtu"))), "")

    def flag(key: str) -> bool:
        return truth(_value(profile, "ipv4", key) or "no") is True

    config = InterfaceConfig(
        link.name,
        ipv4=_METHODS4.get(method4, "off"),
        ipv6=_METHODS6.get(method6, "off"),
        addresses=(*held4, *held6),
        routes=(*routes4, *routes6),
        resolvers=(*dns4, *dns6) or None,
        search=tuple(dict.fromkeys((*search4, *search6))) or None,
        mtu=int(mtu) if mtu.isdecimal() and mtu != "0" else None,
        lease_routes=not flag("never-default"),
        lease_resolvers=not flag("ignore-auto-dns"),
    )
    return config, (Place(profile.path, 1), *(Place(profile.path, n) for n in sorted(lines4 | lines6)))


def _refuse_unsupported(profile: IniText, link: LinkFacts, wanted: InterfaceConfig) -> None:
    if wanted.time_servers is not None:
        raise NotSupported(
            f"`time_servers` on {wanted.interface}: NetworkManager's profiles have no place for them",
            remedy="set them where the host's time service takes them, and remove the key",
        )
    if _value(profile, "ipv4", "method") == "shared":
        raise NotSupported(
            f"{link.name} shares its connection with others (ipv4.method=shared), and is left alone", file=profile.path
        )
    families = {4 for r in wanted.resolvers or () if r.version == 4} | {
        6 for r in wanted.resolvers or () if r.version == 6
    }
    for version in families:
        method = wanted.method(version)
        if method == "untouched":
            method = (_METHODS4 if version == 4 else _METHODS6).get(
                _value(profile, f"ipv{version}", "method") or "auto", "off"
            )
        if method == "off":
            raise NotSupported(
                f"IPv{version} resolvers on {link.name} with IPv{version} off: NetworkManager would not take them",
                remedy=f"leave the IPv{version} resolvers out, or IPv{version} on",
            )


def _new_profile(link: LinkFacts) -> str:
    """A profile that says what NetworkManager's automatic one does, with a UUID of its own."""
    identity = uuid.uuid5(_NAMESPACE, f"{link.name} {link.permanent_mac or link.mac}")
    kind = _TYPES.get(link.kind, _TYPES["ethernet"])[0]
    lines = [
        "[connection]",
        f"id={link.name}",
        f"uuid={identity}",
        f"type={kind}",
        f"interface-name={link.name}",
        "autoconnect-priority=10",
        "",
        "[ipv4]",
        "method=auto",
        "",
        "[ipv6]",
        "method=auto",
    ]
    return "\n".join(lines) + "\n"


def _edit(profile: IniText, wanted: InterfaceConfig, todo: tuple[str, ...]) -> None:
    for version in (4, 6):
        section = f"ipv{version}"
        entries = _entries(profile, section)
        method = wanted.method(version)
        if method != "untouched":
            if f"ipv{version}" in todo:
                profile.set(section, "method", (_WRITTEN4 if version == 4 else _WRITTEN6)[method])
            if "hold" in todo or "gateway" in todo:
                _edit_addresses(profile, version, wanted)
            if wanted.ipv4 == "dhcp" and method in ("dhcp", "ra"):
                _flag(profile, section, "never-default", not wanted.lease_routes)
                _flag(profile, section, "ignore-auto-dns", not wanted.lease_resolvers)
        if "routes" in todo:
            _add_routes(profile, version, [r for r in wanted.routes if not r.is_default])
        if "resolvers" in todo:
            _set_list(profile, section, "dns", [str(r) for r in wanted.resolvers or () if r.version == version])
        if "search" in todo:
            # Search domains go with the family that is there; one list is enough.
            mine = version == (4 if _family_on(profile, wanted) else 6)
            kept = [w for e in entries if e.key == "dns-search" for w in _list(e.value) if w.startswith("~")]
            _set_list(profile, section, "dns-search", [*(wanted.search or ()), *kept] if mine else kept)
    if "mtu" in todo:
        section = next((s for s in _TYPES["ethernet"] + _TYPES["wireless"] if profile.named(s)), "ethernet")
        profile.set(section, "mtu", str(wanted.mtu))


def _family_on(profile: IniText, wanted: InterfaceConfig) -> bool:
    """Whether IPv4 is on, so that its section may carry the search domains."""
    if wanted.ipv4 != "untouched":
        return wanted.ipv4 != "off"
    return _METHODS4.get(_value(profile, "ipv4", "method") or "auto") != "off"


def _flag(profile: IniText, section: str, key: str, wanted: bool) -> None:
    if (truth(_value(profile, section, key) or "no") is True) != wanted:
        profile.set(section, key, "true" if wanted else "false")


def _set_list(profile: IniText, section: str, key: str, words: list[str]) -> None:
    entries = [e for e in _entries(profile, section) if e.key == key]
    if [w for e in entries for w in _list(e.value)] == words:
        return
    if words:
        profile.set(section, key, ";".join(words) + ";")
    else:
        for entry in entries:
            profile.drop(entry)


def _edit_addresses(profile: IniText, version: int, wanted: InterfaceConfig) -> None:
    section = f"ipv{version}"
    held, routes, _, _, _ = _family(profile, version)
    defaults = wanted.default_routes(version)
    if tuple(held) == wanted.of_family(version) and {r for r in routes if r.is_default} == set(defaults):
        return
    for entry in _entries(profile, section):
        numbered = _NUMBERED.fullmatch(entry.key)
        if entry.key == "gateway" or (numbered and numbered[1].startswith("address")):
            profile.drop(entry)
        elif numbered:
            options = _value(profile, section, f"{entry.key}_options") or ""
            route = _route(profile, entry, options)
            if route is not None and route.is_default:
                profile.drop(entry)
                for other in _entries(profile, section):
                    if other.key == f"{entry.key}_options":
                        profile.drop(other)
    lines = [f"address{n}={address}" for n, address in enumerate(wanted.of_family(version), 1)]
    rest = list(defaults)
    if rest:
        first = rest.pop(0)
        lines.append(f"gateway={first.next_hop}")
        metric = _value(profile, section, "route-metric")
        if first.metric is not None:
            profile.set(section, "route-metric", str(first.metric))
        elif metric is not None and metric != "-1":
            profile.set(section, "route-metric", "-1")
    if lines:
        profile.add(section, lines)
    _add_routes(profile, version, rest)


def _add_routes(profile: IniText, version: int, routes: list[Route]) -> None:
    section = f"ipv{version}"
    there = [
        r for e in _entries(profile, section)
        if (m := _NUMBERED.fullmatch(e.key)) and m[1].startswith("route") and e.first not in profile.gone
        and (r := _route(profile, e, _value(profile, section, f"{e.key}_options") or "")) is not None
    ]  # fmt: skip
    used = {int(m[2] or 0) for e in _entries(profile, section) if (m := _NUMBERED.fullmatch(e.key)) and m[1] == "route"}
    number = max(used, default=0)
    for route in routes:
        if route.destination.version != version or route in there:
            continue
        number += 1
        words = [str(route.destination)]
        if route.next_hop is not None or route.metric is not None:
            words.append(str(route.next_hop or default_network(version).network_address))
        if route.metric is not None:
            words.append(str(route.metric))
        lines = [f"route{number}={','.join(words)}"]
        if route.on_link:
            lines.append(f"route{number}_options=onlink=true")
        profile.add(section, lines)
