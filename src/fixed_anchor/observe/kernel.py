"""Links, addresses, routes and rules of the kernel, through ``ip -json`` (ip-address(8), ip-route(8))."""

from __future__ import annotations

import json
from ipaddress import IPv4Address, IPv6Address
from typing import Any

import msgspec

from fixed_anchor.core.addresses import IPAddress, default_network, parse_address, parse_destination, with_prefix
from fixed_anchor.core.config import Bare, LinkFacts, Route
from fixed_anchor.core.errors import NoAccess
from fixed_anchor.core.programs import PROMISED
from fixed_anchor.core.survey import FoundAddress
from fixed_anchor.machines.readable import Readable

_FOREVER = 2**32 - 1
_LINKS = ("ip", "-j", "-d", "address", "show")
_ROUTES = ((("ip", "-j", "route", "show"), 4), (("ip", "-j", "-6", "route", "show"), 6))
_ALL_TABLES = (
    (("ip", "-j", "route", "show", "table", "all"), 4),
    (("ip", "-j", "-6", "route", "show", "table", "all"), 6),
)
_RULES = (("ip", "rule", "show"), ("ip", "-6", "rule", "show"))

#: What is asked of every kernel.
COMMANDS = (_LINKS, *(argv for argv, _ in (*_ROUTES, *_ALL_TABLES)), *_RULES)
#: What the kernel tells udev of a link.
EVENTS = "/sys/class/net/{}/uevent"
#: Whether its kernel listens to router advertisements.
ACCEPT_RA = "/proc/sys/net/ipv6/conf/{}/accept_ra"
#: How often its carrier has come or gone.
CARRIER = "/sys/class/net/{}/carrier_changes"
#: The link in sysfs that leads to the driver of an interface.
DRIVER = "/sys/class/net/{}/device/driver"


class KernelLink(msgspec.Struct, frozen=True):
    """One link as the kernel has it."""

    facts: LinkFacts
    index: int
    state: str
    addresses: tuple[FoundAddress, ...]
    mtu: int | None = None
    is_on: bool = True


class KernelRoute(msgspec.Struct, frozen=True):
    """One route of the main table, the interface it leaves by, who installed it, and its own MTU in bytes."""

    interface: str
    route: Route
    protocol: str
    mtu: int | None = None

    @property
    def is_prefix(self) -> bool:
        """Whether it says that routers call its destination on link."""
        alone = self.route.destination.prefixlen == self.route.destination.max_prefixlen
        return self.protocol == "ra" and self.route.next_hop is None and not self.route.is_default and not alone


def link_names(machine: Readable) -> list[str]:
    """The names of all links but loopback. Raises :class:`NoAccess` where ``ip`` cannot be run."""
    return [e["ifname"] for e in _json(machine, _LINKS) if e.get("link_type") != "loopback" and "ifname" in e]


def links(machine: Readable) -> tuple[KernelLink, ...]:
    """All links but loopback. Raises :class:`NoAccess` where ``ip`` cannot be run."""
    found: list[KernelLink] = []
    for link in _json(machine, _LINKS):
        if link.get("link_type") == "loopback" or "ifname" not in link:
            continue
        details = link.get("linkinfo", {})
        kind = details.get("info_kind", "ethernet")
        udev = _udev(machine, int(link.get("ifindex", 0)))
        addresses = tuple(
            # An address that failed its duplicate detection is not in use.
            _address(info)
            for info in link.get("addr_info", ())
            if "local" in info and not info.get("dadfailed")
        )
        facts = LinkFacts(
            name=link["ifname"],
            mac=link.get("address") if link.get("link_type") == "ether" else None,
            permanent_mac=link.get("permaddr"),
            kind=_kind(machine, link["ifname"], kind),
            driver=udev.get("ID_NET_DRIVER") or _driver(machine, link["ifname"]),
            path=udev.get("ID_PATH"),
            vlan=details.get("info_data", {}).get("id") if kind == "vlan" else None,
            in_kernel=tuple(a.address for a in addresses if a.origin != "link-local"),
            leased=tuple(a.address for a in addresses if a.origin == "dhcp"),
            alternative_names=tuple(link.get("altnames", ())),
            mtu=link.get("mtu"),
            # A member of a VRF has addresses of its own.
            master=None if link.get("linkinfo", {}).get("info_slave_kind") == "vrf" else link.get("master"),
        )
        found.append(
            KernelLink(
                facts=facts,
                index=int(link.get("ifindex", 0)),
                state=_state(link),
                addresses=addresses,
                mtu=link.get("mtu"),
                is_on="UP" in link.get("flags", ("UP",)),
            )
        )
    return tuple(found)


def bare(machine: Readable, link: KernelLink) -> Bare:
    """How a link is that no file declares."""
    path = ACCEPT_RA.format(link.facts.name)
    file = machine.read(path) if machine.knows(path) else None
    return Bare(link.is_on, bool(link.facts.leased), file.text.strip() if file is not None else "", link.mtu)


def _udev(machine: Readable, index: int) -> dict[str, str]:
    """What udev knows of a link, from its database (``E:KEY=VALUE`` lines): its driver, and where it is plugged in."""
    file = machine.read(f"/run/udev/data/n{index}")
    lines = file.text.splitlines() if file is not None else ()
    pairs = (line[2:].partition("=")[::2] for line in lines if line.startswith("E:"))
    return dict(pairs)


def _kind(machine: Readable, name: str, said: str) -> str:
    """The kind of a link. To ip(8) a wireless one is like Ethernet: only the kernel's events tell it."""
    if said == "veth":
        return "ethernet"
    events = machine.read(EVENTS.format(name)) if said == "ethernet" else None
    return "wireless" if events is not None and "DEVTYPE=wlan" in events.text.split() else said


def _driver(machine: Readable, name: str) -> str | None:
    """The driver's name, from sysfs: where ``device/driver`` leads to."""
    target = machine.link_target(DRIVER.format(name))
    return target.rpartition("/")[2] if target else None


def _state(link: dict[str, Any]) -> str:
    state = str(link.get("operstate", "UNKNOWN")).lower()
    if state == "unknown" and "LOWER_UP" in link.get("flags", ()):
        return "up"
    return state


def _address(info: dict[str, Any]) -> FoundAddress:
    address = parse_address(info["local"])
    life = int(info.get("valid_life_time", _FOREVER))
    dynamic = bool(info.get("dynamic"))
    if address.is_link_local:
        origin = "link-local"
    elif not dynamic:
        origin = "fixed"
    elif isinstance(address, IPv4Address):
        origin = "dhcp"
    else:
        # A DHCPv6 address is a /128 (RFC 5942); one made from a router's prefix has that prefix.
        origin = "dhcp" if info["prefixlen"] == 128 else "slaac"
    return FoundAddress(with_prefix(address, int(info["prefixlen"])), origin, None if life == _FOREVER else life)


def carrier_changes(machine: Readable, name: str) -> int | None:
    """How often the carrier of a link has come or gone since it was made; ``None`` where sysfs does not say."""
    file = machine.read(CARRIER.format(name)) if machine.running else None
    return int(file.text) if file is not None and file.text.strip().isdigit() else None


def routes(machine: Readable) -> tuple[KernelRoute, ...]:
    """All unicast routes of the main tables that have a next hop, or that somebody configured."""
    found: list[KernelRoute] = []
    for argv, version in _ROUTES:
        for entry in _json(machine, argv):
            found.extend(_routes(entry, version))
    return tuple(found)


def defaults_elsewhere(machine: Readable) -> tuple[KernelRoute, ...]:
    """Default routes in tables other than the main one, where a rule or a VRF looks them up (ip-rule(8), ip-vrf(8)).

    Empty where that cannot be asked.
    """
    found: list[KernelRoute] = []
    looked_up = _tables_looked_up(machine)
    for argv, version in _ALL_TABLES if looked_up else ():
        ran = machine.run(argv)
        try:
            entries = json.loads(ran.out or "[]") if ran.good else []
        except ValueError:
            entries = []
        for entry in entries:
            table = str(entry.get("table", "main"))
            if entry.get("dst") == "default" and table not in _OWN_TABLES and (table in looked_up or _ANY in looked_up):
                found += _routes(entry, version)
    return tuple(found)


_OWN_TABLES = frozenset({"main", "local", "default"})
#: Any table may be that of a VRF, which one rule looks up for all.
_ANY = "[l3mdev-table]"


def _tables_looked_up(machine: Readable) -> frozenset[str]:
    words = [line.split() for command in _RULES for line in _rule_lines(machine, command)]
    tables = {w[w.index("lookup") + 1] for w in words if "lookup" in w[:-1]}
    return frozenset(tables) - _OWN_TABLES


def _rule_lines(machine: Readable, command: tuple[str, ...]) -> list[str]:
    ran = machine.run(command)
    return ran.out.splitlines() if ran.status == 0 else []


def _routes(entry: dict[str, Any], version: int) -> list[KernelRoute]:
    protocol = entry.get("protocol", "boot")
    if version == 6 and protocol == "kernel" and "expires" in entry and "/" in entry["dst"]:
        # The kernel's own word for a prefix that a router announced.
        protocol = "ra"
    # The kernel makes no routes over a next hop: one that calls itself its own is some program's, as ifupdown2's is.
    own = protocol == "kernel" and _next_hop((entry.get("nexthops") or [entry])[0]) is None
    if entry.get("type", "unicast") != "unicast" or own:
        return []
    destination = default_network(version) if entry["dst"] == "default" else parse_destination(entry["dst"])
    hops = entry.get("nexthops") or [entry]
    found = []
    for hop in hops:
        next_hop = _next_hop(hop)
        device = hop.get("dev") or entry.get("dev")
        if device is None:
            continue
        flags = [*entry.get("flags", ()), *hop.get("flags", ())]
        metric = entry.get("metric")
        # The kernel's own default metric for IPv6 says nothing.
        if version == 6 and metric == 1024:
            metric = None
        own = {k: v for m in entry.get("metrics", ()) for k, v in m.items()}
        route = Route(destination, next_hop, metric, "onlink" in flags)
        found.append(KernelRoute(device, route, protocol, own.get("mtu")))
    return found


def _next_hop(hop: dict[str, Any]) -> IPAddress | None:
    if "gateway" in hop:
        return parse_address(hop["gateway"])
    if "via" in hop:
        return IPv6Address(hop["via"]["host"])
    return None


_OWN_RULES = ("from all lookup local", "from all lookup main", "from all lookup default")


def rules_by_hand(machine: Readable) -> tuple[tuple[str, ...], ...]:
    """The rules that neither the kernel nor a stack made, each as the command that sets it again (ip-rule(8))."""
    found = []
    for command in _RULES:
        family = command[1:-2]
        for line in _rule_lines(machine, command):
            priority, _, rest = line.partition(":")
            words = [word for word in rest.split() if word not in ("[detached]", "[unresolved]")]
            by_stack = "proto" in words and words[words.index("proto") + 1 :][:1] != ["boot"]
            if " ".join(words) in _OWN_RULES or by_stack or "[l3mdev-table]" in words or not priority.isdecimal():
                continue
            found.append(("ip", *family, "rule", "add", "priority", priority, *words))
    return tuple(found)


_NEEDED = f"iproute2 {PROMISED['iproute2'][0]} or newer is needed"


def _json(machine: Readable, argv: tuple[str, ...]) -> list[dict[str, Any]]:
    ran = machine.run(argv)
    if not ran.known:
        raise NoAccess(
            f"{' '.join(argv)} was not collected on {machine.name}",
            remedy="collect again, with the collector that this version prints",
        )
    if ran.status == 127:
        raise NoAccess(f"{argv[0]} is not there", remedy="install iproute2")
    if ran.status != 0:
        old = 'Option "-j' in ran.err
        raise NoAccess(f"{' '.join(argv)} failed: {ran.err.strip() or ran.status}", remedy=_NEEDED if old else None)
    try:
        return json.loads(ran.out or "[]")  # type: ignore[no-any-return]
    except ValueError:
        raise NoAccess(f"{' '.join(argv)} printed something that is not JSON", remedy=_NEEDED) from None
