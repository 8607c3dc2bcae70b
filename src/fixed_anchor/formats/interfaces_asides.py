"""What interfaces(5) says beside the addressing of an interface: ports, hooks, and what brings it up at boot."""

from __future__ import annotations

import re
from collections.abc import Iterator
from fnmatch import fnmatchcase

from fixed_anchor.core.addresses import addresses_in
from fixed_anchor.core.aside import EARLIER_LEASE, HOOK, NAMES, NO_REMARK, NOT_AT_BOOT, PORT, Aside
from fixed_anchor.core.config import LinkFacts, Place
from fixed_anchor.formats.interfaces_hooks import UP_HOOKS, adds_something, read_hook
from fixed_anchor.formats.interfaces_read import ADDRESSING, DNS
from fixed_anchor.formats.interfaces_text import Line, Stanza

#: What brings interfaces up at boot, or when they appear.
_AT_BOOT = ("auto", "allow-auto", "allow-hotplug")
_PORT_LISTS = ("bridge_ports", "bridge-ports", "bond-slaves", "bond_slaves", "slaves")


def asides_of(stanzas: list[Stanza], mine: list[Stanza], link: LinkFacts) -> Iterator[Aside]:
    """What the stanzas ``mine`` of a link, and all others, say beside its configuration."""
    brought_up = [w for s in stanzas if s.kind in _AT_BOOT for word in s.head.words[1:] for w in names_in(word)]
    if mine and not any(w == link.name or (w[:1] == "/" and fnmatchcase(link.name, w[1:])) for w in brought_up):
        text = f"iface {link.name} without `auto {link.name}`"
        yield Aside(NOT_AT_BOOT, _place(mine[0], mine[0].head), text, link.name)
    for name in brought_up[: brought_up.index(link.name)] if link.name in brought_up else ():
        for stanza in stanzas:
            leased = stanza.kind == "iface" and stanza.name == name and stanza.method == "dhcp"
            if leased and name != link.name and not any(line.key == "metric" for line in stanza.options):
                yield Aside(EARLIER_LEASE, _place(stanza, stanza.head), " ".join(stanza.head.words), link.name, of=name)
    for stanza in stanzas:
        named = stanza in mine or (stanza.brings_up and link.name in stanza.head.words)
        for line in (stanza.head, *stanza.options) if named else ():
            if line.remark:
                yield Aside(NO_REMARK, _place(stanza, line), line.remark, link.name)
    for stanza in mine:
        for line in stanza.options:
            text = " ".join(line.words)
            if line.key in ("bond-master", "bond_master", "ovs_bridge", "ovs-bridge"):
                yield Aside(PORT, _place(stanza, line), text, link.name, of=line.value)
            yield from _naming(stanza, line, link.name)
            if line.key in UP_HOOKS and read_hook(line.value, link.name) is None and adds_something(line.value):
                yield Aside(HOOK, _place(stanza, line), text, link.name)
    for stanza in stanzas:
        if stanza.kind == "iface" and stanza not in mine:
            yield from _of_another(stanza, link)


def names_in(word: str) -> list[str]:
    """The names that a word of `auto` stands for: ifupdown2 has ranges (``eth[0-3]``), ifupdown has none."""
    matched = re.fullmatch(r"([^/]*)\[([0-9]+)-([0-9]+)\](.*)", word)
    if matched is None:
        return [word]
    last = min(int(matched[3]), int(matched[2]) + 4096)
    return [f"{matched[1]}{number}{matched[4]}" for number in range(int(matched[2]), last + 1)]


def _of_another(stanza: Stanza, link: LinkFacts) -> Iterator[Aside]:
    """What the stanza of another interface says of ``link``."""
    for line in stanza.options:
        text = " ".join(line.words)
        yield from _naming(stanza, line, stanza.name)
        if line.key in _PORT_LISTS and _lists(line, link.name):
            yield Aside(PORT, _place(stanza, line), f"{text} of {stanza.name}", link.name, of=stanza.name)
        if line.key in UP_HOOKS:
            added = read_hook(line.value, stanza.name)
            if added is not None and added.adds and added.interface == link.name:
                routes = (added.route,) if added.route is not None else ()
                yield Aside(HOOK, _place(stanza, line), f"{text} of {stanza.name}", link.name, routes=routes)


def _naming(stanza: Stanza, line: Line, interface: str) -> Iterator[Aside]:
    """The addresses that an option names beside those that it gives."""
    named = addresses_in(line.value) if line.key not in ADDRESSING | DNS else ()
    if named:
        yield Aside(NAMES, _place(stanza, line), " ".join(line.words), interface, named)


def _lists(line: Line, name: str) -> bool:
    """Whether a list of ports has ``name``: itself, as ``all``, or by a ``regex``."""
    words = line.words[1:]
    for number, word in enumerate(words):
        if word == name or (word == "all" and re.match(r"e(th|n|m)|p[0-9]", name)):
            return True
        if number and words[number - 1] == "regex":
            try:
                if re.fullmatch(word, name):
                    return True
            except re.error:
                continue
    return False


def _place(stanza: Stanza, line: Line) -> Place:
    return Place(stanza.path, line.first + 1)
