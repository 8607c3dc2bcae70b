"""NetworkManager's key files, nm-settings-keyfile(5): the format, and its editing."""

from __future__ import annotations

import msgspec

from fixed_anchor.change.files import Files, FileText
from fixed_anchor.core.addresses import default_network
from fixed_anchor.core.aside import Aside
from fixed_anchor.core.config import (
    ALL_NAMES,
    Fallback,
    InterfaceConfig,
    LinkFacts,
    Place,
    Route,
    Wireless,
    differences,
)
from fixed_anchor.core.errors import NotSupported
from fixed_anchor.core.programs import IPV6_DISABLED
from fixed_anchor.formats.keyfile_asides import asides_of, tunnels_in
from fixed_anchor.formats.keyfile_fallback import fallback_of, fallback_path, fallback_profile, give_way
from fixed_anchor.formats.keyfile_match import (
    declaring,
    is_bound,
    is_shared,
    new_profile,
    own_path,
    own_paths,
    own_profile,
    radio_of,
    ranked,
    starts_by_itself,
    unclear,
)
from fixed_anchor.formats.keyfile_read import (
    ETC,
    FOLDERS,
    FOR_ALL_NAMES,
    METHODS4,
    METHODS6,
    NUMBERED,
    TYPES,
    entries_of,
    family_of,
    is_generated,
    plain_route,
    priority_of,
    profile_text,
    profiles_in,
    read_profile,
    uuid_of,
    value_of,
    words_of,
)
from fixed_anchor.formats.protocol import Declaration, Loaded, Texts
from fixed_anchor.text.ini import IniText, truth

_WRITTEN4 = {"dhcp": "auto", "fixed": "manual", "off": "disabled"}
_WRITTEN6 = {"ra": "auto", "dhcp": "dhcp", "fixed": "manual", "off": "disabled"}


class Keyfile:
    """The format of ``/etc/NetworkManager/system-connections``."""

    name = "NetworkManager"
    patterns: tuple[str, ...] = tuple(f"{folder}*" for folder in FOLDERS)
    # Profiles hold secrets; one that others may read is refused by NetworkManager.
    mode_taken = 0o177
    mode_given = 0
    created = 0o600
    run_wins = False
    time_daemon, has_fallback = "", True
    all_or_nothing = False

    def check(self, file: FileText) -> None:
        profile_text(file.text, file.path)

    def read(self, files: Files, links: tuple[LinkFacts, ...]) -> tuple[Declaration, ...]:
        profiles = profiles_in(files)
        found = []
        for link in links:
            winner = declaring(profiles, link)
            if winner is None:
                continue
            config, places = read_profile(winner, link)
            config = msgspec.structs.replace(config, fallback=fallback_of(profiles, winner, link))
            on = [e for e in entries_of(winner, "ipv4") if e.key == "method" and e.value == "auto"]
            dhcp_in = Place(winner.path, on[-1].line) if on else None
            # Without a UUID of its own a profile is known by its name, or by that of its file.
            by_name = value_of(winner, "connection", "id") or winner.path.rpartition("/")[2]
            names = ("uuid", uuid_of(winner)) if uuid_of(winner) else ("id", by_name)
            loaded = Loaded(winner.path, names, priority_of(winner))
            found.append(Declaration(link, config, "NetworkManager", places, uuid_of(winner), loaded, dhcp_in))
        return tuple(found)

    def asides(self, files: Files, links: tuple[LinkFacts, ...]) -> tuple[Aside, ...]:
        profiles = profiles_in(files)
        found = list(tunnels_in(profiles))
        for link in links:
            winner = declaring(profiles, link)
            if winner is not None:
                found += asides_of(winner, profiles, link)
                found += unclear(profiles, link)
        return tuple(found)

    def named(self, files: Files) -> dict[str, str]:
        names: dict[str, str] = {}
        for profile in profiles_in(files):
            name = value_of(profile, "connection", "interface-name")
            said = value_of(profile, "connection", "type")
            if name and not is_generated(profile.path):
                names.setdefault(name, next((kind for kind, types in TYPES.items() if said in types), "ethernet"))
        return names

    def edit(
        self,
        files: Files,
        declared: Declaration,
        wanted: InterfaceConfig,
        todo: tuple[str, ...],
        links: tuple[LinkFacts, ...],
    ) -> Texts:
        link = declared.link
        profiles = profiles_in(files)
        mine = ranked(profiles, link)
        winner = mine[0]
        _refuse_unsupported(winner, link, wanted)
        shared = is_shared(winner, profiles, link, links)
        if shared or not winner.path.startswith(ETC):
            path = own_path(link)
            if path in files:
                raise NotSupported(f"{path} exists, but another profile wins for {link.name}", file=path)
            if shared:
                own = own_profile(winner, files[winner.path].text, link, path)
            else:
                own = profile_text(new_profile(link), path)
            now = msgspec.structs.replace(read_profile(own, link)[0], fallback=declared.config.fallback)
            left = differences(now, wanted)
            _edit(own, wanted, left)
            more = _edit_fallback(files, own, link, wanted.fallback) if "fallback" in left and wanted.fallback else {}
            return {path: own.result(), **more}
        _edit(winner, wanted, todo)
        more = _edit_fallback(files, winner, link, wanted.fallback) if "fallback" in todo and wanted.fallback else {}
        if not is_bound(winner, link):
            # On another link the fixed addresses would be wrong.
            winner.set("connection", "interface-name", link.name)
        rivals = [p for p in mine[1:] if priority_of(p) >= priority_of(winner) and p.path.startswith(ETC)]
        if any(starts_by_itself(p) for p in rivals):
            # At equal priority the profile used last wins, which no file tells.
            winner.set("connection", "autoconnect-priority", str(max(priority_of(p) for p in rivals) + 10))
        return {winner.path: winner.result(), **more}

    def declare(
        self, files: Files, link: LinkFacts, wanted: InterfaceConfig, daemon: str, wireless: Wireless | None = None
    ) -> Texts:
        path = next(p for p in own_paths(link) if p not in files)
        radio = radio_of(profiles_in(files), wireless) if wireless is not None else []
        # A version of IP that the plan does not mention stays as silent as it was.
        method4 = "auto" if wanted.touches(4) else "disabled"
        own = profile_text(new_profile(link, method4, radio), path, forget=True)
        _refuse_unsupported(own, link, wanted)
        now, _ = read_profile(own, link)
        left = differences(msgspec.structs.replace(now, fallback=None), wanted)
        _edit(own, wanted, left)
        more = _edit_fallback(files, own, link, wanted.fallback) if "fallback" in left and wanted.fallback else {}
        return {path: own.result(), **more}

    def names_files(self, files: Files) -> tuple[str, ...]:
        return ()

    def others(self, files: Files, declared: Declaration) -> object:
        file = files.get(declared.file)
        if file is None or not file.path.startswith(ETC):
            return None
        profile = profile_text(file.text, file.path)
        return [
            (block.name, entry.key, entry.value)
            for block in profile.blocks
            if block.name not in ("ipv4", "ipv6")
            for entry in block.entries
            if entry.key not in ("mtu", "autoconnect-priority", "autoconnect-retries", "interface-name")
        ]


def _refuse_unsupported(profile: IniText, link: LinkFacts, wanted: InterfaceConfig) -> None:
    if wanted.ipv6 == "off" and IPV6_DISABLED in link.lacks:
        raise NotSupported(
            f"`ipv6: off` on {link.name}: this NetworkManager is older than 1.20, and cannot switch IPv6 off",
            remedy="switch it off for the whole host (sysctl net.ipv6.conf.all.disable_ipv6), and remove the key",
        )
    if wanted.time_servers is not None:
        raise NotSupported(
            f"`time_servers` on {wanted.interface}: NetworkManager's profiles have no place for them",
            remedy="set them where the host's time service takes them, and remove the key",
        )
    if value_of(profile, "ipv4", "method") == "shared":
        raise NotSupported(
            f"{link.name} shares its connection with others (ipv4.method=shared), and is left alone",
            file=profile.path,
            line=next((e.line for b in profile.named("ipv4") for e in b.entries if e.key == "method"), None),
        )
    families = {4 for r in wanted.resolvers or () if r.version == 4} | {
        6 for r in wanted.resolvers or () if r.version == 6
    }
    for version in families:
        method = wanted.method(version)
        if method == "untouched":
            method = (METHODS4 if version == 4 else METHODS6).get(
                value_of(profile, f"ipv{version}", "method") or "auto", "off"
            )
        if method == "off":
            raise NotSupported(
                f"IPv{version} resolvers on {link.name} with IPv{version} off: NetworkManager would not take them",
                remedy=f"leave the IPv{version} resolvers out, or IPv{version} on",
            )


def _edit_fallback(files: Files, winner: IniText, link: LinkFacts, fallback: Fallback) -> dict[str, str | None]:
    """The profile of lower priority, and the first one such that it gives way to it."""
    path = fallback_path(link)
    if fallback.address is None:
        if path not in files:
            raise NotSupported(
                f"`fallback: none` on {link.name}: another profile of it is manual, and was not made by this tool",
                remedy="remove that profile by hand",
            )
        return {path: None}
    give_way(winner)
    return {path: fallback_profile(winner, link, fallback)}


def _edit(profile: IniText, wanted: InterfaceConfig, todo: tuple[str, ...]) -> None:
    for version in (4, 6):
        section = f"ipv{version}"
        entries = entries_of(profile, section)
        method = wanted.method(version)
        if method != "untouched":
            if f"ipv{version}" in todo:
                profile.set(section, "method", (_WRITTEN4 if version == 4 else _WRITTEN6)[method])
            if "hold" in todo or "gateway" in todo:
                _edit_addresses(profile, version, wanted)
            leased = method in ("dhcp", "ra")
            if wanted.default_routes(version) or (leased and wanted.lease_routes):
                _flag(profile, section, "never-default", False)
                if leased:
                    _flag(profile, section, "ignore-auto-routes", False)
            elif leased:
                _flag(profile, section, "never-default", True)
            if wanted.ipv4 == "dhcp" and leased:
                _flag(profile, section, "ignore-auto-dns", not wanted.lease_resolvers)
        if "routes" in todo:
            _add_routes(profile, version, [r for r in wanted.routes if not r.is_default])
        if "resolvers" in todo:
            _set_list(profile, section, "dns", [str(r) for r in wanted.resolvers or () if r.version == version])
        if {"search", "resolvers"} & set(todo):
            # Search domains go with the family that is there; one list is enough.
            mine = version == (4 if _family_on(profile, wanted) else 6)
            words = [w for e in entries if e.key == "dns-search" for w in words_of(e.value)]
            searched = [w for w in words if not w.startswith("~")]
            if "search" in todo:
                searched = [*(wanted.search or ())] if mine else []
            kept = [w for w in words if w.startswith("~") and w not in FOR_ALL_NAMES]
            # Without a default route or a search domain they would not be asked after the next boot.
            every = [ALL_NAMES] if mine and wanted.resolvers_lead_nowhere else []
            _set_list(profile, section, "dns-search", [*searched, *kept, *every])
    if "mtu" in todo:
        section = next((s for s in TYPES["ethernet"] + TYPES["wireless"] if profile.named(s)), "ethernet")
        profile.set(section, "mtu", str(wanted.mtu))


def _family_on(profile: IniText, wanted: InterfaceConfig) -> bool:
    """Whether IPv4 is on, so that its section may carry the search domains."""
    if wanted.ipv4 != "untouched":
        return wanted.ipv4 != "off"
    return METHODS4.get(value_of(profile, "ipv4", "method") or "auto") != "off"


def _flag(profile: IniText, section: str, key: str, wanted: bool) -> None:
    if (truth(value_of(profile, section, key) or "no") is True) != wanted:
        profile.set(section, key, "true" if wanted else "false")


def _set_list(profile: IniText, section: str, key: str, words: list[str]) -> None:
    entries = [e for e in entries_of(profile, section) if e.key == key]
    if [w for e in entries for w in words_of(e.value)] == words:
        return
    if words:
        profile.set(section, key, ";".join(words) + ";")
    else:
        for entry in entries:
            profile.drop(entry)


def _edit_addresses(profile: IniText, version: int, wanted: InterfaceConfig) -> None:
    section = f"ipv{version}"
    held, routes, _, _, _ = family_of(profile, version)
    defaults = wanted.default_routes(version)
    if tuple(held) == wanted.of_family(version) and {r for r in routes if r.is_default} == set(defaults):
        return
    for entry in entries_of(profile, section):
        numbered = NUMBERED.fullmatch(entry.key)
        if entry.key == "gateway" or (numbered and numbered[1].startswith("address")):
            profile.drop(entry)
        elif numbered:
            options = value_of(profile, section, f"{entry.key}_options") or ""
            route = plain_route(profile, entry, options)
            if route is not None and route.is_default:
                profile.drop(entry)
                for other in entries_of(profile, section):
                    if other.key == f"{entry.key}_options":
                        profile.drop(other)
    lines = [f"address{n}={address}" for n, address in enumerate(wanted.of_family(version), 1)]
    rest = list(defaults)
    if rest:
        first = rest.pop(0)
        lines.append(f"gateway={first.next_hop}")
        metric = value_of(profile, section, "route-metric")
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
        r for e in entries_of(profile, section)
        if (m := NUMBERED.fullmatch(e.key)) and m[1].startswith("route") and not profile.is_gone(e)
        and (r := plain_route(profile, e, value_of(profile, section, f"{e.key}_options") or "")) is not None
    ]  # fmt: skip
    used = {
        int(m[2] or 0) for e in entries_of(profile, section) if (m := NUMBERED.fullmatch(e.key)) and m[1] == "route"
    }
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
