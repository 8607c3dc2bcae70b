"""What the stanzas of interfaces(5) say of an interface: what is sourced, inherited, and put into hooks."""

from __future__ import annotations

import re
from fnmatch import fnmatchcase

from fixed_anchor.change.files import Files
from fixed_anchor.core.addresses import (
    IPAddress,
    IPInterface,
    default_network,
    parse_address,
    parse_interface_address,
    parse_prefix,
)
from fixed_anchor.core.config import InterfaceConfig, LinkFacts, Place, Route
from fixed_anchor.core.errors import InputError
from fixed_anchor.formats.interfaces_hooks import UP_HOOKS, read_hook
from fixed_anchor.formats.interfaces_text import Line, Stanza, parse
from fixed_anchor.text.lines import WAS

MAIN = "/etc/network/interfaces"

#: Options that say an address; everything else of a stanza is kept as it is.
ADDRESSING = frozenset(
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
        "pointopoint",
        "scope",
        "preferred-lifetime",
    }
)
DNS = frozenset({"dns-nameservers", "dns-nameserver", "dns-search", "dns-domain"})
#: Options that make something else of an address than a plain one.
OPTIONS = frozenset({"pointopoint", "scope", "preferred-lifetime"})


def stanzas_in(files: Files, second: bool = False) -> list[Stanza]:
    """The stanzas of the main file and of what it sources, in the order in which they are read.

    With ``second`` the reader is ifupdown2.
    """
    found: list[Stanza] = []
    _include(files, MAIN, found, (), second)
    return found


def _include(files: Files, path: str, found: list[Stanza], above: tuple[str, ...], second: bool) -> None:
    if path not in files or path in above:
        return
    for stanza in parse(files[path].text, path, second):
        found.append(stanza)
        if stanza.kind == "source":
            pattern = _absolute(stanza.name, path)
            for other in sorted(p for p in files if fnmatchcase(p, pattern)):
                _include(files, other, found, (*above, path), second)
        elif stanza.kind == "source-directory":
            folder = _absolute(stanza.name, path).rstrip("/") + "/"
            for other in sorted(files):
                # interfaces(5): only names of letters, digits, underscores and hyphens.
                if other.startswith(folder) and re.fullmatch(r"[A-Za-z0-9_-]+", other[len(folder) :]):
                    _include(files, other, found, (*above, path), second)


def sourced(files: Files, second: bool = False) -> tuple[str, ...]:
    """What ``source`` and ``source-directory`` name, as paths and patterns, in every file that is read."""
    found = []
    for stanza in stanzas_in(files, second):
        if stanza.kind == "source":
            found.append(_absolute(stanza.name, stanza.path))
        elif stanza.kind == "source-directory":
            found.append(_absolute(stanza.name, stanza.path).rstrip("/") + "/*")
    return tuple(dict.fromkeys(found))


def _absolute(name: str, path: str) -> str:
    return name if name.startswith("/") else f"{path.rpartition('/')[0]}/{name}"


def former_templates(files: Files) -> set[str]:
    """What an earlier edit wrote out: stanzas that were inherited from then, by the comments that it left."""
    head = re.compile(rf"^\s*{re.escape(WAS)}iface\s.*\sinherits\s+(.+)$", re.MULTILINE)
    found = (head.findall(file.text) for file in files.values())
    return {word for lines in found for line in lines for word in line.split()}


def unfinished(stanzas: list[Stanza]) -> set[str]:
    """Names whose static stanzas have no address: nothing but something to inherit from."""
    static = [s for s in stanzas if s.kind == "iface" and s.method == "static"]
    return {s.name for s in static if not any(line.key == "address" for line in effective(stanzas, s))}


def link_kind(stanza: Stanza) -> str | None:
    """What the options of a stanza make of its interface; the name alone tells a VLAN, interfaces(5)."""
    said = {line.key.replace("_", "-") for line in stanza.options}
    if "bridge-ports" in said:
        return "bridge"
    if said & {"bond-slaves", "bond-mode", "slaves"}:
        return "bond"
    if any(key.startswith(("wpa-", "wireless-")) for key in said):
        return "wireless"
    return "vlan" if "vlan-raw-device" in said or re.fullmatch(r".+\.[0-9]{1,4}|vlan[0-9]+", stanza.name) else None


def stanzas_of(stanzas: list[Stanza], name: str) -> list[Stanza]:
    """The ``iface`` stanzas of an interface, or of a template."""
    return [s for s in stanzas if s.kind == "iface" and s.name == name]


def stanzas_for(stanzas: list[Stanza], name: str) -> list[Stanza]:
    """The ``iface`` stanzas of a link: its own, and those of its aliases (``eth0:1``), which are addresses of it."""
    return [s for s in stanzas if s.kind == "iface" and (s.name == name or s.name.startswith(f"{name}:"))]


def effective(stanzas: list[Stanza], stanza: Stanza, seen: tuple[str, ...] = ()) -> list[Line]:
    """The options of a stanza, those it inherits before its own."""
    lines: list[Line] = []
    for name in stanza.inherits:
        if name in seen:
            continue
        for other in stanzas_of(stanzas, name):
            if other.family in (None, stanza.family):
                lines += effective(stanzas, other, (*seen, name))
    own = {line.key for line in stanza.options}
    return [line for line in lines if line.key not in own] + list(stanza.options)


def option_of(lines: list[Line], key: str) -> Line | None:
    """The last option of that name, or ``None``."""
    found = [line for line in lines if line.key == key]
    return found[-1] if found else None


def bad_option(stanza: Stanza, line: Line, what: str) -> InputError:
    """An error at an option."""
    return InputError(f"{line.key}: {what}", file=stanza.path, line=line.first + 1, column=1)


def _address(stanza: Stanza, lines: list[Line], version: int) -> IPInterface | None:
    line = option_of(lines, "address")
    if line is None:
        return None
    mask = option_of(lines, "netmask")
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
        raise bad_option(stanza, line, str(error)) from None
    if found.version != version:
        raise bad_option(stanza, line, f"{text} does not belong into an inet{'' if version == 4 else '6'} stanza")
    return found


def plain_address(stanza: Stanza, line: Line, text: str) -> IPAddress:
    """The address in ``text``, a word of an option. Raises :class:`InputError`."""
    try:
        return parse_address(text)
    except ValueError as error:
        raise bad_option(stanza, line, str(error)) from None


def read_stanzas(
    stanzas: list[Stanza], mine: list[Stanza], link: LinkFacts
) -> tuple[InterfaceConfig, tuple[Place, ...]]:
    """What the stanzas ``mine`` of all ``stanzas`` say together, and where."""
    methods: dict[int, str] = {4: "off", 6: "ra"}
    addresses: list[IPInterface] = []
    optioned: list[IPInterface] = []
    by_hook: list[IPInterface] = []
    routes: list[Route] = []
    resolvers: list[IPAddress] = []
    search: list[str] = []
    mtu: int | None = None
    places: list[Place] = []
    #: What the stanzas say of router advertisements, one after the other; the last word counts.
    accepts: list[bool] = []
    for stanza in mine:
        places.append(Place(stanza.path, stanza.head.first + 1))
        version = {"inet": 4, "inet6": 6}.get(stanza.family or "")
        lines = effective(stanzas, stanza)
        if version is not None:
            if stanza.method in ("dhcp", "bootp"):
                methods[version] = "dhcp"
            elif stanza.method == "static":
                methods[version] = methods[version] if methods[version] == "dhcp" else "fixed"
                address = _address(stanza, lines, version)
                if address is None:
                    raise bad_option(stanza, stanza.head, "the static stanza has no address")
                addresses.append(address)
                if any(line.key in OPTIONS for line in lines):
                    optioned.append(address)
                gateway = option_of(lines, "gateway")
                if gateway is not None:
                    hop = plain_address(stanza, gateway, gateway.value)
                    metric = option_of(lines, "metric")
                    number = int(metric.value) if metric and metric.value.isdecimal() else None
                    on_link = not any(hop in a.network for a in addresses)
                    routes.append(Route(default_network(version), hop, number, on_link))
            elif stanza.method == "auto" and version == 6 and methods[6] != "fixed":
                methods[6] = "ra"
            said = option_of(lines, "accept_ra")
            if version == 6 and said is not None:
                accepts.append(said.value != "0")
            elif version == 6 and stanza.method in ("auto", "dhcp"):
                accepts.append(True)
            elif version == 6 and option_of(lines, "gateway") is not None:
                # ifup stops listening where a gateway is named.
                accepts.append(False)
        for line in lines:
            if line in stanza.options and line.key in ADDRESSING | DNS:
                places.append(Place(stanza.path, line.first + 1))
            if line.key in ("dns-nameservers", "dns-nameserver"):
                resolvers += [plain_address(stanza, line, w) for w in line.words[1:]]
            elif line.key in ("dns-search", "dns-domain"):
                search += line.words[1:]
            elif line.key == "mtu" and line.value.isdecimal():
                mtu = int(line.value)
            elif line.key in UP_HOOKS:
                added = read_hook(line.value, link.name)
                if added is None or not added.adds or added.interface not in ("", link.name):
                    continue
                places.append(Place(stanza.path, line.first + 1))
                by_hook += [added.address] if added.address is not None else []
                routes += [added.route] if added.route is not None else []
    addresses += [a for a in by_hook if a not in addresses]
    for version in (4, 6):
        if methods[version] in ("off", "ra") and any(a.version == version for a in by_hook):
            methods[version] = "fixed"
    config = InterfaceConfig(
        link.name,
        ipv4=methods[4],
        ipv6=methods[6],
        addresses=tuple(addresses),
        routes=tuple(dict.fromkeys(routes)),
        resolvers=tuple(dict.fromkeys(resolvers)) or None,
        search=tuple(dict.fromkeys(search)) or None,
        mtu=mtu,
        optioned=tuple(optioned),
        # The kernel listens unless it is told not to.
        accepts_ra=methods[6] == "fixed" and (accepts[-1] if accepts else True),
    )
    return config, (places[0], *sorted(set(places[1:])))
