"""ifcfg files of the Red Hat family: shell assignments, ``ifcfg-IF`` with ``route-IF`` and aliases ``ifcfg-IF:N``.

The files are sourced by a POSIX shell, so quoting is the shell's (sh(1), 2.2); what would
be more than an assignment is refused.
"""

from __future__ import annotations

import re

import msgspec

from fixed_anchor.core.addresses import (
    IPAddress,
    IPInterface,
    default_network,
    parse_address,
    parse_interface_address,
    parse_network,
    parse_prefix,
)
from fixed_anchor.core.config import InterfaceConfig, LinkFacts, Place, Route, differences
from fixed_anchor.core.errors import InputError, NotSupported
from fixed_anchor.dialects.ini_lines import WAS, by_newline
from fixed_anchor.dialects.protocol import Declaration, FileEdit, Files, FileText, Steps

FOLDER = "/etc/sysconfig/network-scripts/"

_ASSIGNMENT = re.compile(r"\s*(?:export\s+)?([A-Za-z_][A-Za-z0-9_]*)=(.*)", re.DOTALL)
_YES = frozenset({"yes", "true", "y", "t", "1", "on"})
_NUMBERED = re.compile(r"(IPADDR|PREFIX|NETMASK|GATEWAY|DNS)([0-9]*)")
_ARGUMENT_ROUTE = re.compile(r"\s*(\S+)\s+via\s+(\S+)(.*)")


class Assignment(msgspec.Struct, frozen=True):
    """``NAME=VALUE`` with its quoting undone, and the lines it stands in (from 0, ``last`` included)."""

    name: str
    value: str
    first: int
    last: int


class ShellFile:
    """A file of shell assignments, and edits of it. Raises :class:`InputError` for anything else in it."""

    def __init__(self, file: FileText) -> None:
        self.file = file
        self.lines = by_newline(file.text)
        self.newline = "\r\n" if "\r\n" in file.text else "\n"
        self.assignments = self._parse()
        self._gone: set[int] = set()
        self._after: dict[int, list[str]] = {}

    def _parse(self) -> list[Assignment]:
        found: list[Assignment] = []
        number = 0
        while number < len(self.lines):
            first = number
            text = self.lines[number]
            number += 1
            if not text.strip() or text.lstrip().startswith("#"):
                continue
            # A quoted value may go over several lines, and a backslash joins two.
            while (value := self._unquoted(text, first)) is None and number < len(self.lines):
                text += self.lines[number]
                number += 1
            matched = _ASSIGNMENT.fullmatch(text.rstrip("\r\n"))
            if value is None:
                raise self.error(first, "a quote is not closed", "its end")
            assert matched is not None
            found.append(Assignment(matched[1], value, first, number - 1))
        return found

    def error(self, line: int, what: str, expected: str | None = None) -> InputError:
        return InputError(what, file=self.file.path, line=line + 1, column=1, expected=expected)

    def _unquoted(self, text: str, line: int) -> str | None:
        """The value of an assignment, ``None`` where a quote is still open. Raises :class:`InputError`."""
        matched = _ASSIGNMENT.fullmatch(text.rstrip("\r\n"))
        if matched is None:
            raise self.error(line, f"{text.strip()[:40]!r} is no assignment", "NAME=VALUE")
        rest = matched[2]
        out: list[str] = []
        at = 0
        while at < len(rest):
            char = rest[at]
            if char == "'":
                end = rest.find("'", at + 1)
                if end < 0:
                    return None
                out.append(rest[at + 1 : end])
                at = end + 1
            elif char == '"':
                at += 1
                while at < len(rest) and rest[at] != '"':
                    if rest[at] == "\\" and at + 1 < len(rest) and rest[at + 1] in '$`"\\\n':
                        at += 1
                    elif rest[at] in "$`":
                        raise self.error(line, "an expansion stands in the value", "a plain value")
                    out.append(rest[at])
                    at += 1
                if at >= len(rest):
                    return None
                at += 1
            elif char == "\\":
                if at + 1 >= len(rest):
                    return None
                out.append("" if rest[at + 1] == "\n" else rest[at + 1])
                at += 2
            elif char in " \t\r\n":
                tail = rest[at:].strip()
                if tail and not tail.startswith("#"):
                    raise self.error(
                        line, f"{tail[:40]!r} stands behind the value", "quotes around a value with spaces"
                    )
                break
            elif char in "$`;&|()<>":
                raise self.error(line, f"{char!r} stands in the value", "a plain value")
            else:
                out.append(char)
                at += 1
        return "".join(out)

    def all(self, name: str) -> list[Assignment]:
        return [a for a in self.assignments if a.name == name]

    def get(self, name: str, default: str = "") -> str:
        """The last value of ``name``: a later assignment wins."""
        values = self.all(name)
        return values[-1].value if values else default

    def yes(self, name: str, default: bool) -> bool:
        value = self.get(name).lower()
        return value in _YES if value else default

    def drop(self, name: str) -> None:
        for assignment in self.all(name):
            self._gone.update(range(assignment.first, assignment.last + 1))

    def set(self, name: str, value: str) -> None:
        """Sets ``name``, in the place of its last assignment, else at the end."""
        there = self.all(name)
        if there and there[-1].value == value and there[-1].first not in self._gone:
            return
        self.drop(name)
        at = there[-1].last if there else len(self.lines) - 1
        self._after.setdefault(at, []).append(f"{name}={quoted(value)}")

    def result(self) -> str:
        out: list[str] = []
        for number, line in enumerate(self.lines):
            if number in self._gone:
                comment = WAS + line
                if comment.strip() not in {c.strip() for c in out[-8:]}:
                    out.append(comment)
            else:
                out.append(line)
            self._append(out, self._after.get(number, []))
        if not self.lines:
            self._append(out, self._after.get(-1, []))
        return "".join(out)

    def _append(self, out: list[str], lines: list[str]) -> None:
        if lines and out and not out[-1].endswith("\n"):
            out[-1] += self.newline
        out.extend(line + self.newline for line in lines)


def quoted(value: str) -> str:
    """``value`` as a POSIX shell reads it back, quoted only where it must be."""
    if re.fullmatch(r"[A-Za-z0-9._:/,@%+-]*", value):
        return value
    return "'" + value.replace("'", "'\\''") + "'"


class Ifcfg:
    """The dialect of ``/etc/sysconfig/network-scripts``."""

    name = "ifcfg"
    patterns: tuple[str, ...] = tuple(FOLDER + p for p in ("ifcfg-*", "route-*", "route6-*", "rule-*", "rule6-*"))

    def read(self, files: Files, links: tuple[LinkFacts, ...]) -> tuple[Declaration, ...]:
        found = []
        for link in links:
            main = _main(files, link)
            if main is None:
                continue
            config, places = _read(files, main, link)
            managed = main.yes("NM_CONTROLLED", True)
            backend = "NetworkManager" if managed else "network-scripts"
            on = main.all("BOOTPROTO")
            dhcp_in = Place(main.file.path, on[-1].first + 1) if on and config.ipv4 == "dhcp" else None
            identity = main.file.path.rpartition("ifcfg-")[2]
            found.append(Declaration(link, config, places, identity, backend, dhcp_in))
        return tuple(found)

    def named(self, files: Files) -> tuple[str, ...]:
        names: dict[str, None] = {}
        for path in _mains(files):
            name = ShellFile(files[path]).get("DEVICE") or path.rpartition("ifcfg-")[2]
            if name != "lo":
                names[name] = None
        return tuple(names)

    def rewrite(self, files: Files, link: LinkFacts, wanted: InterfaceConfig) -> tuple[FileEdit, ...]:
        main = _main(files, link)
        if main is None:
            raise NotSupported(f"no ifcfg file is for {link.name}", remedy=f"make {FOLDER}ifcfg-{link.name} first")
        declared, _ = _read(files, main, link)
        todo = differences(declared, wanted)
        if not todo:
            return ()
        _refuse_unsupported(wanted)
        edits: list[FileEdit] = []
        _edit_main(main, wanted, todo)
        _edit(edits, files, main.file.path, main.result())
        if "hold" in todo and wanted.touches(4):
            for path in _aliases(files, main):
                # The file holds nothing but additional addresses of the family: it goes.
                edits.append(FileEdit(path, files[path], None))
        if {"gateway", "routes"} & set(todo):
            _edit_routes(edits, files, link, wanted, main)
        after = {**files, **{e.path: e.after for e in edits if e.after}}
        for edit in edits:
            if edit.after is None:
                after.pop(edit.path)
        again = _main(after, link)
        left = differences(_read(after, again, link)[0], wanted) if again else ("hold",)
        if left:
            raise NotSupported(
                f"{', '.join(left)} of {link.name} cannot be written into {main.file.path}", file=main.file.path
            )
        return tuple(edits)

    def steps(self, before: Files, after: Files, link: LinkFacts) -> Steps:
        old, new = _main(before, link), _main(after, link)
        if old is not None and old.yes("NM_CONTROLLED", True):
            load = tuple(("nmcli", "connection", "load", m.file.path) for m in (new, old) if m is not None)[:1]
            up = (("nmcli", "device", "reapply", link.name),)
            restart = (("systemctl", "restart", "NetworkManager.service"),)
            return Steps(activate=(*load, *up), reload=(*load, *up), escalate=restart)
        down, up_again = (("ifdown", link.name),), (("ifup", link.name),)
        return Steps(leave=down, activate=up_again, unload=down, reload=up_again)


def _mains(files: Files) -> list[str]:
    """``ifcfg-*`` files that are no aliases, backups or editors' leavings."""
    skipped = (".bak", ".orig", ".rpmnew", ".rpmorig", ".rpmsave", "~", ".swp")
    names = [p for p in sorted(files) if p.startswith(FOLDER + "ifcfg-") and not p.endswith(skipped)]
    return [p for p in names if ":" not in p.rpartition("/")[2]]


def _main(files: Files, link: LinkFacts) -> ShellFile | None:
    for path in _mains(files):
        file = ShellFile(files[path])
        device = file.get("DEVICE") or ("" if file.get("HWADDR") else path.rpartition("ifcfg-")[2])
        mac = file.get("HWADDR").lower()
        if device == link.name or (not device and mac and mac in (link.permanent_mac, link.mac)):
            return file
    return None


def _aliases(files: Files, main: ShellFile) -> list[str]:
    prefix = main.file.path + ":"
    return [p for p in sorted(files) if p.startswith(prefix)]


def _numbers(file: ShellFile) -> list[str]:
    """The suffixes of IPADDR in the order in which they are used: none, then 0, 1, 2, ..."""
    suffixes = {m[2] for a in file.assignments if (m := _NUMBERED.fullmatch(a.name)) and m[1] == "IPADDR" and a.value}
    return sorted(suffixes, key=lambda s: (s != "", int(s or 0)))


def _parsed(file: ShellFile, name: str, text: str) -> IPAddress:
    try:
        return parse_address(text)
    except ValueError as error:
        raise file.error(file.all(name)[-1].first, f"{name}: {error}") from None


def _address(file: ShellFile, suffix: str) -> IPInterface:
    name = f"IPADDR{suffix}"
    address = _parsed(file, name, file.get(name))
    prefix, mask = file.get(f"PREFIX{suffix}"), file.get(f"NETMASK{suffix}")
    text = prefix or mask
    if not text:
        at = file.all(name)[-1].first
        raise file.error(at, f"{name} has no prefix, which would be guessed from its class", f"PREFIX{suffix}=...")
    try:
        return parse_interface_address(f"{address}/{parse_prefix(text, 4)}")
    except ValueError as error:
        which = f"PREFIX{suffix}" if prefix else f"NETMASK{suffix}"
        raise file.error(file.all(which)[-1].first, f"{which}: {error}") from None


def _ipv6_texts(file: ShellFile) -> list[tuple[str, str]]:
    found = [("IPV6ADDR", file.get("IPV6ADDR"))] if file.get("IPV6ADDR") else []
    return found + [("IPV6ADDR_SECONDARIES", word) for word in file.get("IPV6ADDR_SECONDARIES").split()]


def _read(files: Files, main: ShellFile, link: LinkFacts) -> tuple[InterfaceConfig, tuple[Place, ...]]:
    path = main.file.path
    dhcp4 = main.get("BOOTPROTO").lower() in ("dhcp", "bootp")
    addresses: list[IPInterface] = [_address(main, suffix) for suffix in _numbers(main)]
    places = [Place(path, a.first + 1) for a in main.assignments if a.name in ("BOOTPROTO", "IPV6ADDR", "GATEWAY")]
    places += [Place(path, a.first + 1) for a in main.assignments if _NUMBERED.fullmatch(a.name)]
    for alias_path in _aliases(files, main):
        alias = ShellFile(files[alias_path])
        addresses += [_address(alias, suffix) for suffix in _numbers(alias)]
        places.append(Place(alias_path, 1))
    ipv6_on = main.yes("IPV6INIT", True)
    for name, text in _ipv6_texts(main):
        try:
            addresses.append(parse_interface_address(text if "/" in text else f"{text}/64"))
        except ValueError as error:
            raise main.error(main.all(name)[-1].first, f"{name}: {error}") from None
    routes: list[Route] = []
    metric = main.get("METRIC")
    for name in ("GATEWAY", "IPV6_DEFAULTGW"):
        if main.get(name):
            gateway = _parsed(main, name, main.get(name).partition("%")[0])
            on_link = not any(gateway in a.network for a in addresses)
            number = int(metric) if metric.isdecimal() and gateway.version == 4 else None
            routes.append(Route(default_network(gateway.version), gateway, number, on_link))
    for kind in ("route-", "route6-"):
        routes += [route for _, _, route in _file_routes(files.get(f"{FOLDER}{kind}{link.name}"))]
    resolvers = []
    for suffix in sorted(
        {m[2] for a in main.assignments if (m := _NUMBERED.fullmatch(a.name)) and m[1] == "DNS"},
        key=lambda s: int(s or 0),
    ):
        if main.get(f"DNS{suffix}"):
            resolvers.append(_parsed(main, f"DNS{suffix}", main.get(f"DNS{suffix}")))
    held6 = any(a.version == 6 for a in addresses)
    auto = main.yes("IPV6_AUTOCONF", True)
    if not ipv6_on:
        ipv6 = "off"
    elif main.yes("DHCPV6C", False):
        ipv6 = "dhcp"
    else:
        ipv6 = "fixed" if held6 else "ra" if auto else "off"
    mtu = main.get("MTU")
    config = InterfaceConfig(
        link.name,
        ipv4="dhcp" if dhcp4 else "fixed" if any(a.version == 4 for a in addresses) else "off",
        ipv6=ipv6,
        addresses=tuple(addresses),
        routes=tuple(routes),
        resolvers=tuple(resolvers) or None,
        search=tuple(main.get("DOMAIN").split()) or None,
        mtu=int(mtu) if mtu.isdecimal() else None,
        lease_routes=main.yes("DEFROUTE", True),
        lease_resolvers=main.yes("PEERDNS", True),
    )
    return config, (Place(path, 1), *sorted(set(places)))


def _file_routes(file: FileText | None) -> list[tuple[int, int, Route]]:
    """The routes of a ``route-IF`` file with their lines, in either of its two forms."""
    if file is None:
        return []
    lines = by_newline(file.text)
    if any(re.match(r"\s*ADDRESS[0-9]+=", line) for line in lines):
        return _assigned_routes(ShellFile(file))
    found = []
    for number, line in enumerate(lines):
        text = line.strip()
        matched = _ARGUMENT_ROUTE.fullmatch(text)
        if not text or text.startswith("#") or matched is None:
            continue
        try:
            hop = parse_address(matched[2])
            if matched[1] == "default":
                destination = default_network(hop.version)
            else:
                plain = matched[1]
                destination = parse_network(plain if "/" in plain else f"{plain}/{hop.max_prefixlen}")
        except ValueError as error:
            raise InputError(str(error), file=file.path, line=number + 1, column=1) from None
        words = matched[3].split()
        metric = words[words.index("metric") + 1] if "metric" in words[:-1] else ""
        if "table" in words:
            continue
        route = Route(destination, hop, int(metric) if metric.isdecimal() else None, "onlink" in words)
        found.append((number, number, route))
    return found


def _assigned_routes(file: ShellFile) -> list[tuple[int, int, Route]]:
    found = []
    for assignment in file.assignments:
        if not assignment.name.startswith("ADDRESS"):
            continue
        suffix = assignment.name.removeprefix("ADDRESS")
        mask, gateway = file.get(f"NETMASK{suffix}") or "32", file.get(f"GATEWAY{suffix}")
        try:
            destination = parse_network(f"{assignment.value}/{mask}")
            hop = parse_address(gateway) if gateway else None
        except ValueError as error:
            raise file.error(assignment.first, f"{assignment.name}: {error}") from None
        metric = file.get(f"METRIC{suffix}")
        found.append(
            (assignment.first, assignment.last, Route(destination, hop, int(metric) if metric.isdecimal() else None))
        )
    return found


def _refuse_unsupported(wanted: InterfaceConfig) -> None:
    if wanted.time_servers is not None:
        raise NotSupported(f"`time_servers` on {wanted.interface}: ifcfg files have no place for them")
    hops6 = wanted.default_routes(6)
    if any(r.metric is not None for r in hops6) or len(hops6) > 1 or len(wanted.default_routes(4)) > 1:
        raise NotSupported(
            f"several or weighted IPv6 gateways, or several IPv4 ones, on {wanted.interface}: one is written"
        )


def _edit_main(main: ShellFile, wanted: InterfaceConfig, todo: tuple[str, ...]) -> None:
    if wanted.touches(4) and {"ipv4", "hold", "gateway"} & set(todo):
        if "ipv4" in todo:
            main.set("BOOTPROTO", "dhcp" if wanted.ipv4 == "dhcp" else "none")
        if "hold" in todo:
            _edit_addresses(main, wanted)
        defaults = wanted.default_routes(4)
        if not defaults:
            main.drop("GATEWAY")
        else:
            main.set("GATEWAY", str(defaults[0].next_hop))
            if defaults[0].metric is not None:
                main.set("METRIC", str(defaults[0].metric))
            else:
                main.drop("METRIC")
    if wanted.touches(6) and {"ipv6", "hold", "gateway"} & set(todo):
        _edit_ipv6(main, wanted)
    if "resolvers" in todo:
        for assignment in main.assignments:
            if (m := _NUMBERED.fullmatch(assignment.name)) and m[1] == "DNS":
                number = int(m[2] or 0)
                if not 1 <= number <= len(wanted.resolvers or ()):
                    main.drop(assignment.name)
        for number, resolver in enumerate(wanted.resolvers or (), 1):
            main.set(f"DNS{number}", str(resolver))
    if "search" in todo:
        if wanted.search:
            main.set("DOMAIN", " ".join(wanted.search))
        else:
            main.drop("DOMAIN")
    if "mtu" in todo:
        main.set("MTU", str(wanted.mtu))
    if wanted.ipv4 == "dhcp" or wanted.ipv6 in ("dhcp", "ra"):
        if main.yes("DEFROUTE", True) != wanted.lease_routes:
            main.set("DEFROUTE", "yes" if wanted.lease_routes else "no")
        if main.yes("PEERDNS", True) != wanted.lease_resolvers:
            main.set("PEERDNS", "yes" if wanted.lease_resolvers else "no")


def _edit_addresses(main: ShellFile, wanted: InterfaceConfig) -> None:
    addresses = wanted.of_family(4)
    # The form that is there is kept: IPADDR alone or numbered, prefix or dotted mask.
    numbered = any(a.name == "IPADDR0" for a in main.assignments) and not main.get("IPADDR")
    suffixes = [str(n) if n or numbered else "" for n in range(len(addresses))]
    dotted = any(a.name.startswith("NETMASK") for a in main.assignments) and not main.get("PREFIX")
    for assignment in main.assignments:
        matched = _NUMBERED.fullmatch(assignment.name)
        if matched and matched[1] in ("IPADDR", "PREFIX", "NETMASK") and matched[2] not in suffixes:
            main.drop(assignment.name)
    for suffix, address in zip(suffixes, addresses, strict=True):
        main.set(f"IPADDR{suffix}", str(address.ip))
        if dotted:
            main.drop(f"PREFIX{suffix}")
            main.set(f"NETMASK{suffix}", str(address.netmask))
        else:
            main.drop(f"NETMASK{suffix}")
            main.set(f"PREFIX{suffix}", str(address.network.prefixlen))


def _edit_ipv6(main: ShellFile, wanted: InterfaceConfig) -> None:
    held = [str(a) for a in wanted.of_family(6)]
    main.set("IPV6INIT", "no" if wanted.ipv6 == "off" else "yes")
    if wanted.ipv6 == "ra" and main.all("IPV6_AUTOCONF"):
        main.set("IPV6_AUTOCONF", "yes")
    elif wanted.ipv6 in ("fixed", "off"):
        main.set("IPV6_AUTOCONF", "no")
    if wanted.ipv6 == "dhcp":
        main.set("DHCPV6C", "yes")
    elif main.yes("DHCPV6C", False):
        main.set("DHCPV6C", "no")
    for name, value in (("IPV6ADDR", held[:1]), ("IPV6ADDR_SECONDARIES", held[1:])):
        if value:
            main.set(name, " ".join(value))
        else:
            main.drop(name)
    defaults = wanted.default_routes(6)
    if defaults:
        main.set("IPV6_DEFAULTGW", str(defaults[0].next_hop))
    else:
        main.drop("IPV6_DEFAULTGW")


def _edit(edits: list[FileEdit], files: Files, path: str, text: str) -> None:
    before = files.get(path)
    if before is None:
        edits.append(FileEdit(path, None, FileText(path, text, 0o644)))
    elif before.text != text:
        edits.append(FileEdit(path, before, FileText(path, text, before.mode, before.uid, before.gid)))


def _edit_routes(
    edits: list[FileEdit], files: Files, link: LinkFacts, wanted: InterfaceConfig, main: ShellFile
) -> None:
    for version, kind in ((4, "route-"), (6, "route6-")):
        path = f"{FOLDER}{kind}{link.name}"
        there = _file_routes(files.get(path))
        gone = {
            number
            for first, last, route in there
            if route.is_default and wanted.touches(version) and route not in wanted.routes
            for number in range(first, last + 1)
        }
        present = {route for _, _, route in there}
        missing = [
            r for r in wanted.routes if not r.is_default and r.destination.version == version and r not in present
        ]
        if not gone and not missing:
            continue
        lines = by_newline(files[path].text) if path in files else []
        assigned = any(re.match(r"\s*ADDRESS[0-9]+=", line) for line in lines)
        if assigned:
            raise NotSupported(
                "routes in the form ADDRESSn=... are not added to",
                file=path,
                remedy="use the form `DESTINATION via GATEWAY dev IF`",
            )
        text = "".join(WAS + line if n in gone else line for n, line in enumerate(lines))
        if text and not text.endswith("\n"):
            text += "\n"
        for route in missing:
            via = f" via {route.next_hop}" if route.next_hop is not None else ""
            metric = f" metric {route.metric}" if route.metric is not None else ""
            text += f"{route.destination}{via} dev {link.name}{metric}{' onlink' if route.on_link else ''}\n"
        _edit(edits, files, path, text)
