"""netplan YAML, netplan(5): one interface in one file, carried out by systemd-networkd.

What several files say of one interface, and other backends, are refused by name.
"""

from __future__ import annotations

from fnmatch import fnmatchcase
from ipaddress import IPv4Interface

import yaml

from fixed_anchor.core.addresses import (
    IPAddress,
    IPInterface,
    IPNetwork,
    default_network,
    parse_address,
    parse_interface_address,
    parse_network,
)
from fixed_anchor.core.config import InterfaceConfig, LinkFacts, Place, Route, says
from fixed_anchor.core.errors import InputError, NotSupported
from fixed_anchor.dialects.protocol import Declaration, FileEdit, Files, FileText, Steps, not_text
from fixed_anchor.dialects.yaml_splice import Item, MapEdit, Splices, plain
from fixed_anchor.planfile.nodes import Value, compose

#: The sections of a file that declare interfaces, and the kinds they are for.
SECTIONS = ("ethernets", "wifis", "bonds", "bridges", "vlans", "modems", "tunnels", "vrfs", "dummy-devices")

_TRUE = frozenset({"true", "on", "yes", "y"})
_FALSE = frozenset({"false", "off", "no", "n"})


class _Found:
    """An interface's entry in a file."""

    def __init__(self, file: FileText, section: str, identity: str, key: Value, value: Value) -> None:
        self.file = file
        self.section = section
        self.identity = identity
        self.key = key
        self.value = value

    @property
    def settings(self) -> dict[str, Value]:
        return {name: value for name, _, value in self.value.entries("the interface's settings")}


class Netplan:
    """The dialect of ``/etc/netplan/*.yaml``."""

    name = "netplan"
    patterns: tuple[str, ...] = ("/lib/netplan/*.yaml", "/etc/netplan/*.yaml", "/run/netplan/*.yaml")

    def read(self, files: Files, links: tuple[LinkFacts, ...]) -> tuple[Declaration, ...]:
        entries = [entry for path in _in_order(files) for entry in _entries(files[path])]
        backend = _backend(files)
        found: list[Declaration] = []
        for link in links:
            mine = [entry for entry in entries if _governs(entry, link)]
            if not mine:
                continue
            if len(mine) > 1:
                raise NotSupported(
                    f"{len(mine)} entries declare {link.name}: "
                    + ", ".join(f"{e.file.path}:{e.key.line}" for e in mine)
                    + "; several are not supported yet",
                    file=mine[1].file.path,
                    line=mine[1].key.line,
                    remedy="merge them into one file first",
                )
            config, places = _read_entry(mine[0], link)
            found.append(Declaration(link, config, places, mine[0].identity, backend))
        return tuple(found)

    def named(self, files: Files) -> tuple[str, ...]:
        names: dict[str, None] = {}
        for path in _in_order(files):
            for entry in _entries(files[path]):
                settings = entry.settings
                renamed = settings["set-name"].text() if "set-name" in settings else entry.identity
                if "match" not in settings or "set-name" in settings:
                    names[renamed] = None
        return tuple(names)

    def rewrite(self, files: Files, link: LinkFacts, wanted: InterfaceConfig) -> tuple[FileEdit, ...]:
        declared = self.read(files, (link,))
        if not declared:
            raise NotSupported(
                f"no file under /etc/netplan declares {link.name}",
                remedy="declare it first, with `dhcp4: true`, and see that it comes up",
            )
        if declared[0].backend == "NetworkManager":
            raise NotSupported(
                "netplan with the renderer NetworkManager is not supported yet",
                file=declared[0].places[0].file,
                line=declared[0].places[0].line,
            )
        _refuse_unsupported(wanted)
        path = declared[0].places[0].file
        before = files[path]
        entry = next(e for e in _entries(before) if _governs(e, link))
        text = _edit(entry, declared[0].config, wanted)
        # netplan wants its files for root alone: they may hold secrets.
        mode = before.mode & 0o600
        if text == before.text and mode == before.mode:
            return ()
        after = FileText(path, text, mode, before.uid, before.gid)
        self._prove(files, before, after, link, wanted)
        return (FileEdit(path, before, after),)

    def _prove(self, files: Files, before: FileText, after: FileText, link: LinkFacts, wanted: InterfaceConfig) -> None:
        """Reads the edited text back: it must say what is wanted, and the same as before of all else."""
        try:
            reread = self.read({**files, after.path: after}, (link,))
        except InputError:
            # An edit beside an anchor, say: the text is not what it was taken for.
            reread = ()
        if len(reread) != 1 or not says(reread[0].config, wanted):
            raise NotSupported(
                f"the entry of {link.name} cannot be edited safely: it would not read back as wanted",
                file=before.path,
                remedy="write it in the usual block form, then try again",
            )
        identity = reread[0].identity
        if _without(before, identity) != _without(after, identity):
            raise NotSupported(
                f"the entry of {link.name} cannot be edited without touching others",
                file=before.path,
                remedy="write it in the usual block form, then try again",
            )

    def steps(self, before: Files, after: Files, link: LinkFacts) -> Steps:
        # `netplan generate` and a reload take effect like `netplan apply`, in a third of the time
        # and without touching other interfaces. Both exit 0 for much that goes wrong: verification
        # and the guard look at the result.
        load = (("netplan", "generate"), ("networkctl", "reload"))
        return Steps(
            activate=load,
            reload=load,
            escalate=(
                ("networkctl", "reconfigure", link.name),
                ("systemctl", "restart", "systemd-networkd.service"),
            ),
            # netplan's generator has run before any unit, with the files of the open change.
            boot=(("netplan", "generate"),),
        )


def _refuse_unsupported(wanted: InterfaceConfig) -> None:
    refused = []
    if wanted.ipv6 != "untouched":
        refused.append(f"`ipv6: {wanted.ipv6}`")
    if wanted.ipv4 == "off":
        refused.append("`ipv4: off`")
    if wanted.mtu is not None:
        refused.append("`mtu`")
    if wanted.time_servers is not None:
        refused.append("`time_servers`")
    if any(not r.is_default for r in wanted.routes):
        refused.append("`routes`")
    if any(r.on_link for r in wanted.routes):
        refused.append("an on-link gateway")
    if wanted.ipv4 == "dhcp" and not wanted.lease_routes:
        refused.append("`gateway: none` with `ipv4: dhcp`")
    if refused:
        raise NotSupported(f"{', '.join(refused)} on {wanted.interface}: not supported yet for netplan files")


def _in_order(files: Files) -> list[str]:
    """netplan(5): files are taken in the order of their names; of the same name, /run hides /etc hides /lib."""
    by_name: dict[str, str] = {}
    for folder in ("/lib/netplan/", "/etc/netplan/", "/run/netplan/"):
        for path in files:
            if path.startswith(folder) and path.endswith(".yaml"):
                by_name[path[len(folder) :]] = path
    return [by_name[name] for name in sorted(by_name)]


def _network(file: FileText) -> dict[str, Value]:
    bad = not_text(file)
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


def _entries(file: FileText) -> list[_Found]:
    found: list[_Found] = []
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
            found.append(_Found(file, section, identity, key, value))
    return found


def _backend(files: Files) -> str:
    backend = "networkd"
    for path in _in_order(files):
        network = _network(files[path])
        if "renderer" in network:
            backend = network["renderer"].text("networkd or NetworkManager")
    return backend


def _governs(entry: _Found, link: LinkFacts) -> bool:
    """Whether ``entry`` is for ``link``: by name, or by its ``match`` (netplan(5), physical devices)."""
    settings = entry.settings
    match = settings.get("match")
    if match is None:
        return entry.identity == link.name
    rules = {name: value for name, _, value in match.entries("`name`, `macaddress` or `driver`")}
    if "set-name" in settings and settings["set-name"].text() == link.name:
        return True
    if not rules:
        return entry.section == "ethernets" and link.kind == "ethernet"
    if "macaddress" in rules and rules["macaddress"].text().lower() not in (link.permanent_mac, link.mac):
        return False
    if "name" in rules and not fnmatchcase(link.name, rules["name"].text()):
        return False
    if "driver" in rules:
        if link.driver is None:
            raise NotSupported(
                f"whether this entry is for {link.name} cannot be told: it matches by driver",
                file=entry.file.path,
                line=rules["driver"].line,
            )
        return any(fnmatchcase(link.driver, i.text()) for i in rules["driver"].items())
    return True


def _bool(value: Value) -> bool:
    text = value.text("true or false").lower()
    if text in _TRUE:
        return True
    if text in _FALSE:
        return False
    raise value.error(f"{text!r} stands here", expected="true or false")


def _address_items(value: Value) -> list[tuple[IPInterface, Value]]:
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


def _route(value: Value) -> Route | None:
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
        destination = fields["to"].parsed(_destination, "ADDRESS/PREFIX or `default`")
    metric = None
    if "metric" in fields:
        metric_text = fields["metric"].text("a number")
        if not metric_text.isdecimal():
            raise fields["metric"].error(f"{metric_text!r} stands here", expected="a number")
        metric = int(metric_text)
    on_link = "on-link" in fields and _bool(fields["on-link"])
    return Route(destination, via, metric, on_link)


def _destination(text: str) -> IPNetwork:
    return parse_network(text if "/" in text else f"{text}/{32 if ':' not in text else 128}")


def _read_entry(entry: _Found, link: LinkFacts) -> tuple[InterfaceConfig, tuple[Place, ...]]:
    settings = entry.settings
    places = [Place(entry.file.path, entry.key.line)]

    def seen(name: str) -> Value | None:
        value = settings.get(name)
        if value is not None and not value.is_null:
            places.append(Place(entry.file.path, value.line))
            return value
        return None

    addresses: list[IPInterface] = []
    if (value := seen("addresses")) is not None:
        addresses = [address for address, _ in _address_items(value)]
    dhcp4 = (value := seen("dhcp4")) is not None and _bool(value)
    dhcp6 = (value := seen("dhcp6")) is not None and _bool(value)
    accept_ra = None if (value := seen("accept-ra")) is None else _bool(value)
    routes: list[Route] = []
    for key in ("gateway4", "gateway6"):
        if (value := seen(key)) is not None:
            gateway = value.parsed(parse_address, "an address")
            routes.append(Route(default_network(gateway.version), gateway))
    if (value := seen("routes")) is not None:
        if not value.is_list:
            raise value.error(f"{value.describe()} stands here", expected="a list of routes")
        routes += [route for item in value.items() if (route := _route(item)) is not None]
    resolvers: tuple[IPAddress, ...] | None = None
    search: tuple[str, ...] | None = None
    if (value := seen("nameservers")) is not None:
        servers = {name: inner for name, _, inner in value.entries("`addresses` and `search`")}
        if "addresses" in servers and not servers["addresses"].is_null:
            resolvers = tuple(item.parsed(parse_address, "an address") for item in servers["addresses"].items())
        if "search" in servers and not servers["search"].is_null:
            search = tuple(item.text("a domain") for item in servers["search"].items())
    mtu = (value.text("a number") if (value := seen("mtu")) is not None else None) or None
    held4 = any(isinstance(a, IPv4Interface) for a in addresses)
    held6 = any(not isinstance(a, IPv4Interface) and not a.is_link_local for a in addresses)
    config = InterfaceConfig(
        interface=link.name,
        ipv4="dhcp" if dhcp4 else "fixed" if held4 else "off",
        ipv6="dhcp" if dhcp6 else "fixed" if held6 else "off" if accept_ra is False else "ra",
        addresses=tuple(addresses),
        routes=tuple(routes),
        resolvers=resolvers,
        search=search,
        mtu=int(mtu) if mtu and mtu.isdecimal() else None,
    )
    return config, (places[0], *sorted(set(places[1:])))


def _edit(entry: _Found, declared: InterfaceConfig, wanted: InterfaceConfig) -> str:
    """The text of the file with the entry changed to ``wanted`` (IPv4, resolvers, search domains)."""
    splices = Splices(entry.file.text)
    node = entry.value.node
    assert isinstance(node, yaml.MappingNode)
    edit = MapEdit(splices, node, int(entry.key.node.start_mark.column) + 2)
    settings = entry.settings
    if wanted.ipv4 in ("fixed", "dhcp"):
        leased = wanted.ipv4 == "dhcp"
        if (declared.ipv4 == "dhcp") != leased:
            edit.set_scalar("dhcp4", "true" if leased else "false")
        if declared.of_family(4) != wanted.of_family(4):
            _edit_addresses(edit, settings.get("addresses"), wanted)
        if declared.default_routes(4) != (() if leased else wanted.default_routes(4)):
            edit.delete("gateway4")
            _edit_default_routes(edit, settings.get("routes"), wanted)
    resolvers_differ = wanted.resolvers is not None and (declared.resolvers or ()) != wanted.resolvers
    search_differs = wanted.search is not None and (declared.search or ()) != wanted.search
    if resolvers_differ or search_differs:
        _edit_nameservers(edit, settings.get("nameservers"), wanted, resolvers_differ, search_differs)
    edit.finish()
    return splices.result()


def _edit_addresses(edit: MapEdit, value: Value | None, wanted: InterfaceConfig) -> None:
    there = _address_items(value) if value is not None and not value.is_null else []
    index = {address: number for number, (address, _) in reversed(list(enumerate(there)))}
    items = [_address_item(address, index.get(address)) for address in wanted.of_family(4)]
    items += [Item(n) for n, (address, _) in enumerate(there) if address.version == 6]
    edit.set_list("addresses", items)


def _address_item(address: IPInterface, kept: int | None) -> Item:
    text = plain(str(address))
    return Item(kept, (f"- {text}",), text)


def _edit_default_routes(edit: MapEdit, value: Value | None, wanted: InterfaceConfig) -> None:
    there = value.items() if value is not None and not value.is_null else []
    items: list[Item] = []
    missing = list(wanted.default_routes(4))
    for number, item in enumerate(there):
        route = _route(item)
        if route is None or not (route.is_default and route.destination.version == 4):
            items.append(Item(number))
        elif route in missing:
            missing.remove(route)
            items.append(Item(number))
    for route in missing:
        parts = ["to: default", f"via: {plain(str(route.next_hop))}"]
        if route.metric is not None:
            parts.append(f"metric: {route.metric}")
        block = tuple(("- " if n == 0 else "  ") + part for n, part in enumerate(parts))
        items.append(Item(None, block, "{" + ", ".join(parts) + "}"))
    edit.set_list("routes", items)


def _edit_nameservers(
    edit: MapEdit, value: Value | None, wanted: InterfaceConfig, resolvers: bool, search: bool
) -> None:
    present = {}
    if value is not None and not value.is_null:
        present = {name: inner for name, _, inner in value.entries()}
    lists: dict[str, list[Item]] = {}
    if resolvers:
        lists["addresses"] = _scalars(present.get("addresses"), [str(a) for a in wanted.resolvers or ()])
    if search:
        lists["search"] = _scalars(present.get("search"), list(wanted.search or ()))
    edit.set_map("nameservers", lists)


def _scalars(value: Value | None, texts: list[str]) -> list[Item]:
    there = value.items() if value is not None and value.is_list else []
    index = {item.text(): number for number, item in reversed(list(enumerate(there)))}
    items = []
    for text in texts:
        written = plain(text)
        items.append(Item(index.get(text), (f"- {written}",), written))
    return items


def _without(file: FileText, identity: str) -> object:
    """The whole content of ``file`` as plain values, but for the entry ``identity``."""

    def plain_value(node: yaml.Node) -> object:
        if isinstance(node, yaml.MappingNode):
            return [(plain_value(k), plain_value(v)) for k, v in node.value]
        if isinstance(node, yaml.SequenceNode):
            return [plain_value(n) for n in node.value]
        return (node.tag, node.value)

    rest: list[tuple[str, object]] = []
    for section, value in _network(file).items():
        if section in SECTIONS and value.is_mapping:
            others = [(name, plain_value(v.node)) for name, _, v in value.entries() if name != identity]
            rest.append((section, others))
        else:
            rest.append((section, plain_value(value.node)))
    return rest
