"""interfaces(5) as ifupdown2 reads it, with other rules than ifupdown: the format, and its editing."""

from __future__ import annotations

import re
from collections.abc import Iterable

from fixed_anchor.change.files import Files, FileText
from fixed_anchor.core.aside import Aside
from fixed_anchor.core.config import InterfaceConfig, LinkFacts, Place, Wireless
from fixed_anchor.core.errors import InputError, NotSupported
from fixed_anchor.formats.interfaces import route_command
from fixed_anchor.formats.interfaces2_read import (
    hears_routers,
    held_by,
    is_for,
    names_of,
    read_merged,
    stanzas_for,
)
from fixed_anchor.formats.interfaces_asides import asides_of
from fixed_anchor.formats.interfaces_hooks import read_hook
from fixed_anchor.formats.interfaces_new import place_for, radio_lines, refuse_odd_name, with_stanzas
from fixed_anchor.formats.interfaces_read import ADDRESSING, DNS, MAIN, link_kind, sourced, stanzas_in
from fixed_anchor.formats.interfaces_text import HOOKS, Line, Stanza, parse
from fixed_anchor.formats.protocol import Declaration, Texts
from fixed_anchor.text.lines import LineEditor

#: The programs that read interfaces(5), by the names of their formats; the packages exclude each other.
READERS = ("ifupdown", "ifupdown2")
#: A link where ifupdown2 is installed, and a program where ifupdown is.
IFUP = "/sbin/ifup"
PROGRAM = "/usr/share/ifupdown2/ifupdown2"
CONF = "/etc/network/ifupdown2/ifupdown2.conf"
#: What makes a template of a file, Mako's syntax: an expression, a block, a line of control.
_TEMPLATE = re.compile(r"\$\{|<%|^[ \t]*%(?!%)", re.MULTILINE)


def reader_of(link: str | None) -> str:
    """The one of :data:`READERS` that is installed, by where ``/sbin/ifup`` leads."""
    return READERS[1] if link is not None and "ifupdown2" in link else READERS[0]


class Interfaces2:
    """The format of ``/etc/network/interfaces``, and what it sources, for ifupdown2."""

    name = "ifupdown2"
    patterns: tuple[str, ...] = (MAIN, "/etc/network/interfaces.d/*")
    mode_taken = 0
    mode_given = 0
    created = 0o644
    run_wins = False
    time_daemon, has_fallback = "", False
    # What it cannot read it tells, and goes on.
    all_or_nothing = False

    def check(self, file: FileText) -> None:
        found = _TEMPLATE.search(file.text)
        if found is not None:
            line = file.text.count("\n", 0, found.start()) + 1
            raise InputError(
                "a template of Mako, which ifupdown2 carries out as it reads the file",
                file=file.path,
                line=line,
                expected="plain stanzas",
            )
        parse(file.text, file.path, second=True)

    def read(self, files: Files, links: tuple[LinkFacts, ...]) -> tuple[Declaration, ...]:
        stanzas = stanzas_in(files, second=True)
        found = []
        for link in links:
            mine = stanzas_for(stanzas, link.name)
            if mine:
                config, places = read_merged(mine, link)
                on = next((s for s in mine if s.method == "dhcp" and s.family == "inet"), None)
                dhcp_in = Place(on.path, on.head.first + 1) if on is not None and config.ipv4 == "dhcp" else None
                found.append(Declaration(link, config, "ifupdown2", places, link.name, dhcp_in=dhcp_in))
        return tuple(found)

    def asides(self, files: Files, links: tuple[LinkFacts, ...]) -> tuple[Aside, ...]:
        stanzas = stanzas_in(files, second=True)
        return tuple(a for link in links for a in asides_of(stanzas, stanzas_for(stanzas, link.name), link))

    def named(self, files: Files) -> dict[str, str]:
        names: dict[str, str] = {}
        for stanza in stanzas_in(files, second=True):
            if stanza.kind == "iface" and stanza.method != "loopback" and stanza.name != "lo":
                kind = link_kind(stanza)
                names |= {name: kind or names.get(name, "ethernet") for name in names_of(stanza)}
        return names

    def edit(
        self,
        files: Files,
        declared: Declaration,
        wanted: InterfaceConfig,
        todo: tuple[str, ...],
        links: tuple[LinkFacts, ...],
    ) -> Texts:
        link, now = declared.link, declared.config
        stanzas = stanzas_in(files, second=True)
        mine = stanzas_for(stanzas, link.name)
        ranged = next((s for s in mine if len(names_of(s)) > 1), None)
        if ranged is not None:
            raise NotSupported(
                f"{ranged.name} is declared at once, {link.name} among them",
                file=ranged.path,
                line=ranged.head.first + 1,
                remedy=f"write a stanza of its own for {link.name}, and leave it out of the range",
            )
        _refuse_unsupported(wanted, now)
        final = _final(wanted, now)
        edits = {s.path: LineEditor(files[s.path].text, indented=True) for s in stanzas}
        leased = {c: "dhcp" in (c.ipv4, c.ipv6) for c in (now, final)}
        differ = {"ipv4", "ipv6", "hold", "gateway"} & set(todo)
        # With a lease an address of the other version must be set by a hook, and without one in the stanza.
        versions = [v for v in (4, 6) if differ and (wanted.touches(v) or leased[now] != leased[final])]
        if versions:
            _edit_addressing(edits, mine, link, final, versions)
        first = mine[0]
        if "routes" in todo:
            more = [r for r in wanted.routes if not r.is_default and r not in now.routes]
            edits[first.path].insert(first.last, [f"    up {route_command(r, link.name)}" for r in more])
        for word, keys, line in (
            ("resolvers", {"dns-nameservers", "dns-nameserver"}, _words("dns-nameservers", wanted.resolvers)),
            ("search", {"dns-search", "dns-domain"}, _words("dns-search", wanted.search)),
            ("mtu", {"mtu"}, [f"    mtu {wanted.mtu}"]),
        ):
            if word in todo:
                _drop(edits, ((s, line) for s in mine for line in s.options if line.key in keys))
                edits[first.path].insert(first.head.last, line)
        return {path: edit.result() for path, edit in edits.items()}

    def declare(
        self, files: Files, link: LinkFacts, wanted: InterfaceConfig, daemon: str, wireless: Wireless | None = None
    ) -> Texts:
        _refuse_unsupported(wanted, InterfaceConfig(link.name))
        lines = [f"iface {link.name} inet {_method(wanted, 4)}"]
        for version in (4, 6):
            lines += _lines(link, wanted, version)
        lines += [f"    up {route_command(r, link.name)}" for r in wanted.routes if not r.is_default]
        lines += [*_words("dns-nameservers", wanted.resolvers), *_words("dns-search", wanted.search)]
        lines += [f"    mtu {wanted.mtu}"] if wanted.mtu is not None else []
        lines += radio_lines(files, wireless, second=True) if wireless is not None else []
        if wanted.ipv6 == "dhcp":
            lines += ["", f"iface {link.name} inet6 dhcp"]
        path = place_for(files, link, second=True)
        return {path: with_stanzas(files, path, link, lines, second=True)}

    def names_files(self, files: Files) -> tuple[str, ...]:
        return sourced(files, second=True)

    def others(self, files: Files, declared: Declaration) -> object:
        """Every other stanza, with options that the model does not know."""
        return [
            (stanza.path, stanza.head.words, [line.words for line in stanza.options])
            for stanza in stanzas_in(files, second=True)
            if stanza.kind != "iface" or declared.link.name not in names_of(stanza)
        ]


def _refuse_unsupported(wanted: InterfaceConfig, now: InterfaceConfig) -> None:
    refused = []
    if wanted.ipv6 == "off" and now.ipv6 != "off":
        refused.append("`ipv6: off`")
    if wanted.time_servers is not None:
        refused.append("`time_servers`")
    if wanted.ipv4 == "dhcp" and not (wanted.lease_routes and wanted.lease_resolvers):
        refused.append("`gateway: none` or own resolvers with DHCP")
    if refused:
        raise NotSupported(f"{', '.join(refused)} on {wanted.interface}: ifupdown2 has no option for it")
    final = _final(wanted, now)
    if final.ipv6 == "dhcp" and final.ipv4 != "dhcp":
        raise NotSupported(
            f"DHCPv6 beside IPv4 that is {final.ipv4} on {wanted.interface}: ifupdown2 has one method for both",
            remedy="let IPv6 come from routers (`ipv6: ra`), or hold an address",
        )
    refuse_odd_name(wanted)


def _final(wanted: InterfaceConfig, now: InterfaceConfig) -> InterfaceConfig:
    """What the stanzas then say of both versions: a version that the plan leaves alone stays as it is."""
    by_version = {v: wanted if wanted.touches(v) else now for v in (4, 6)}
    return InterfaceConfig(
        wanted.interface,
        ipv4=by_version[4].ipv4,
        ipv6=by_version[6].ipv6,
        addresses=tuple(a for v, c in by_version.items() for a in c.of_family(v)),
        routes=tuple(r for v, c in by_version.items() for r in c.default_routes(v)),
        accepts_ra=by_version[6].accepts_ra,
    )


def _method(config: InterfaceConfig, version: int) -> str:
    """The method of a stanza of IP ``version``; both must lease, or none."""
    method = config.method(version)
    return "dhcp" if method == "dhcp" else "static" if method == "fixed" else "manual"


def _lines(link: LinkFacts, config: InterfaceConfig, version: int) -> list[str]:
    """The options that hold the addresses of a version, and lead to its gateways."""
    if config.method(version) != "fixed":
        return []
    name, family = link.name, ["-6"] if version == 6 else []
    held, routes = config.of_family(version), config.default_routes(version)
    lines = []
    if version == 6 and not config.accepts_ra:
        # No option of a fixed stanza is heeded; a bridge is not there yet before it is up.
        hook = "up" if link.kind in ("bridge", "bond", "vlan") else "pre-up"
        lines.append(f"    {hook} echo 0 >/proc/sys/net/ipv6/conf/{name}/accept_ra")
    if "dhcp" in (config.ipv4, config.ipv6):
        # With a lease the addresses of stanzas are passed over.
        lines += [f"    up {' '.join(['ip', *family, 'address', 'add', str(a), 'dev', name])}" for a in held]
        return lines + [f"    up {route_command(route, name)}" for route in routes]
    lines += [f"    address {address}" for address in held]
    metrics = {route.metric for route in config.routes}
    plainly = len(metrics) < 2 and not any(route.on_link for route in routes)
    if not plainly:
        return lines + [f"    up {route_command(route, name)}" for route in routes]
    lines += [f"    gateway {route.next_hop}" for route in routes]
    return lines + [f"    metric {routes[0].metric}" for _ in routes[:1] if routes[0].metric is not None]


def _edit_addressing(
    edits: dict[str, LineEditor], mine: list[Stanza], link: LinkFacts, final: InterfaceConfig, versions: list[int]
) -> None:
    """Makes the stanzas of a link say of ``versions`` what is ``final``."""
    for stanza in mine:
        _drop(edits, ((stanza, line) for line in stanza.options if _is_of(stanza, line, link.name, versions)))
    first, second = mine[0], next((s for s in mine if s.family == "inet6"), None)
    # The stanzas of IPv6 go where IPv4 alone leases: each makes its client ask for that version, too.
    without6 = final.ipv4 == "dhcp" and final.ipv6 != "dhcp"
    for stanza in mine:
        head = stanza.head.words
        if stanza.family == "inet6" and without6:
            kept = [line for line in stanza.options if not _is_of(stanza, line, link.name, [4, 6])]
            _drop(edits, ((stanza, line) for line in (stanza.head, *kept)))
            edits[first.path].insert(first.last, [f"    {' '.join(line.words)}" for line in kept])
            continue
        becomes = _head(stanza, final)
        if head != becomes:
            _drop(edits, [(stanza, stanza.head)])
            edits[stanza.path].insert(stanza.head.last, [" ".join(becomes)])
    if first.family == "inet6" and without6:
        # The only stanza there was.
        edits[first.path].insert(first.head.last, [f"iface {link.name} inet dhcp"])
    for version in versions:
        # One without a family is for IPv4 alone once that leases.
        able = [s for s in mine if is_for(s, version) and not (s.family == "inet6" and without6)]
        into = next((s for s in able if s.family is not None or version == 4 or final.ipv4 != "dhcp"), None)
        lines = _lines(link, final, version)
        if into is not None:
            edits[into.path].insert(into.head.last, lines)
        elif "dhcp" in (final.ipv4, final.ipv6) and final.method(version) != "dhcp":
            edits[first.path].insert(first.head.last, lines)
        elif final.method(version) in ("fixed", "dhcp"):
            stanza_head = f"iface {link.name} {'inet' if version == 4 else 'inet6'} {_method(final, version)}"
            last = second or mine[-1]
            edits[last.path].insert(last.last, ["", stanza_head, *lines])


def _head(stanza: Stanza, final: InterfaceConfig) -> tuple[str, ...]:
    """The words of the head of a stanza: those that it has, unless its method must be another one."""
    head = stanza.head.words
    if stanza.family is None:
        return ("iface", stanza.name, "inet", "dhcp") if final.ipv4 == "dhcp" else head
    version = 4 if stanza.family == "inet" else 6
    method = _method(final, version)
    # Without addresses these two are the same.
    if method == "manual" and stanza.method in ("static", "manual"):
        return head
    return (*head[:3], method)


def _is_of(stanza: Stanza, line: Line, name: str, versions: list[int]) -> bool:
    """Whether an option says an address of one of ``versions``, its gateway, or something of these."""
    held = dict(held_by(stanza))
    if line in held:
        return held[line].version in versions
    if line.key == "gateway":
        return (6 if ":" in line.value else 4) in versions
    if line.key in ADDRESSING - DNS - {"metric"}:
        # What belongs to an address: to those above it, where it names none itself.
        above = [a for at, a in held.items() if at.first < line.first] or list(held.values())
        return (above[-1].version if above else 6 if stanza.family == "inet6" else 4) in versions
    if line.key == "metric":
        hops = [other for other in stanza.options if other.key == "gateway"]
        return all((6 if ":" in hop.value else 4) in versions for hop in hops)
    if 6 in versions and hears_routers(line, name) is not None:
        return True
    said = read_hook(line.value, name) if line.key in HOOKS else None
    if said is None or said.interface not in ("", name):
        return False
    if said.address is not None:
        return said.address.version in versions
    return said.route is not None and said.route.is_default and said.route.destination.version in versions


def _drop(edits: dict[str, LineEditor], lines: Iterable[tuple[Stanza, Line]]) -> None:
    for stanza, line in lines:
        edits[stanza.path].drop(line.first, line.last)


def _words(key: str, values: tuple[object, ...] | None) -> list[str]:
    return [f"    {key} {' '.join(map(str, values))}"] if values else []
