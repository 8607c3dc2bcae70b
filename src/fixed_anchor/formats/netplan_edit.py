"""Editing the entries of one interface in netplan YAML, as splices of the text of its files."""

from __future__ import annotations

from collections.abc import Collection

import yaml

from fixed_anchor.core.addresses import IPInterface
from fixed_anchor.core.config import ALL_NAMES, InterfaceConfig, Route
from fixed_anchor.core.programs import DEFAULT_ROUTES
from fixed_anchor.formats.netplan_entries import InterfaceEntry, address_items, boolean, read_route
from fixed_anchor.text.yaml_edit import Item, MapEdit
from fixed_anchor.text.yaml_nodes import Value
from fixed_anchor.text.yaml_splice import Splices, plain


class _Texts:
    """The edits of all files of one interface; the last file wins, so what is new goes there."""

    def __init__(self, entries: list[InterfaceEntry]) -> None:
        self.entries = entries
        self.splices = {entry.file.path: Splices(entry.file.text) for entry in entries}
        self.edits = []
        for entry in entries:
            node = entry.value.node
            assert isinstance(node, yaml.MappingNode)
            indent = int(entry.key.node.start_mark.column) + 2
            self.edits.append(MapEdit(self.splices[entry.file.path], node, indent))

    def holding(self, key: str) -> list[tuple[MapEdit, Value]]:
        """The edits of the entries that have ``key``, with its value."""
        pairs = zip(self.edits, self.entries, strict=True)
        return [(edit, entry.settings[key]) for edit, entry in pairs if key in entry.settings]

    @property
    def last(self) -> MapEdit:
        return self.edits[-1]

    def set(self, key: str, text: str) -> None:
        """Sets a plain value where it counts: in the last file that has it, else in the last of all."""
        there = self.holding(key)
        (there[-1][0] if there else self.last).set_scalar(key, text)

    def flag(self, key: str) -> bool | None:
        values = [value for _, value in self.holding(key) if not value.is_null]
        return boolean(values[-1]) if values else None

    def delete(self, key: str) -> None:
        for edit, _ in self.holding(key):
            edit.delete(key)

    def result(self) -> dict[str, str]:
        for edit in self.edits:
            edit.finish()
        return {path: splices.result() for path, splices in self.splices.items()}


def edit_entries(
    entries: list[InterfaceEntry],
    declared: InterfaceConfig,
    wanted: InterfaceConfig,
    todo: tuple[str, ...],
    daemon: str,
    lacks: Collection[str] = (),
) -> dict[str, str]:
    """The texts of the files with the interface's entries changed to ``wanted``.

    ``lacks`` are the abilities that the host's netplan does not have.
    """
    texts = _Texts(entries)
    if "ipv4" in todo and (texts.flag("dhcp4") is True) != (wanted.ipv4 == "dhcp"):
        texts.set("dhcp4", "true" if wanted.ipv4 == "dhcp" else "false")
    if "ipv6" in todo:
        _edit_ipv6_method(texts, wanted)
    families = {v for v in (4, 6) if wanted.touches(v)}
    if "hold" in todo:
        _edit_addresses(texts, families, wanted)
    if {"gateway", "routes"} & set(todo):
        for version in families:
            if set(declared.default_routes(version)) != set(wanted.default_routes(version)):
                texts.delete(f"gateway{version}")
        _edit_routes(texts, families, wanted, lacks)
    if {"resolvers", "search"} & set(todo):
        _edit_nameservers(texts, declared, wanted, daemon)
    if "mtu" in todo:
        texts.set("mtu", str(wanted.mtu))
    for version in families & set(declared.never_default):
        if version == 6 or wanted.ipv4 != "dhcp":
            _inner(texts, f"dhcp{version}-overrides", "use-routes", "true")
    if wanted.ipv4 == "dhcp":
        for name, now, then in (
            ("use-routes", declared.lease_routes, wanted.lease_routes),
            ("use-dns", declared.lease_resolvers, wanted.lease_resolvers),
        ):
            if now != then:
                _inner(texts, "dhcp4-overrides", name, "true" if then else "false")
    return texts.result()


def _inner(texts: _Texts, key: str, name: str, text: str) -> None:
    there = texts.holding(key)
    (there[-1][0] if there else texts.last).set_inner(key, name, text)


def _edit_ipv6_method(texts: _Texts, wanted: InterfaceConfig) -> None:
    if (texts.flag("dhcp6") is True) != (wanted.ipv6 == "dhcp"):
        texts.set("dhcp6", "true" if wanted.ipv6 == "dhcp" else "false")
    accept = texts.flag("accept-ra")
    if wanted.ipv6 in ("fixed", "off") and accept is not False:
        texts.set("accept-ra", "false")
    elif wanted.ipv6 in ("ra", "dhcp") and accept is False:
        texts.set("accept-ra", "true")
    link_local = [value for _, value in texts.holding("link-local")]
    silent = bool(link_local) and "ipv6" not in [i.text() for v in link_local if v.is_list for i in v.items()]
    if wanted.ipv6 == "off" and not silent:
        texts.delete("link-local")
        if not link_local:
            texts.last.set_scalar("link-local", "[]")
    elif wanted.ipv6 != "off" and silent:
        texts.delete("link-local")


def _edit_addresses(texts: _Texts, families: set[int], wanted: InterfaceConfig) -> None:
    want = [a for a in wanted.addresses if a.version in families]
    for edit, value in texts.holding("addresses"):
        if edit is texts.last:
            continue
        there = address_items(value) if not value.is_null else []
        kept = [Item(n) for n, (address, _) in enumerate(there) if address.version not in families]
        if len(kept) != len(there):
            edit.set_list("addresses", kept)
    own = [value for edit, value in texts.holding("addresses") if edit is texts.last]
    there = address_items(own[0]) if own and not own[0].is_null else []
    # One with options (a lifetime, a label) is written anew, without them.
    plainly = [(n, address) for n, (address, item) in enumerate(there) if not item.is_mapping]
    index = {address: number for number, address in reversed(plainly)}
    items = [_address_item(address, index.get(address)) for address in want]
    items += [Item(n) for n, (address, _) in enumerate(there) if address.version not in families]
    if [i.kept for i in items] != list(range(len(there))):
        texts.last.set_list("addresses", items)


def _address_item(address: IPInterface, kept: int | None) -> Item:
    text = plain(str(address))
    return Item(kept, (f"- {text}",), text)


def _edit_routes(texts: _Texts, families: set[int], wanted: InterfaceConfig, lacks: Collection[str]) -> None:
    """Default routes of the touched families become those wanted; other wanted routes are added."""
    missing = [r for r in wanted.routes if not r.is_default or r.destination.version in families]
    lists: list[tuple[MapEdit, list[Item], int]] = []
    for edit, value in texts.holding("routes"):
        items: list[Item] = []
        there = value.items() if not value.is_null else []
        for number, item in enumerate(there):
            route = read_route(item)
            if route in missing:
                missing.remove(route)
            elif route is not None and route.is_default and route.destination.version in families:
                continue
            items.append(Item(number))
        lists.append((edit, items, len(there)))
    new = [_route_item(route, DEFAULT_ROUTES not in lacks) for route in missing]
    if not any(edit is texts.last for edit, _, _ in lists):
        lists.append((texts.last, [], 0))
    for edit, items, before in lists:
        final = [*items, *new] if edit is texts.last else items
        if len(final) != before or any(i.kept is None for i in final):
            edit.set_list("routes", final)


def _route_item(route: Route, knows_default: bool) -> Item:
    parts = [f"to: {'default' if route.is_default and knows_default else plain(str(route.destination))}"]
    if route.next_hop is not None:
        parts.append(f"via: {plain(str(route.next_hop))}")
    if route.metric is not None:
        parts.append(f"metric: {route.metric}")
    if route.on_link:
        parts.append("on-link: true")
    block = tuple(("- " if n == 0 else "  ") + part for n, part in enumerate(parts))
    return Item(None, block, "{" + ", ".join(parts) + "}")


def _edit_nameservers(texts: _Texts, declared: InterfaceConfig, wanted: InterfaceConfig, daemon: str) -> None:
    change: dict[str, list[str]] = {}
    if wanted.resolvers is not None and (declared.resolvers or ()) != wanted.resolvers:
        change["addresses"] = [str(a) for a in wanted.resolvers]
    there = [item.text() for _, value in texts.holding("nameservers") for item in _searched(value)]
    routed = [d for d in there if d.startswith("~") and d != ALL_NAMES]
    # For NetworkManager: without a default route or a search domain it would not ask these resolvers.
    every = [ALL_NAMES] if daemon == "NetworkManager" and wanted.resolvers_lead_nowhere else []
    searched = [d for d in there if not d.startswith("~")] if wanted.search is None else list(wanted.search)
    if [*searched, *routed, *every] != there:
        change["search"] = [*searched, *routed, *every]
    own: Value | None = None
    for edit, value in texts.holding("nameservers"):
        if edit is texts.last:
            own = value
        elif not value.is_null:
            present = {name for name, _, _ in value.entries()}
            gone: dict[str, list[Item]] = {name: [] for name in change if name in present}
            if gone:
                edit.set_map("nameservers", gone)
    present_here = {name: inner for name, _, inner in own.entries()} if own is not None and not own.is_null else {}
    lists = {name: _scalars(present_here.get(name), words) for name, words in change.items()}
    if any(lists.values()) or any(name in present_here for name in lists):
        texts.last.set_map("nameservers", lists)


def _searched(value: Value) -> list[Value]:
    """The items of ``search`` in a value of ``nameservers``."""
    inner = {name: item for name, _, item in value.entries()} if not value.is_null else {}
    return inner["search"].items() if "search" in inner and inner["search"].is_list else []


def _scalars(value: Value | None, texts: list[str]) -> list[Item]:
    there = value.items() if value is not None and value.is_list else []
    index = {item.text(): number for number, item in reversed(list(enumerate(there)))}
    items = []
    for text in texts:
        written = plain(text)
        items.append(Item(index.get(text), (f"- {written}",), written))
    return items
