"""What netplan YAML says beside the addressing of an interface: ports, references to addresses, names, activation."""

from __future__ import annotations

from collections.abc import Iterator

from fixed_anchor.core.addresses import lone_address
from fixed_anchor.core.aside import NAMES, NOT_AT_BOOT, PORT, RENAMED, Aside
from fixed_anchor.core.config import LinkFacts, Place
from fixed_anchor.formats.netplan_entries import InterfaceEntry
from fixed_anchor.text.yaml_nodes import Value


def asides_of(entries: list[InterfaceEntry], link: LinkFacts) -> Iterator[Aside]:
    """What the entries of one interface say beside its configuration."""
    for entry in entries:
        settings = entry.settings
        for key, words in (("routes", ("from",)), ("routing-policy", ("from", "to"))):
            if key in settings and settings[key].is_list:
                yield from _naming(settings[key], key, words, link.name)
        mode = settings.get("activation-mode")
        if mode is not None:
            yield Aside(NOT_AT_BOOT, _place(mode), f"activation-mode: {mode.text()}", link.name)
        name = settings.get("set-name")
        if name is not None and name.text() != link.name:
            yield Aside(RENAMED, _place(name), f"set-name: {name.text()}", link.name, of=name.text())


def _naming(items: Value, key: str, words: tuple[str, ...], interface: str) -> Iterator[Aside]:
    for item in items.items():
        for name, _, value in item.entries() if item.is_mapping else ():
            address = lone_address(value.text()) if name in words else None
            if address is not None:
                yield Aside(NAMES, _place(value), f"{key}: {name}: {value.text()}", interface, (address,))


def ports_in(entries: list[InterfaceEntry], links: tuple[LinkFacts, ...]) -> Iterator[Aside]:
    """Which of ``links`` are ports of a bridge or bond, by the name that its ``interfaces`` say."""
    names = {link.name for link in links}
    by_set_name = {e.identity: e.settings["set-name"].text() for e in entries if "set-name" in e.settings}
    for entry in entries:
        ports = entry.settings.get("interfaces")
        if entry.section not in ("bridges", "bonds") or ports is None or not ports.is_list:
            continue
        for item in ports.items():
            name = by_set_name.get(item.text(), item.text())
            if name in names:
                yield Aside(PORT, _place(item), f"interfaces of {entry.identity}", name, of=entry.identity)


def tunnels_in(entries: list[InterfaceEntry]) -> Iterator[Aside]:
    """The addresses from which tunnels leave."""
    for entry in entries:
        local = entry.settings.get("local")
        address = lone_address(local.text()) if local is not None and entry.section == "tunnels" else None
        if local is not None and address is not None:
            yield Aside(NAMES, _place(local), f"local: {local.text()}", entry.identity, (address,))


def _place(value: Value) -> Place:
    return Place(value.file, value.line)
