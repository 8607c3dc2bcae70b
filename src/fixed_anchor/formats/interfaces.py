"""Debian's interfaces(5): the format, and its editing."""

from __future__ import annotations

from fixed_anchor.change.files import Files, FileText
from fixed_anchor.change.steps import route_words
from fixed_anchor.core.aside import Aside
from fixed_anchor.core.config import InterfaceConfig, LinkFacts, Place, Route, Wireless
from fixed_anchor.core.errors import InputError, NotSupported
from fixed_anchor.formats.interfaces_asides import asides_of
from fixed_anchor.formats.interfaces_hooks import read_hook
from fixed_anchor.formats.interfaces_new import place_for, radio_lines, with_stanzas
from fixed_anchor.formats.interfaces_read import (
    ADDRESSING,
    DNS,
    MAIN,
    effective,
    former_templates,
    link_kind,
    read_stanzas,
    sourced,
    stanzas_for,
    stanzas_in,
    unfinished,
)
from fixed_anchor.formats.interfaces_text import HOOKS, Line, Stanza, parse
from fixed_anchor.formats.protocol import Declaration, Texts
from fixed_anchor.text.lines import LineEditor


class Interfaces:
    """The format of ``/etc/network/interfaces`` and what it sources."""

    name = "ifupdown"
    patterns: tuple[str, ...] = (MAIN, "/etc/network/interfaces.d/*")
    mode_taken = 0
    mode_given = 0
    created = 0o644
    run_wins = False
    time_daemon, has_fallback = "", False
    # ifup reads all files before it does anything.
    all_or_nothing = True

    def check(self, file: FileText) -> None:
        parse(file.text, file.path)

    def read(self, files: Files, links: tuple[LinkFacts, ...]) -> tuple[Declaration, ...]:
        stanzas = stanzas_in(files)
        found = []
        for link in links:
            mine = stanzas_for(stanzas, link.name)
            if mine:
                config, places = read_stanzas(stanzas, mine, link)
                on = [Place(s.path, s.head.first + 1) for s in mine if s.family == "inet" and s.method == "dhcp"]
                dhcp_in = on[-1] if on else None
                aliases = tuple(dict.fromkeys(s.name for s in mine if s.name != link.name))
                found.append(Declaration(link, config, "ifupdown", places, link.name, dhcp_in=dhcp_in, aliases=aliases))
        return tuple(found)

    def asides(self, files: Files, links: tuple[LinkFacts, ...]) -> tuple[Aside, ...]:
        stanzas = stanzas_in(files)
        return tuple(a for link in links for a in asides_of(stanzas, stanzas_for(stanzas, link.name), link))

    def named(self, files: Files) -> dict[str, str]:
        stanzas = stanzas_in(files)
        # What is only inherited from is a template; what is also brought up is an interface.
        brought_up = {w for s in stanzas if s.brings_up for w in s.head.words[1:]}
        templates = {name for s in stanzas for name in s.inherits} | former_templates(files) | unfinished(stanzas)
        templates -= brought_up
        names: dict[str, str] = {}
        for stanza in stanzas:
            if stanza.kind != "iface" or stanza.method == "loopback" or stanza.name in templates or ":" in stanza.name:
                continue
            names[stanza.name] = link_kind(stanza) or names.get(stanza.name, "ethernet")
        return names

    def edit(
        self,
        files: Files,
        declared: Declaration,
        wanted: InterfaceConfig,
        todo: tuple[str, ...],
        links: tuple[LinkFacts, ...],
    ) -> Texts:
        name, now = declared.link.name, declared.config
        _refuse_unsupported(wanted, now)
        stanzas = stanzas_in(files)
        mine = stanzas_for(stanzas, name)
        if not any(s.family for s in mine):
            raise InputError(
                f"the stanza of {name} has no family and no method, and ifup does not read such a file",
                file=mine[0].path,
                line=mine[0].head.first + 1,
                expected=f"`iface {name} inet METHOD`",
            )
        edits = {s.path: LineEditor(files[s.path].text, indented=True) for s in stanzas}
        for version in (4, 6):
            family = "inet" if version == 4 else "inet6"
            theirs = [s for s in mine if s.family == family]
            if wanted.touches(version) and (theirs or wanted.method(version) != "ra"):
                anchor = theirs or [s for s in mine if s.family]
                _edit_family(edits, stanzas, theirs, anchor[-1], name, version, now, wanted)
                for stanza in mine if now.of_family(version) != wanted.of_family(version) else ():
                    # A hook may stand in a stanza of the other family.
                    for line in stanza.options if stanza not in theirs else ():
                        if _says_otherwise(line, name, version):
                            _drop(edits[stanza.path], line)
        _drop_aliases(edits, stanzas, mine)
        first = next((s for s in mine if s.family), mine[0])
        if {"resolvers", "search"} & set(todo):
            _edit_dns(edits, mine, first, wanted, todo)
        if "routes" in todo:
            for route in wanted.routes:
                if not route.is_default and route not in now.routes:
                    edits[first.path].insert(first.last, [f"    up {route_command(route, name)}"])
        if "mtu" in todo:
            for stanza in mine:
                for line in stanza.options:
                    if line.key == "mtu":
                        _drop(edits[stanza.path], line)
            edits[first.path].insert(first.head.last, [f"    mtu {wanted.mtu}"])
        return {path: edit.result() for path, edit in edits.items()}

    def declare(
        self, files: Files, link: LinkFacts, wanted: InterfaceConfig, daemon: str, wireless: Wireless | None = None
    ) -> Texts:
        _refuse_unsupported(wanted, InterfaceConfig(link.name))
        lines: list[str] = []
        for version in (4, 6):
            if not wanted.touches(version) or (version == 6 and wanted.ipv6 == "off"):
                continue
            # What the other version has alone needs no stanza of this one.
            if version == 4 and wanted.ipv4 == "off" and wanted.ipv6 not in ("untouched", "off"):
                continue
            heads, bodies = _new_stanzas("inet" if version == 4 else "inet6", link.name, version, wanted)
            if not lines:
                bodies[0] += _more_lines(wanted)
                bodies[0] += radio_lines(files, wireless) if wireless is not None else []
            lines += [*([""] if lines else []), *_joined(heads, bodies)]
        path = place_for(files, link)
        return {path: with_stanzas(files, path, link, lines)}

    def names_files(self, files: Files) -> tuple[str, ...]:
        return sourced(files)

    def others(self, files: Files, declared: Declaration) -> object:
        """Every other stanza with all that it inherits: hooks and options that the model does not know, too."""
        stanzas = stanzas_in(files)
        return [
            (stanza.path, words, [line.words for line in effective(stanzas, stanza)])
            for stanza in stanzas
            if (words := _without_aliases(stanza, declared.link.name))
        ]


def _more_lines(wanted: InterfaceConfig) -> list[str]:
    """The options of a first stanza beside its addresses."""
    lines = [f"    up {route_command(route, wanted.interface)}" for route in wanted.routes if not route.is_default]
    if wanted.resolvers:
        lines.append("    dns-nameservers " + " ".join(map(str, wanted.resolvers)))
    if wanted.search:
        lines.append("    dns-search " + " ".join(wanted.search))
    return lines + ([f"    mtu {wanted.mtu}"] if wanted.mtu is not None else [])


def _without_aliases(stanza: Stanza, name: str) -> tuple[str, ...]:
    """The words of a head, those left out that are for ``name``; none where nothing is left."""
    words = stanza.head.words
    if stanza.kind == "iface":
        return () if stanza.name.partition(":")[0] == name else words
    if stanza.brings_up:
        words = tuple(w for w in words if not w.startswith(f"{name}:"))
        return words if len(words) > 1 else ()
    return words


def _drop_aliases(edits: dict[str, LineEditor], stanzas: list[Stanza], mine: list[Stanza]) -> None:
    """Takes aliases without a stanza out of what is brought up: ifup would fail for them."""
    left = {s.name for s in mine if not edits[s.path].is_gone(s.head.first)}
    gone = {s.name for s in mine if ":" in s.name} - left
    for stanza in stanzas:
        if stanza.brings_up and gone & set(stanza.head.words):
            words = [w for w in stanza.head.words if w not in gone]
            _drop(edits[stanza.path], stanza.head)
            edits[stanza.path].insert(stanza.head.last, [" ".join(words)] if len(words) > 1 else [])


def _drop(editor: LineEditor, line: Line) -> None:
    editor.drop(line.first, line.last)


def route_command(route: Route, interface: str) -> str:
    """The command of a hook that sets a route, ip-route(8)."""
    family = ["-6"] if route.destination.version == 6 else []
    return " ".join(["ip", *family, "route", "add", *route_words(route, interface)])


def _refuse_unsupported(wanted: InterfaceConfig, declared: InterfaceConfig) -> None:
    refused = []
    if wanted.ipv6 == "off" and declared.ipv6 != "off":
        refused.append("`ipv6: off`")
    if wanted.time_servers is not None:
        refused.append("`time_servers`")
    if wanted.ipv4 == "dhcp" and not (wanted.lease_routes and wanted.lease_resolvers):
        refused.append("`gateway: none` or own resolvers with DHCP")
    if refused:
        raise NotSupported(f"{', '.join(refused)} on {wanted.interface}: interfaces(5) has no option for it")


def _edit_family(
    edits: dict[str, LineEditor],
    stanzas: list[Stanza],
    theirs: list[Stanza],
    anchor: Stanza,
    name: str,
    version: int,
    declared: InterfaceConfig,
    wanted: InterfaceConfig,
) -> None:
    """Makes the stanzas of one family say what is wanted; the first is edited, others give way."""
    if (
        declared.method(version) == wanted.method(version)
        and declared.of_family(version) == wanted.of_family(version)
        and set(declared.default_routes(version)) == set(wanted.default_routes(version))
        and not declared.has_options_beyond(wanted)
        and not (version == 6 and declared.accepts_ra and not wanted.accepts_ra)
    ):
        return
    family = "inet" if version == 4 else "inet6"
    heads, bodies = _new_stanzas(family, name, version, wanted)
    if not theirs:
        edits[anchor.path].insert(anchor.last, ["", *_joined(heads, bodies)])
        return
    # Its own stanza is edited, not that of an alias.
    first = next((s for s in theirs if s.name == name), None)
    if first is None:
        raise NotSupported(
            f"only aliases of {name} have {family} stanzas",
            file=theirs[0].path,
            line=theirs[0].head.first + 1,
            remedy=f"write `iface {name} {family} ...` first",
        )
    others = [s for s in theirs if s is not first]
    edit = edits[first.path]
    if first.head.words != tuple(heads[0].split()):
        _drop(edit, first.head)
        edit.insert(first.head.last, [heads[0]])
        # What was inherited and says no address is lost with `inherits`: it is written out.
        inherited = [line for line in effective(stanzas, first) if line not in first.options]
        keep = [f"    {' '.join(line.words)}" for line in inherited if line.key not in ADDRESSING | DNS]
        edit.insert(first.head.last, keep)
    edit.insert(first.head.last, bodies[0])
    for line in first.options:
        if line.key in ADDRESSING or _says_otherwise(line, name, version):
            _drop(edit, line)
    for stanza in others:
        hooks = [x for x in stanza.options if x.key in HOOKS and not _says_otherwise(x, name, version)]
        if hooks:
            raise NotSupported(
                f"a second {family} stanza of {name} has hooks, and would have to go",
                file=stanza.path,
                line=hooks[0].first + 1,
                remedy="move its up and down lines to the first stanza",
            )
        _drop(edits[stanza.path], stanza.head)
        for line in stanza.options:
            _drop(edits[stanza.path], line)
    if len(heads) > 1:
        edits[first.path].insert(first.last, ["", *_joined(heads[1:], bodies[1:])])


def _says_otherwise(line: Line, name: str, version: int) -> bool:
    """Whether a hook adds, or takes away, an address of ``name`` or its default route: both are written anew."""
    said = read_hook(line.value, name) if line.key in HOOKS else None
    if said is None or said.interface not in ("", name):
        return False
    if said.address is not None:
        return bool(said.address.version == version)
    return said.route is not None and said.route.is_default and said.route.destination.version == version


def _joined(heads: list[str], bodies: list[list[str]]) -> list[str]:
    lines: list[str] = []
    for head, body in zip(heads, bodies, strict=True):
        lines += [*([""] if lines else []), head, *body]
    return lines


def _new_stanzas(family: str, name: str, version: int, wanted: InterfaceConfig) -> tuple[list[str], list[list[str]]]:
    """Heads and option lines of the stanzas that say what is wanted, one for each address."""
    method = wanted.method(version)
    if method != "fixed":
        word = {"dhcp": "dhcp", "ra": "auto", "off": "manual"}[method]
        return [f"iface {name} {family} {word}"], [[]]
    heads, bodies = [], []
    defaults = list(wanted.default_routes(version))
    for number, address in enumerate(wanted.of_family(version)):
        heads.append(f"iface {name} {family} static")
        body = [f"    address {address}"]
        if version == 6:
            body += ["    accept_ra 0", "    autoconf 0"]
        if number == 0 and defaults:
            first = defaults.pop(0)
            if first.on_link:
                # `gateway` alone is refused by the kernel for a next hop outside the subnet.
                body.append(f"    up {route_command(first, name)}")
            else:
                body.append(f"    gateway {first.next_hop}")
                if first.metric is not None:
                    body.append(f"    metric {first.metric}")
            body += [f"    up {route_command(route, name)}" for route in defaults]
        bodies.append(body)
    return heads, bodies


def _edit_dns(
    edits: dict[str, LineEditor], mine: list[Stanza], first: Stanza, wanted: InterfaceConfig, todo: tuple[str, ...]
) -> None:
    keys: set[str] = set()
    lines = []
    if "resolvers" in todo:
        keys |= {"dns-nameservers", "dns-nameserver"}
        if wanted.resolvers:
            lines.append("    dns-nameservers " + " ".join(map(str, wanted.resolvers)))
    if "search" in todo:
        keys |= {"dns-search", "dns-domain"}
        if wanted.search:
            lines.append("    dns-search " + " ".join(wanted.search))
    for stanza in mine:
        for line in stanza.options:
            if line.key in keys:
                _drop(edits[stanza.path], line)
    edits[first.path].insert(first.head.last, lines)
