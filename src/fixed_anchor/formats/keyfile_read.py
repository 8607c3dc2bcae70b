"""NetworkManager's key files, nm-settings-keyfile(5): what a profile says."""

from __future__ import annotations

import re

import msgspec

from fixed_anchor.change.files import Files
from fixed_anchor.core.addresses import (
    IPAddress,
    IPInterface,
    default_network,
    parse_address,
    parse_destination,
    parse_interface_address,
)
from fixed_anchor.core.config import ALL_NAMES, InterfaceConfig, LinkFacts, Place, Route
from fixed_anchor.text.ini import IniText, Setting, truth

ETC = "/etc/NetworkManager/system-connections/"
FOLDERS = (ETC, "/run/NetworkManager/system-connections/", "/usr/lib/NetworkManager/system-connections/")

#: Profile types by the kind of link they are for.
TYPES = {
    "ethernet": ("ethernet", "802-3-ethernet"),
    "wireless": ("wifi", "802-11-wireless"),
    "vlan": ("vlan",),
    "bond": ("bond",),
    "bridge": ("bridge",),
    "team": ("team",),
}
METHODS4 = {"auto": "dhcp", "manual": "fixed", "disabled": "off", "link-local": "off"}
METHODS6 = {"auto": "ra", "dhcp": "dhcp", "manual": "fixed", "disabled": "off", "ignore": "off", "link-local": "off"}
#: How ``dns-search`` says that they count for every name, nm-settings(5).
FOR_ALL_NAMES = (ALL_NAMES, "~")
NUMBERED = re.compile(r"(address|addresses|route|routes)([0-9]*)")


def is_generated(path: str) -> bool:
    """Whether netplan wrote the profile: then it is netplan's to declare."""
    return path.startswith("/run/") and path.rpartition("/")[2].startswith("netplan-")


def profiles_in(files: Files) -> list[IniText]:
    """All profiles; of one file name, /etc hides /run hides /usr/lib.

    Those are left out in which NetworkManager notes what somebody else has configured (``external``, nm-settings(5)).
    """
    by_name: dict[str, str] = {}
    for folder in FOLDERS:
        for path in sorted(p for p in files if p.startswith(folder)):
            name = path[len(folder) :]
            # Backup and hidden files are passed over, and so is what is no key file at all.
            if name.startswith(".") or name.endswith(("~", ".rpmsave", ".rpmnew", ".bak", ".swp")):
                continue
            by_name.setdefault(name, path)
    profiles = (profile_text(files[p].text, p) for p in by_name.values())
    return [p for p in profiles if not (p.path.startswith("/run/") and value_of(p, ".nmmeta", "external") == "true")]


def profile_text(text: str, path: str, forget: bool = False) -> IniText:
    """A key file, in the syntax that GLib reads. Raises ``InputError``. With ``forget`` edits leave no comments."""
    return IniText(text, path, comments="#", continued=False, forget=forget, marked=False)


def value_of(profile: IniText, section: str, key: str) -> str | None:
    """The last value of a key, or ``None``."""
    values = [v for b in profile.named(section) if (v := b.get(key)) is not None]
    return values[-1] if values else None


def uuid_of(profile: IniText) -> str:
    """The profile's UUID, empty where it names none."""
    return value_of(profile, "connection", "uuid") or ""


def priority_of(profile: IniText) -> int:
    """Its ``autoconnect-priority``: the higher one wins."""
    text = value_of(profile, "connection", "autoconnect-priority") or "0"
    try:
        return int(text)
    except ValueError:
        return 0


def entries_of(profile: IniText, section: str) -> list[Setting]:
    """All settings of a section, wherever it stands in the file."""
    return [e for b in profile.named(section) for e in b.entries]


def words_of(value: str) -> list[str]:
    """The items of a list, separated by semicolons or commas."""
    return [word.strip() for word in re.split(r"[;,]", value) if word.strip()]


def _address(profile: IniText, entry: Setting, text: str) -> IPInterface:
    try:
        if "/" not in text:
            raise ValueError(f"{text!r} has no prefix, and NetworkManager would take /24")
        return parse_interface_address(text)
    except ValueError as error:
        raise profile.bad_value(entry, str(error)) from None


def _plain(profile: IniText, entry: Setting, text: str) -> IPAddress:
    try:
        return parse_address(text)
    except ValueError as error:
        raise profile.bad_value(entry, str(error)) from None


def plain_route(profile: IniText, entry: Setting, options: str) -> Route | None:
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


def family_of(
    profile: IniText, version: int
) -> tuple[list[IPInterface], list[Route], list[IPAddress], list[str], set[int]]:
    """Addresses, routes, resolvers and search domains of one section, and the lines that say them."""
    section = f"ipv{version}"
    addresses: list[tuple[int, IPInterface]] = []
    routes: list[Route] = []
    gateways: list[IPAddress] = []
    resolvers: list[IPAddress] = []
    search: list[str] = []
    lines: set[int] = set()
    entries = entries_of(profile, section)
    options = {e.key: e.value for e in entries if e.key.endswith("_options")}
    metric_text = value_of(profile, section, "route-metric") or ""
    metric = int(metric_text) if metric_text.isdecimal() else None
    for entry in entries:
        numbered = NUMBERED.fullmatch(entry.key)
        if numbered and numbered[1].startswith("address"):
            if numbered[2]:
                # address1=ADDRESS/PREFIX[,GATEWAY]
                words = [w.strip() for w in entry.value.split(",")]
                addresses.append((int(numbered[2]), _address(profile, entry, words[0])))
                if len(words) > 1 and words[1]:
                    gateways.append(_plain(profile, entry, words[1]))
            else:
                addresses += [(0, _address(profile, entry, w)) for w in words_of(entry.value)]
            lines.add(entry.line)
        elif numbered:
            route = plain_route(profile, entry, options.get(f"{entry.key}_options", ""))
            if route is not None:
                routes.append(route)
                lines.add(entry.line)
        elif entry.key == "gateway":
            gateways.append(_plain(profile, entry, entry.value))
            lines.add(entry.line)
        elif entry.key == "dns":
            resolvers += [_plain(profile, entry, w.partition("#")[0]) for w in words_of(entry.value)]
            lines.add(entry.line)
        elif entry.key == "dns-search":
            search += [w for w in words_of(entry.value) if not w.startswith("~")]
            lines.add(entry.line)
        elif entry.key == "method":
            lines.add(entry.line)
    held = [a for _, a in sorted(addresses, key=lambda pair: pair[0])]
    for gateway in dict.fromkeys(gateways):
        if int(gateway):
            on_link = not any(gateway in a.network for a in held)
            routes.insert(0, Route(default_network(version), gateway, metric, on_link))
    return held, routes, resolvers, search, lines


def is_for_all_names(profile: IniText) -> bool:
    """Whether the resolvers are asked for every name, whatever the search domains and routes."""
    entries = [e for section in ("ipv4", "ipv6") for e in entries_of(profile, section) if e.key == "dns-search"]
    return any(word in FOR_ALL_NAMES for entry in entries for word in words_of(entry.value))


def read_profile(profile: IniText, link: LinkFacts) -> tuple[InterfaceConfig, tuple[Place, ...]]:
    """What a profile says, and where."""
    held4, routes4, dns4, search4, lines4 = family_of(profile, 4)
    held6, routes6, dns6, search6, lines6 = family_of(profile, 6)
    method4 = value_of(profile, "ipv4", "method") or "auto"
    method6 = value_of(profile, "ipv6", "method") or "auto"
    mtu = next((m for s in TYPES["ethernet"] + TYPES["wireless"] if (m := value_of(profile, s, "mtu"))), "")

    def flag(key: str, section: str = "ipv4") -> bool:
        return truth(value_of(profile, section, key) or "no") is True

    config = InterfaceConfig(
        link.name,
        ipv4=METHODS4.get(method4, "off"),
        ipv6=METHODS6.get(method6, "off"),
        addresses=(*held4, *held6),
        routes=(*routes4, *routes6),
        resolvers=(*dns4, *dns6) or None,
        search=tuple(dict.fromkeys((*search4, *search6))) or None,
        mtu=int(mtu) if mtu.isdecimal() and mtu != "0" else None,
        lease_routes=not flag("never-default") and not flag("ignore-auto-routes"),
        lease_resolvers=not flag("ignore-auto-dns"),
        never_default=tuple(v for v in (4, 6) if flag("never-default", f"ipv{v}")),
    )
    if config.resolvers_lead_nowhere and not is_for_all_names(profile):
        config = msgspec.structs.replace(config, resolvers=None)
    return config, (Place(profile.path, 1), *(Place(profile.path, n) for n in sorted(lines4 | lines6)))
