"""Debian's interfaces(5), carried out by ifup and ifdown."""

from __future__ import annotations

import re
from fnmatch import fnmatchcase

import msgspec

from fixed_anchor.core.addresses import (
    IPAddress,
    IPInterface,
    default_network,
    parse_address,
    parse_destination,
    parse_interface_address,
    parse_prefix,
)
from fixed_anchor.core.config import InterfaceConfig, LinkFacts, Place, Route, differences
from fixed_anchor.core.errors import InputError, NotSupported
from fixed_anchor.dialects.ini_lines import WAS, by_newline
from fixed_anchor.dialects.interfaces_text import Line, Stanza, parse
from fixed_anchor.dialects.protocol import Declaration, Fed, FileEdit, Files, FileText, Step, Steps, route_words

MAIN = "/etc/network/interfaces"

#: Options that say an address; everything else of a stanza is kept as it is.
_ADDRESSING = frozenset(
    {
        "address",
        "netmask",
        "broadcast",
        "network",
        "gateway",
        "metric",
        "accept_ra",
        "autoconf",
        "leasetime",
        "leasehours",
        "hostname",
        "client",
        "vendor",
    }
)
_DNS = frozenset({"dns-nameservers", "dns-nameserver", "dns-search", "dns-domain"})
_HOOKS = frozenset({"up", "down", "pre-up", "post-up", "pre-down", "post-down"})
#: How additional routes are written, and how they are read back: ``up ip route add ...``.
_ROUTE_HOOK = re.compile(r"ip (?:-6 )?route (?:add|replace) (\S+)((?: \S+)*)")


class Ifupdown:
    """The dialect of ``/etc/network/interfaces`` and what it sources."""

    name = "ifupdown"
    patterns: tuple[str, ...] = (MAIN, "/etc/network/interfaces.d/*")

    def read(self, files: Files, links: tuple[LinkFacts, ...]) -> tuple[Declaration, ...]:
        stanzas = _all(files)
        found = []
        for link in links:
            mine = _of(stanzas, link.name)
            if mine:
                config, places = _read(stanzas, mine, link)
                on = [Place(s.path, s.head.first + 1) for s in mine if s.family == "inet" and s.method == "dhcp"]
                found.append(Declaration(link, config, places, link.name, "ifupdown", on[-1] if on else None))
        return tuple(found)

    def named(self, files: Files) -> tuple[str, ...]:
        stanzas = _all(files)
        inherited = {name for s in stanzas for name in s.inherits}
        names = [s.name for s in stanzas if s.kind == "iface" and s.method != "loopback" and s.name not in inherited]
        return tuple(dict.fromkeys(n for n in names if ":" not in n))

    def rewrite(self, files: Files, link: LinkFacts, wanted: InterfaceConfig) -> tuple[FileEdit, ...]:
        stanzas = _all(files)
        mine = _of(stanzas, link.name)
        if not mine:
            raise NotSupported(
                f"no stanza in {MAIN} is for {link.name}", remedy=f"write `iface {link.name} inet dhcp` first"
            )
        declared, _ = _read(stanzas, mine, link)
        todo = differences(declared, wanted)
        if not todo:
            return ()
        _refuse_unsupported(wanted, declared)
        edits = {s.path: _Edit(files[s.path]) for s in mine}
        for version in (4, 6):
            family = "inet" if version == 4 else "inet6"
            theirs = [s for s in mine if s.family == family]
            if wanted.touches(version) and (theirs or wanted.method(version) != "ra"):
                anchor = theirs or [s for s in mine if s.family]
                _rewrite_family(edits, stanzas, theirs, anchor[-1], link.name, version, declared, wanted)
        first = next((s for s in mine if s.family), mine[0])
        if {"resolvers", "search"} & set(todo):
            _rewrite_dns(edits, mine, first, wanted, todo)
        if "routes" in todo:
            for route in wanted.routes:
                if not route.is_default and route not in declared.routes:
                    edits[first.path].after(first.last, [f"    up {_route_command(route, link.name)}"])
        if "mtu" in todo:
            for stanza in mine:
                for line in stanza.options:
                    if line.key == "mtu":
                        edits[stanza.path].drop(line)
            edits[first.path].after(first.head.last, [f"    mtu {wanted.mtu}"])
        made = []
        for path, edit in edits.items():
            text = edit.result()
            if text != files[path].text:
                before = files[path]
                made.append(FileEdit(path, before, FileText(path, text, before.mode, before.uid, before.gid)))
        after = {**files, **{e.path: e.after for e in made if e.after}}
        again = _all(after)
        left = differences(_read(again, _of(again, link.name), link)[0], wanted)
        if left:
            raise NotSupported(f"{', '.join(left)} of {link.name} cannot be written into {first.path}", file=first.path)
        return tuple(made)

    def steps(self, before: Files, after: Files, link: LinkFacts) -> Steps:
        # ifdown must run while the old stanza is in the file: it stops the lease client that the
        # stanza started. With the new one in place it would not, and the client would go on.
        down, up = ("ifdown", "--force", link.name), ("ifup", link.name)
        flush = ("ip", "address", "flush", "dev", link.name, "scope", "global")
        back = Steps(
            unload=(down, flush),
            reload=(up,),
            escalate=(flush, ("ifup", "--force", link.name)),
            drop_escalate=(down, flush, up),
        )
        gently = _gently(_config(before, link), _config(after, link), link)
        if gently is None:
            was = _config(before, link)
            releases = was is not None and was.ipv4 == "dhcp"
            return msgspec.structs.replace(back, leave=(down,), activate=(up,), releases=releases)
        # dhclient is stopped without giving its lease back: the address may still be needed.
        stop = (("dhclient", "-x", "-pf", f"/run/dhclient.{link.name}.pid", link.name),)
        return msgspec.structs.replace(back, leave=stop if link.client == "dhclient" else (), activate=gently)


def _config(files: Files, link: LinkFacts) -> InterfaceConfig | None:
    stanzas = _all(files)
    mine = _of(stanzas, link.name)
    return _read(stanzas, mine, link)[0] if mine else None


def _gently(before: InterfaceConfig | None, after: InterfaceConfig | None, link: LinkFacts) -> tuple[Step, ...] | None:
    """Commands that bring the new IPv4 state into force in one go, with the link up all the time.

    ifdown and ifup take the link down and run for a second; the kernel can be told in a
    moment. ``None`` where more than fixed IPv4 addressing changes: then ifup must do it all.
    """
    if before is None or after is None or after.ipv4 != "fixed" or before.ipv4 not in ("dhcp", "fixed"):
        return None
    # ifup's hooks tell other programs of resolvers; and what else changes is left to it as well.
    rest = [
        (c.ipv6, c.of_family(6), [r for r in c.routes if r.destination.version == 6], c.mtu) for c in (before, after)
    ]
    if rest[0] != rest[1] or after.resolvers or after.search:
        return None
    if not link.held or (link.leased and link.client != "dhclient"):
        return None
    wanted, held = after.of_family(4), [a for a in link.held if a.version == 4]
    dev, forever = f"dev {link.name}", "valid_lft forever preferred_lft forever"
    anew = held[:1] != list(wanted[:1])
    # A lone address (/32) belongs to no subnet and comes first: so it is never away.
    lines = [f"address replace {a} {dev} {forever}" for a in wanted if a.network.prefixlen == 32]
    # The first address of a subnet is the preferred source, and takes the further ones along when it goes.
    going = [a for a in held if a not in wanted or (anew and a.network.prefixlen < 32)]
    lines += [f"address del {a} {dev}" for a in going]
    for address in wanted:
        if address.network.prefixlen < 32 and (anew or address not in held or address in link.leased):
            broadcast = "brd + " if address.network.prefixlen < 31 else ""
            lines.append(f"address replace {address} {broadcast}{dev} {forever}")
    routes = [[r for r in c.routes if r.destination.version == 4] for c in (before, after)]
    if anew or before.ipv4 == "dhcp" or routes[0] != routes[1]:
        lines.append(f"route flush {dev} proto boot")
        lines += ["route add " + " ".join(route_words(r, link.name)) for r in routes[1]]
    text = "".join(f"{line}\n" for line in lines)
    return (Fed(("ip", "-4", "-batch", "-"), text),)


def _all(files: Files) -> list[Stanza]:
    """The stanzas of the main file and of what it sources, in the order in which they are read."""
    found: list[Stanza] = []
    _include(files, MAIN, found, ())
    return found


def _include(files: Files, path: str, found: list[Stanza], above: tuple[str, ...]) -> None:
    if path not in files or path in above:
        return
    for stanza in parse(files[path].text, path):
        found.append(stanza)
        if stanza.kind == "source":
            pattern = _absolute(stanza.name, path)
            for other in sorted(p for p in files if fnmatchcase(p, pattern)):
                _include(files, other, found, (*above, path))
        elif stanza.kind == "source-directory":
            folder = _absolute(stanza.name, path).rstrip("/") + "/"
            for other in sorted(files):
                # interfaces(5): only names of letters, digits, underscores and hyphens.
                if other.startswith(folder) and re.fullmatch(r"[A-Za-z0-9_-]+", other[len(folder) :]):
                    _include(files, other, found, (*above, path))


def _absolute(name: str, path: str) -> str:
    return name if name.startswith("/") else f"{path.rpartition('/')[0]}/{name}"


def _of(stanzas: list[Stanza], name: str) -> list[Stanza]:
    return [s for s in stanzas if s.kind == "iface" and s.name == name]


def _effective(stanzas: list[Stanza], stanza: Stanza, seen: tuple[str, ...] = ()) -> list[Line]:
    """The options of a stanza, those it inherits before its own."""
    lines: list[Line] = []
    for name in stanza.inherits:
        if name in seen:
            continue
        for other in _of(stanzas, name):
            if other.family in (None, stanza.family):
                lines += _effective(stanzas, other, (*seen, name))
    own = {line.key for line in stanza.options}
    return [line for line in lines if line.key not in own] + list(stanza.options)


def _option(lines: list[Line], key: str) -> Line | None:
    found = [line for line in lines if line.key == key]
    return found[-1] if found else None


def _bad(stanza: Stanza, line: Line, what: str) -> InputError:
    return InputError(f"{line.key}: {what}", file=stanza.path, line=line.first + 1, column=1)


def _address(stanza: Stanza, lines: list[Line], version: int) -> IPInterface | None:
    line = _option(lines, "address")
    if line is None:
        return None
    mask = _option(lines, "netmask")
    try:
        text = line.value
        if "/" in text:
            found = parse_interface_address(text)
        elif mask is not None:
            found = parse_interface_address(text, parse_prefix(mask.value, version))
        else:
            # ifupdown takes the whole prefix where none is said.
            found = parse_interface_address(text, 32 if version == 4 else 128)
    except ValueError as error:
        raise _bad(stanza, line, str(error)) from None
    if found.version != version:
        raise _bad(stanza, line, f"{text} does not belong into an inet{'' if version == 4 else '6'} stanza")
    return found


def _plain(stanza: Stanza, line: Line, text: str) -> IPAddress:
    try:
        return parse_address(text)
    except ValueError as error:
        raise _bad(stanza, line, str(error)) from None


def _read(stanzas: list[Stanza], mine: list[Stanza], link: LinkFacts) -> tuple[InterfaceConfig, tuple[Place, ...]]:
    methods: dict[int, str] = {4: "off", 6: "ra"}
    addresses: list[IPInterface] = []
    routes: list[Route] = []
    resolvers: list[IPAddress] = []
    search: list[str] = []
    mtu: int | None = None
    places: list[Place] = []
    for stanza in mine:
        places.append(Place(stanza.path, stanza.head.first + 1))
        version = {"inet": 4, "inet6": 6}.get(stanza.family or "")
        lines = _effective(stanzas, stanza)
        if version is not None:
            if stanza.method in ("dhcp", "bootp"):
                methods[version] = "dhcp"
            elif stanza.method == "static":
                methods[version] = methods[version] if methods[version] == "dhcp" else "fixed"
                address = _address(stanza, lines, version)
                if address is None:
                    raise _bad(stanza, stanza.head, "the static stanza has no address")
                addresses.append(address)
                gateway = _option(lines, "gateway")
                if gateway is not None:
                    hop = _plain(stanza, gateway, gateway.value)
                    metric = _option(lines, "metric")
                    number = int(metric.value) if metric and metric.value.isdecimal() else None
                    on_link = not any(hop in a.network for a in addresses)
                    routes.append(Route(default_network(version), hop, number, on_link))
            elif stanza.method == "auto" and version == 6:
                methods[6] = "ra"
        for line in lines:
            if line in stanza.options and line.key in _ADDRESSING | _DNS:
                places.append(Place(stanza.path, line.first + 1))
            if line.key in ("dns-nameservers", "dns-nameserver"):
                resolvers += [_plain(stanza, line, w) for w in line.words[1:]]
            elif line.key in ("dns-search", "dns-domain"):
                search += line.words[1:]
            elif line.key == "mtu" and line.value.isdecimal():
                mtu = int(line.value)
            elif line.key in ("up", "post-up"):
                route = _route_of_hook(line.value)
                if route is not None:
                    routes.append(route)
    config = InterfaceConfig(
        link.name,
        ipv4=methods[4],
        ipv6=methods[6],
        addresses=tuple(addresses),
        routes=tuple(dict.fromkeys(routes)),
        resolvers=tuple(dict.fromkeys(resolvers)) or None,
        search=tuple(dict.fromkeys(search)) or None,
        mtu=mtu,
    )
    return config, (places[0], *sorted(set(places[1:])))


def _route_of_hook(command: str) -> Route | None:
    """The route that a hook of the plain form ``ip route add`` adds, ``None`` for any other."""
    matched = _ROUTE_HOOK.fullmatch(command)
    if matched is None:
        return None
    words = matched[2].split()
    said = dict(zip(words[::2], words[1::2], strict=False))
    try:
        hop = parse_address(said["via"]) if "via" in said else None
        if matched[1] == "default":
            if hop is None:
                return None
            destination = default_network(hop.version)
        else:
            destination = parse_destination(matched[1])
    except ValueError:
        return None
    metric = said.get("metric", "")
    return Route(destination, hop, int(metric) if metric.isdecimal() else None, words[-1:] == ["onlink"])


def _route_command(route: Route, interface: str) -> str:
    words = ["ip", "-6", "route", "add"] if route.destination.version == 6 else ["ip", "route", "add"]
    words.append("default" if route.is_default else str(route.destination))
    if route.next_hop is not None:
        words += ["via", str(route.next_hop)]
    words += ["dev", interface]
    if route.metric is not None:
        words += ["metric", str(route.metric)]
    if route.on_link:
        words.append("onlink")
    return " ".join(words)


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


class _Edit:
    """Edits of one file: lines turned into comments, and lines added below others."""

    def __init__(self, file: FileText) -> None:
        self.lines = by_newline(file.text)
        self.newline = "\r\n" if "\r\n" in file.text else "\n"
        self._gone: set[int] = set()
        self._added: dict[int, list[str]] = {}

    def drop(self, line: Line) -> None:
        self._gone.update(range(line.first, line.last + 1))

    def after(self, number: int, lines: list[str]) -> None:
        self._added.setdefault(number, []).extend(lines)

    def result(self) -> str:
        out: list[str] = []
        for number, line in enumerate(self.lines):
            if number in self._gone:
                body = line.lstrip(" \t")
                # A backslash at its end would make the comment swallow nothing, but mislead a reader.
                comment = line[: len(line) - len(body)] + WAS + body
                if comment.strip() not in {c.strip() for c in _above(out)}:
                    out.append(comment)
            else:
                out.append(line)
            added = self._added.get(number, [])
            if added and out and not out[-1].endswith("\n"):
                out[-1] += self.newline
            out.extend(text + self.newline for text in added)
        return "".join(out)


def _above(out: list[str]) -> list[str]:
    found: list[str] = []
    for line in reversed(out):
        if not line.lstrip().startswith("#"):
            break
        found.append(line)
    return found


def _rewrite_family(
    edits: dict[str, _Edit],
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
    ):
        return
    family = "inet" if version == 4 else "inet6"
    heads, bodies = _new_stanzas(family, name, version, wanted)
    if not theirs:
        edits[anchor.path].after(anchor.last, ["", *_joined(heads, bodies)])
        return
    first, others = theirs[0], theirs[1:]
    edit = edits[first.path]
    if first.head.words != tuple(heads[0].split()):
        edit.drop(first.head)
        edit.after(first.head.last, [heads[0]])
        # What was inherited and says no address is lost with `inherits`: it is written out.
        inherited = [line for line in _effective(stanzas, first) if line not in first.options]
        keep = [f"    {' '.join(line.words)}" for line in inherited if line.key not in _ADDRESSING | _DNS]
        edit.after(first.head.last, keep)
    edit.after(first.head.last, bodies[0])
    for line in first.options:
        route = _route_of_hook(line.value) if line.key in ("up", "post-up") else None
        if line.key in _ADDRESSING or (route is not None and route.is_default and route.destination.version == version):
            edit.drop(line)
    for stanza in others:
        hooks = [line for line in stanza.options if line.key in _HOOKS]
        if hooks:
            raise NotSupported(
                f"a second {family} stanza of {name} has hooks, and would have to go",
                file=stanza.path,
                line=hooks[0].first + 1,
                remedy="move its up and down lines to the first stanza",
            )
        edits[stanza.path].drop(stanza.head)
        for line in stanza.options:
            edits[stanza.path].drop(line)
    if len(heads) > 1:
        edits[first.path].after(first.last, ["", *_joined(heads[1:], bodies[1:])])


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
                body.append(f"    up {_route_command(first, name)}")
            else:
                body.append(f"    gateway {first.next_hop}")
                if first.metric is not None:
                    body.append(f"    metric {first.metric}")
            body += [f"    up {_route_command(route, name)}" for route in defaults]
        bodies.append(body)
    return heads, bodies


def _rewrite_dns(
    edits: dict[str, _Edit], mine: list[Stanza], first: Stanza, wanted: InterfaceConfig, todo: tuple[str, ...]
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
                edits[stanza.path].drop(line)
    edits[first.path].after(first.head.last, lines)
