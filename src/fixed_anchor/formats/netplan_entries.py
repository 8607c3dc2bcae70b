"""Reading netplan YAML, netplan(5): which entries are for an interface, and what they say together.

Files are merged in the order of their names: of a plain value the last one counts, lists
are joined.
"""

from __future__ import annotations

from functools import cached_property, lru_cache
from ipaddress import IPv4Interface

import msgspec
import yaml

from fixed_anchor.change.files import Files, FileText
from fixed_anchor.core.addresses import (
    IPAddress,
    IPInterface,
    default_network,
    parse_address,
    parse_destination,
    parse_interface_address,
)
from fixed_anchor.core.config import ALL_NAMES, InterfaceConfig, LinkFacts, Place, Route
from fixed_anchor.core.errors import InputError
from fixed_anchor.text.yaml_nodes import Value, compose

#: The sections of a file that declare interfaces, and the kinds of link that they are for.
SECTIONS = {
    "ethernets": "ethernet", "wifis": "wireless", "bonds": "bond", "bridges": "bridge", "vlans": "vlan",
    "modems": "wwan", "tunnels": "tunnel", "vrfs": "vrf", "dummy-devices": "dummy",
}  # fmt: skip

_TRUE = frozenset({"true", "on", "yes", "y"})
_FALSE = frozenset({"false", "off", "no", "n"})


class InterfaceEntry:
    """An interface's entry in a file."""

    def __init__(self, file: FileText, section: str, identity: str, key: Value, value: Value) -> None:
        self.file = file
        self.section = section
        self.identity = identity
        self.key = key
        self.value = value

    @cached_property
    def settings(self) -> dict[str, Value]:
        """The values of the entry by their keys. Raises ``InputError``."""
        return {name: value for name, _, value in self.value.entries("the interface's settings")}


def in_order(files: Files) -> list[str]:
    """netplan(5): files are taken in the order of their names; of the same name, /run hides /etc hides /lib."""
    by_name: dict[str, str] = {}
    for folder in ("/lib/netplan/", "/etc/netplan/", "/run/netplan/"):
        for path in files:
            if path.startswith(folder) and path.endswith(".yaml"):
                by_name[path[len(folder) :]] = path
    return [by_name[name] for name in sorted(by_name)]


# Asked for each link of a host, and read anew after each edit: composing the document is what takes long.
@lru_cache(maxsize=64)
def _network(file: FileText) -> dict[str, Value]:
    bad = _not_text(file)
    if bad is not None:
        raise bad
    if not file.text.strip() or all(
        not line.strip() or line.lstrip().startswith("#") for line in file.text.splitlines()
    ):
        return {}
    root = Value(compose(file.text, file.path), file.path)
    if root.is_null:
        return {}
    top = {name: value for name, _, value in root.entries("the key `network:`")}
    if "network" not in top:
        raise root.error("there is no `network:` at the top", expected="`network:`")
    network = top["network"]
    if network.is_null:
        return {}
    return {name: value for name, _, value in network.entries("`version`, `renderer`, `ethernets`, ...")}


def entries_of(file: FileText) -> list[InterfaceEntry]:
    """All interface entries of a file, in order. Raises ``InputError``."""
    found: list[InterfaceEntry] = []
    network = _network(file)
    for section in SECTIONS:
        if section not in network or network[section].is_null:
            continue
        for identity, key, value in network[section].entries("interfaces by name"):
            if identity == "renderer":
                continue
            if not value.is_mapping:
                raise value.error(
                    f"{value.describe()} stands where the settings of {identity} belong",
                    expected="the settings of an interface, each two spaces deeper than its name",
                    remedy=f"look at the indentation of line {key.line} and below",
                )
            found.append(InterfaceEntry(file, section, identity, key, value))
    return found


#: The values of ``renderer``, and the daemons that they name.
_DAEMONS = {"networkd": "systemd-networkd", "NetworkManager": "NetworkManager"}
#: The daemons that netplan's files can be for, its own choice first.
MAY_CARRY_OUT = tuple(_DAEMONS.values())


def renderer_of(daemon: str) -> str:
    """The value of ``renderer`` that names a daemon."""
    return next(word for word, name in _DAEMONS.items() if name == daemon)


def says_renderer(files: Files) -> bool:
    """Whether any file names the renderer of all interfaces."""
    return any("renderer" in _network(files[path]) for path in in_order(files))


def daemon_of(files: Files, entries: list[InterfaceEntry]) -> str:
    """Who carries the entries out: the renderer of the interface, of its section, or of all; networkd by default."""
    said: list[Value] = []
    for path in in_order(files):
        network = _network(files[path])
        if "renderer" in network:
            said.append(network["renderer"])
    for entry in entries:
        section = _network(entry.file)[entry.section]
        said += [value for name, _, value in section.entries() if name == "renderer"]
        if "renderer" in entry.settings:
            said.append(entry.settings["renderer"])
    if not said:
        return _DAEMONS["networkd"]
    renderer = said[-1].text("networkd or NetworkManager")
    if renderer not in _DAEMONS:
        raise said[-1].error(f"{renderer!r} stands here", expected=" or ".join(_DAEMONS))
    return _DAEMONS[renderer]


def boolean(value: Value) -> bool:
    """A truth value as YAML 1.1 writes it. Raises ``InputError``."""
    text = value.text("true or false").lower()
    if text in _TRUE:
        return True
    if text in _FALSE:
        return False
    raise value.error(f"{text!r} stands here", expected="true or false")


def address_items(value: Value) -> list[tuple[IPInterface, Value]]:
    """Addresses with their items; an item may be a mapping of the address to its options."""
    if not value.is_list:
        raise value.error(f"{value.describe()} stands here", expected="a list of ADDRESS/PREFIX")
    found: list[tuple[IPInterface, Value]] = []
    for item in value.items():
        if item.is_mapping:
            inner = list(item.entries())
            if len(inner) != 1:
                raise item.error("more than one key stands here", expected="one ADDRESS/PREFIX with its options")
            text_at = inner[0][1]
        else:
            text_at = item
        found.append((text_at.parsed(parse_interface_address, "ADDRESS/PREFIX"), item))
    return found


def read_route(value: Value) -> Route | None:
    """One route, or ``None`` for those that are not plain unicast routes of the main table."""
    fields = {name: inner for name, _, inner in value.entries("`to`, `via`, ...")}
    if "type" in fields and fields["type"].text() != "unicast":
        return None
    if "table" in fields and fields["table"].text() != "254":
        return None
    via = fields["via"].parsed(parse_address, "an address") if "via" in fields else None
    to = fields["to"].text("a destination") if "to" in fields else "default"
    if to == "default":
        if via is None:
            return None
        destination = default_network(via.version)
    else:
        destination = fields["to"].parsed(parse_destination, "ADDRESS/PREFIX or `default`")
    metric = None
    if "metric" in fields:
        metric_text = fields["metric"].text("a number")
        if not metric_text.isdecimal():
            raise fields["metric"].error(f"{metric_text!r} stands here", expected="a number")
        metric = int(metric_text)
    on_link = "on-link" in fields and boolean(fields["on-link"])
    return Route(destination, via, metric, on_link)


def read_entries(
    entries: list[InterfaceEntry], link: LinkFacts, daemon: str = "systemd-networkd"
) -> tuple[InterfaceConfig, tuple[Place, ...]]:
    """What all entries of one interface say together, and where, as it is for the ``daemon`` that carries them out."""
    places = [Place(entries[0].file.path, entries[0].key.line)]

    def seen(name: str) -> list[Value]:
        found = (e.settings.get(name) for e in entries)
        values = [value for value in found if value is not None and not value.is_null]
        places.extend(Place(value.file, value.line) for value in values)
        return values

    def flag(name: str) -> bool | None:
        values = seen(name)
        return boolean(values[-1]) if values else None

    items = [pair for value in seen("addresses") for pair in address_items(value)]
    addresses = [address for address, _ in items]
    dhcp4, dhcp6, accept_ra = flag("dhcp4"), flag("dhcp6"), flag("accept-ra")
    routes: list[Route] = []
    for key in ("gateway4", "gateway6"):
        for value in seen(key)[-1:]:
            gateway = value.parsed(parse_address, "an address")
            routes.append(Route(default_network(gateway.version), gateway))
    for value in seen("routes"):
        if not value.is_list:
            raise value.error(f"{value.describe()} stands here", expected="a list of routes")
        routes += [route for item in value.items() if (route := read_route(item)) is not None]
    resolvers: list[IPAddress] = []
    search: list[str] = []
    for value in seen("nameservers"):
        servers = {name: inner for name, _, inner in value.entries("`addresses` and `search`")}
        if "addresses" in servers and not servers["addresses"].is_null:
            resolvers += [item.parsed(parse_address, "an address") for item in servers["addresses"].items()]
        if "search" in servers and not servers["search"].is_null:
            search += [item.text("a domain") for item in servers["search"].items()]
    domains = [d for d in search if not d.startswith("~")]

    def overrides(key: str) -> dict[str, bool]:
        return {
            name: boolean(inner)
            for value in seen(key)
            for name, _, inner in value.entries("`use-dns`, `use-routes`, ...")
            if name in ("use-dns", "use-routes")
        }

    overrides4, overrides6 = overrides("dhcp4-overrides"), overrides("dhcp6-overrides")
    # For NetworkManager the generator makes `never-default` of it, which keeps fixed gateways away as well.
    without = [v for v, said in ((4, overrides4), (6, overrides6)) if said.get("use-routes") is False]
    mtus = [value.text("a number") for value in seen("mtu")]
    held4 = any(isinstance(a, IPv4Interface) for a in addresses)
    held6 = any(not isinstance(a, IPv4Interface) and not a.is_link_local for a in addresses)
    config = InterfaceConfig(
        interface=link.name,
        ipv4="dhcp" if dhcp4 else "fixed" if held4 else "off",
        ipv6="dhcp" if dhcp6 else "fixed" if held6 else "off" if accept_ra is False else "ra",
        addresses=tuple(addresses),
        routes=tuple(dict.fromkeys(routes)),
        resolvers=tuple(resolvers) or None,
        search=tuple(domains) or None,
        mtu=int(mtus[-1]) if mtus and mtus[-1].isdecimal() else None,
        lease_routes=overrides4.get("use-routes", True),
        lease_resolvers=overrides4.get("use-dns", True),
        never_default=tuple(without) if daemon == "NetworkManager" else (),
        optioned=tuple(address for address, item in items if item.is_mapping),
        # NetworkManager does not, where addresses are set by hand.
        accepts_ra=held6 and not dhcp6 and accept_ra is not False and daemon != "NetworkManager",
    )
    if daemon == "NetworkManager" and config.resolvers_lead_nowhere and ALL_NAMES not in search:
        config = msgspec.structs.replace(config, resolvers=None)
    return config, (places[0], *sorted(set(places[1:])))


def all_but(file: FileText, identity: str) -> object:
    """The whole content of ``file`` as plain values, but for the entry ``identity``."""

    def plain_value(node: yaml.Node) -> object:
        if isinstance(node, yaml.MappingNode):
            return [(plain_value(k), plain_value(v)) for k, v in node.value]
        if isinstance(node, yaml.SequenceNode):
            return [plain_value(n) for n in node.value]
        return (getattr(node, "style", None), node.value)

    rest: list[tuple[str, object]] = []
    for section, value in _network(file).items():
        if section in SECTIONS and value.is_mapping:
            others = [(name, plain_value(v.node)) for name, _, v in value.entries() if name != identity]
            rest.append((section, others))
        else:
            rest.append((section, plain_value(value.node)))
    return rest


def _not_text(file: FileText) -> InputError | None:
    """An error where the file holds bytes that are not UTF-8: YAML has none."""
    for number, line in enumerate(file.text.split("\n"), 1):
        for column, char in enumerate(line, 1):
            if 0xDC80 <= ord(char) <= 0xDCFF:
                return InputError("a byte that is not UTF-8", file=file.path, line=number, column=column)
    return None
