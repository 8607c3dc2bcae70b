"""What ifcfg files of the Red Hat family say: ``ifcfg-IF`` with ``route-IF`` and aliases ``ifcfg-IF:N``."""

from __future__ import annotations

import re

import msgspec

from fixed_anchor.change.files import Files, FileText
from fixed_anchor.core.addresses import (
    IPAddress,
    IPInterface,
    default_network,
    parse_address,
    parse_interface_address,
    parse_network,
    parse_prefix,
    with_prefix,
)
from fixed_anchor.core.config import ALL_NAMES, InterfaceConfig, LinkFacts, Place, Route
from fixed_anchor.core.errors import InputError
from fixed_anchor.text.lines import by_newline
from fixed_anchor.text.shell import ShellFile

FOLDER = "/etc/sysconfig/network-scripts/"
NETWORK = "/etc/sysconfig/network"
#: The largest range of addresses that is read; a larger one is a mistake.
_LARGEST_RANGE = 1024

NUMBERED = re.compile(r"(IPADDR|PREFIX|NETMASK|GATEWAY|DNS|BROADCAST|NETWORK)([0-9]*)")
_ARGUMENT_ROUTE = re.compile(r"\s*(\S+)\s+via\s+(\S+)(.*)")


def mains(files: Files) -> list[str]:
    """``ifcfg-*`` files that are no aliases, ranges, backups or editors' leavings."""
    return [p for p in interface_files(files) if not re.search(r":|-range[0-9]*$", p.rpartition("/")[2])]


def interface_files(files: Files) -> list[str]:
    """All ``ifcfg-*`` files that are read, those of aliases and ranges among them."""
    skipped = (".bak", ".orig", ".rpmnew", ".rpmorig", ".rpmsave", "~", ".swp")
    return [p for p in sorted(files) if p.startswith(FOLDER + "ifcfg-") and not p.endswith(skipped)]


def main_of(files: Files, link: LinkFacts) -> ShellFile | None:
    """The file of ``link``: by ``DEVICE``, by ``HWADDR`` where it names none, else by the file's own name.

    One that names neither is for NetworkManager a connection of any Ethernet link.
    """
    every = [ShellFile(files[path]) for path in mains(files)]
    for file in every:
        device = file.get("DEVICE") or ("" if file.get("HWADDR") else file.file.path.rpartition("ifcfg-")[2])
        mac = file.get("HWADDR").lower()
        by_mac = not device and mac in (link.permanent_mac, link.mac) and not link.has_mac_of_another
        if device == link.name or by_mac:
            return file
    return next((file for file in every if link.kind == "ethernet" and is_unbound(file)), None)


def is_unbound(file: ShellFile) -> bool:
    """Whether a file is a connection of NetworkManager's that is bound to no link."""
    bound = file.get("DEVICE") or file.get("HWADDR")
    return not bound and bool(file.get("UUID")) and file.get("TYPE") == "Ethernet" and file.yes("NM_CONTROLLED", True)


def aliases_of(files: Files, main: ShellFile, link: LinkFacts) -> list[str]:
    """The files of further addresses: ``ifcfg-eth0:1``, and ``ifcfg-eth0-range0`` for a row of them."""
    heads = {main.file.path, f"{FOLDER}ifcfg-{link.name}"}
    return [p for p in interface_files(files) if any(p.startswith((f"{h}:", f"{h}-range")) for h in heads)]


def host_file(files: Files) -> ShellFile | None:
    """What is said for all interfaces at once."""
    return ShellFile(files[NETWORK]) if NETWORK in files else None


def _numbers(file: ShellFile) -> list[str]:
    """The suffixes of IPADDR in the order in which they are used: none, then 0, 1, 2, ..."""
    suffixes = {m[2] for a in file.assignments if (m := NUMBERED.fullmatch(a.name)) and m[1] == "IPADDR" and a.value}
    return sorted(suffixes, key=lambda s: (s != "", int(s or 0)))


def _parsed(file: ShellFile, name: str, text: str) -> IPAddress:
    try:
        return parse_address(text)
    except ValueError as error:
        raise file.error(file.all(name)[-1].first, f"{name}: {error}") from None


def _address(file: ShellFile, suffix: str) -> IPInterface:
    name = f"IPADDR{suffix}"
    address = _parsed(file, name, file.get(name))
    prefix, mask = file.get(f"PREFIX{suffix}"), file.get(f"NETMASK{suffix}")
    text = prefix or mask
    if not text:
        at = file.all(name)[-1].first
        raise file.error(at, f"{name} has no prefix, which would be guessed from its class", f"PREFIX{suffix}=...")
    try:
        return parse_interface_address(f"{address}/{parse_prefix(text, 4)}")
    except ValueError as error:
        which = f"PREFIX{suffix}" if prefix else f"NETMASK{suffix}"
        raise file.error(file.all(which)[-1].first, f"{which}: {error}") from None


def _ipv6_texts(file: ShellFile) -> list[tuple[str, str]]:
    found = [("IPV6ADDR", file.get("IPV6ADDR"))] if file.get("IPV6ADDR") else []
    return found + [("IPV6ADDR_SECONDARIES", word) for word in file.get("IPV6ADDR_SECONDARIES").split()]


def carried_out_by(main: ShellFile) -> str:
    """The daemon that takes the file."""
    return "NetworkManager" if main.yes("NM_CONTROLLED", True) else "network-scripts"


def _range(file: ShellFile) -> list[IPInterface]:
    """The addresses of a ``-range`` file: ``IPADDR_START`` to ``IPADDR_END``."""
    if not file.get("IPADDR_START"):
        return []
    first = _parsed(file, "IPADDR_START", file.get("IPADDR_START"))
    last = _parsed(file, "IPADDR_END", file.get("IPADDR_END")) if file.get("IPADDR_END") else first
    at = file.all("IPADDR_START")[-1].first
    if last.version != 4 or first.version != 4 or not 0 <= int(last) - int(first) < _LARGEST_RANGE:
        raise file.error(at, f"{first} to {last} is no range of addresses", "IPADDR_START not above IPADDR_END")
    prefix = parse_prefix(file.get("PREFIX") or file.get("NETMASK") or "32", 4)
    return [with_prefix(first + n, prefix) for n in range(int(last) - int(first) + 1)]


def _gateways(files: Files, main: ShellFile, addresses: list[IPInterface]) -> list[tuple[ShellFile, str]]:
    """The assignments that name a gateway of the interface: its own, else the one for all that lies in its subnet."""
    numbered = [a.name for a in main.assignments if (m := NUMBERED.fullmatch(a.name)) and m[1] == "GATEWAY" and a.value]
    found = [(main, name) for name in dict.fromkeys(numbered)]
    host = host_file(files)
    if not found and host is not None and host.get("GATEWAY"):
        gateway = _parsed(host, "GATEWAY", host.get("GATEWAY"))
        if any(gateway in a.network for a in addresses):
            found.append((host, "GATEWAY"))
    return found + [(main, "IPV6_DEFAULTGW")] * bool(main.get("IPV6_DEFAULTGW"))


def kept_from_default(files: Files, main: ShellFile, link: LinkFacts) -> list[tuple[int, ShellFile, str]]:
    """What keeps default routes away from the interface: IP version, file, and the name of the assignment."""
    found = [
        (version, main, name) for version, name in ((4, "DEFROUTE"), (6, "IPV6_DEFROUTE")) if not main.yes(name, True)
    ]
    host = host_file(files)
    for version, name in ((4, "GATEWAYDEV"), (6, "IPV6_DEFAULTDEV")):
        if host is not None and host.get(name) not in ("", link.name):
            found.append((version, host, name))
    return found


def read_main(files: Files, main: ShellFile, link: LinkFacts) -> tuple[InterfaceConfig, tuple[Place, ...]]:
    """What the file of an interface says, with its aliases and routes, and where."""
    path = main.file.path
    dhcp4 = main.get("BOOTPROTO").lower() in ("dhcp", "bootp")
    addresses: list[IPInterface] = [_address(main, suffix) for suffix in _numbers(main)]
    places = [Place(path, a.first + 1) for a in main.assignments if a.name in ("BOOTPROTO", "IPV6ADDR", "GATEWAY")]
    places += [Place(path, a.first + 1) for a in main.assignments if NUMBERED.fullmatch(a.name)]
    for alias_path in aliases_of(files, main, link):
        alias = ShellFile(files[alias_path])
        addresses += [_address(alias, suffix) for suffix in _numbers(alias)]
        addresses += _range(alias)
        places.append(Place(alias_path, 1))
    ipv6_on = main.yes("IPV6INIT", True)
    for name, text in _ipv6_texts(main):
        try:
            addresses.append(parse_interface_address(text if "/" in text else f"{text}/64"))
        except ValueError as error:
            raise main.error(main.all(name)[-1].first, f"{name}: {error}") from None
    routes: list[Route] = []
    metric = main.get("METRIC")
    for file, name in _gateways(files, main, addresses):
        gateway = _parsed(file, name, file.get(name).partition("%")[0])
        on_link = not any(gateway in a.network for a in addresses)
        number = int(metric) if metric.isdecimal() and gateway.version == 4 else None
        routes.append(Route(default_network(gateway.version), gateway, number, on_link))
    for kind in ("route-", "route6-"):
        routes += [route for _, _, route in routes_in(files.get(f"{FOLDER}{kind}{link.name}"))]
    resolvers = []
    for suffix in sorted(
        {m[2] for a in main.assignments if (m := NUMBERED.fullmatch(a.name)) and m[1] == "DNS"},
        key=lambda s: int(s or 0),
    ):
        if main.get(f"DNS{suffix}"):
            resolvers.append(_parsed(main, f"DNS{suffix}", main.get(f"DNS{suffix}")))
    held6 = any(a.version == 6 for a in addresses)
    auto = main.yes("IPV6_AUTOCONF", True)
    if not ipv6_on:
        ipv6 = "off"
    elif main.yes("DHCPV6C", False):
        ipv6 = "dhcp"
    else:
        ipv6 = "fixed" if held6 else "ra" if auto else "off"
    mtu = main.get("MTU")
    config = InterfaceConfig(
        link.name,
        ipv4="dhcp" if dhcp4 else "fixed" if any(a.version == 4 for a in addresses) else "off",
        ipv6=ipv6,
        addresses=tuple(addresses),
        routes=tuple(routes),
        resolvers=tuple(resolvers) or None,
        search=tuple(w for w in main.get("DOMAIN").split() if not w.startswith("~")) or None,
        mtu=int(mtu) if mtu.isdecimal() else None,
        lease_routes=main.yes("DEFROUTE", True),
        lease_resolvers=main.yes("PEERDNS", True),
        accepts_ra=ipv6 == "fixed" and auto,
        never_default=tuple(dict.fromkeys(version for version, _, _ in kept_from_default(files, main, link))),
    )
    if (
        carried_out_by(main) == "NetworkManager"
        and config.resolvers_lead_nowhere
        and ALL_NAMES not in main.get("DOMAIN")
    ):
        config = msgspec.structs.replace(config, resolvers=None)
    return config, (Place(path, 1), *sorted(set(places)))


def routes_in(file: FileText | None) -> list[tuple[int, int, Route]]:
    """The routes of a ``route-IF`` file with their lines, in either of its two forms."""
    if file is None:
        return []
    lines = by_newline(file.text)
    if is_assigned(lines):
        return _assigned_routes(ShellFile(file))
    found = []
    for number, line in enumerate(lines):
        text = line.strip()
        matched = _ARGUMENT_ROUTE.fullmatch(text)
        if not text or text.startswith("#") or matched is None:
            continue
        try:
            hop = parse_address(matched[2])
            if matched[1] == "default":
                destination = default_network(hop.version)
            else:
                plain = matched[1]
                destination = parse_network(plain if "/" in plain else f"{plain}/{hop.max_prefixlen}")
        except ValueError as error:
            raise InputError(str(error), file=file.path, line=number + 1, column=1) from None
        words = matched[3].split()
        metric = words[words.index("metric") + 1] if "metric" in words[:-1] else ""
        if "table" in words:
            continue
        route = Route(destination, hop, int(metric) if metric.isdecimal() else None, "onlink" in words)
        found.append((number, number, route))
    return found


def is_assigned(lines: list[str]) -> bool:
    """Whether a file of routes has the form ``ADDRESS0=...``, and not that of ip-route(8)."""
    return any(re.match(r"\s*ADDRESS[0-9]+=", line) for line in lines)


def _assigned_routes(file: ShellFile) -> list[tuple[int, int, Route]]:
    found = []
    for assignment in file.assignments:
        if not assignment.name.startswith("ADDRESS"):
            continue
        suffix = assignment.name.removeprefix("ADDRESS")
        mask, gateway = file.get(f"NETMASK{suffix}") or "32", file.get(f"GATEWAY{suffix}")
        try:
            destination = parse_network(f"{assignment.value}/{mask}")
            hop = parse_address(gateway) if gateway else None
        except ValueError as error:
            raise file.error(assignment.first, f"{assignment.name}: {error}") from None
        metric = file.get(f"METRIC{suffix}")
        found.append(
            (assignment.first, assignment.last, Route(destination, hop, int(metric) if metric.isdecimal() else None))
        )
    return found
