"""What beside the stacks configures the interfaces of a host, or gives them other names: read from its files."""

from __future__ import annotations

import json
import re
from collections.abc import Iterator
from fnmatch import fnmatchcase
from typing import Any

from fixed_anchor.change.files import FileText
from fixed_anchor.core.addresses import addresses_in
from fixed_anchor.core.aside import CONFIGURES, MAY_CONFIGURE, NAMES, RENAMED, REWRITTEN, Aside
from fixed_anchor.core.config import LinkFacts, Place
from fixed_anchor.core.errors import InputError
from fixed_anchor.daemons import ifupdown2, others
from fixed_anchor.formats.interfaces_hooks import adds_something
from fixed_anchor.formats.network_match import link_fits, match_rules
from fixed_anchor.machines.readable import Readable
from fixed_anchor.observe.permitted import Permitted
from fixed_anchor.observe.provisioning import says_generated
from fixed_anchor.text.ini import IniText

#: What a file says in its head that another program writes again.
_MANAGED = re.compile(
    r"managed by|do\s*n[o']t (edit|modify|change)|auto(matically)?[- ]?generated|(will|may) be (lost|overwritten)",
    re.IGNORECASE,
)
_HEAD = 15
#: Programs that act on addresses, routes and packets; what else names an address is no matter of interfaces.
_OF_NETWORK = re.compile(r"\b(ip|ip6?tables|nft|route|ifconfig|arping|arp|tc|ethtool|nmcli|resolvectl)\b")


def found_on(machine: Readable, links: tuple[LinkFacts, ...]) -> Iterator[Aside]:
    """All of it that concerns ``links``, and what concerns the whole host."""
    files = Permitted(machine)
    yield from _services(files, links)
    yield from _policies(files, links)
    yield from _initrd(files, links)
    yield from _hooks(files)
    yield from _renamed(files, links)
    for path in files.denied:
        yield Aside(MAY_CONFIGURE, Place(path, 0), f"{path} was not looked at: there is no permission to read it")


# --- policies of ifupdown2 --------------------------------------------------------------

#: Its modules that have a say in the addressing of an interface.
_ADDRESSING_MODULES = ("address", "dhcp", "link")


def _policies(machine: Permitted, links: tuple[LinkFacts, ...]) -> Iterator[Aside]:
    """What ifupdown2 gives to interfaces beside their stanzas: ``{MODULE: {defaults, iface_defaults: {IF: ...}}}``."""
    for path in (p for pattern in ifupdown2.POLICIES for p in machine.glob(pattern)):
        file = machine.read(path)
        try:
            said = json.loads(file.text if file is not None else "")
        except ValueError:
            yield Aside(
                MAY_CONFIGURE, Place(path, 0), f"{path} is no JSON, and what it gives to interfaces is not known"
            )
            continue
        for module in _ADDRESSING_MODULES if isinstance(said, dict) else ():
            given = said.get(module)
            if not isinstance(given, dict):
                continue
            for name, settings in {"": given.get("defaults"), **_by_interface(given)}.items():
                if isinstance(settings, dict) and settings and name in ("", *(link.name for link in links)):
                    words = ", ".join(f"{key} {value}" for key, value in settings.items())
                    yield Aside(MAY_CONFIGURE, Place(path, 0), f"a policy of ifupdown2 gives {module}: {words}", name)


def _by_interface(given: dict[str, Any]) -> dict[str, Any]:
    found = given.get("iface_defaults")
    return found if isinstance(found, dict) else {}


# --- services ---------------------------------------------------------------------------


def _services(machine: Permitted, links: tuple[LinkFacts, ...]) -> Iterator[Aside]:
    for service in others.SERVICES:
        enabled = next((p for pattern in others.enabled_paths(service) for p in machine.glob(pattern)), None)
        if enabled is None:
            continue
        if service is others.DHCPCD:
            yield from _dhcpcd(machine, links, enabled)
        else:
            text = f"{service.unit} is enabled: {service.what}"
            yield Aside(CONFIGURES if service.always else MAY_CONFIGURE, Place(enabled, 0), text)
    for path in machine.glob(others.DHCPCD_ON_ONE):
        unit = path.rpartition("/")[2]
        name = unit.partition("@")[2].removesuffix(".service")
        yield Aside(CONFIGURES, Place(path, 0), f"{unit} is enabled: a lease client of its own", name)
    if machine.read(others.CLOUD_HELPER) is not None:
        text = "a helper of cloud images writes stanzas for interfaces as they appear"
        yield Aside(MAY_CONFIGURE, Place(others.CLOUD_HELPER, 0), text)


def _dhcpcd(machine: Permitted, links: tuple[LinkFacts, ...], enabled: str) -> Iterator[Aside]:
    """dhcpcd.conf(5): a section for each interface; ``denyinterfaces`` and ``allowinterfaces`` say which it takes."""
    file = machine.read(others.DHCPCD_CONF)
    sections: dict[str, tuple[int, list[str]]] = {"": (0, [])}
    current = ""
    for number, line in enumerate(file.text.splitlines() if file else (), 1):
        words = line.partition("#")[0].split()
        if words[:1] in (["interface"], ["profile"], ["ssid"]):
            current = " ".join(words[1:]) if words[0] == "interface" else " ".join(words)
            sections.setdefault(current, (number, []))
        elif words:
            sections[current][1].append(" ".join(words))
    denied = [w for line in sections[""][1] if line.startswith("denyinterfaces") for w in line.split()[1:]]
    allowed = [w for line in sections[""][1] if line.startswith("allowinterfaces") for w in line.split()[1:]]
    for link in links:
        if any(fnmatchcase(link.name, p) for p in denied):
            continue
        if allowed and not any(fnmatchcase(link.name, p) for p in allowed):
            continue
        number, lines = sections.get(link.name, (0, []))
        static = next((line for line in lines if line.startswith("static")), None)
        said = f", and has `{static}` for {link.name}" if static else ""
        place = Place(others.DHCPCD_CONF, number) if number else Place(enabled, 0)
        yield Aside(CONFIGURES, place, f"{others.DHCPCD.unit} is enabled{said}", link.name)


# --- before the stacks ------------------------------------------------------------------


def _initrd(machine: Permitted, links: tuple[LinkFacts, ...]) -> Iterator[Aside]:
    for path in machine.glob(others.INITRD):
        file = machine.read(path)
        said = dict(re.findall(r"^([A-Z0-9]+)='?([^'\n]*)'?$", file.text if file else "", re.MULTILINE))
        if said.get("DEVICE"):
            held = said.get("IPV4ADDR", "an address")
            yield Aside(CONFIGURES, Place(path, 1), f"the initrd gave {said['DEVICE']} {held}", said["DEVICE"])
    for pattern in others.INITRD_CONFIG:
        for path, number, line in machine.lines(pattern):
            told = re.match(r"(?:export\s+)?IP=[\"']?([^\"'#\s]+)", line)
            if told and told[1] not in ("none", "off"):
                text = f"the initrd is told to configure a link: `{line}`"
                yield Aside(CONFIGURES, Place(path, number), text, _device(told[1], links))
    for path in (others.CMDLINE, *others.NEXT_CMDLINE):
        for number, line in _command_lines(machine, path):
            for value in re.findall(r"(?:^|[\s\"'])ip=([^\s\"']+)", line):
                if value.rpartition(":")[2] not in ("none", "off") or addresses_in(value.replace(":", " ")):
                    text = f"the kernel's command line has `ip={value}`"
                    yield Aside(CONFIGURES, Place(path, number), text, _device(value, links))


def _device(value: str, links: tuple[LinkFacts, ...]) -> str:
    """The link that an ``ip=`` is for; empty where it names none."""
    return next((part for part in value.split(":") if part in {link.name for link in links}), "")


def _command_lines(machine: Permitted, path: str) -> list[tuple[int, str]]:
    """The lines of a file that are, or make, a command line of the kernel, with their numbers."""
    file = machine.read(path)
    lines = enumerate(file.text.splitlines() if file is not None else (), 1)
    return [(n, line) for n, line in lines if path != "/etc/default/grub" or line.startswith("GRUB_CMDLINE_")]


def _words(file: FileText | None) -> list[str]:
    return file.text.split() if file is not None else []


def _hooks(machine: Permitted) -> Iterator[Aside]:
    """Scripts that run when an interface comes up, and add addresses or routes, or name an address."""
    for pattern in others.HOOK_FOLDERS:
        for path in machine.glob(pattern):
            file = machine.read(path)
            if file is None or path.rpartition("/")[2] in others.SHIPPED_HOOKS:
                continue
            adds = False
            for number, line in enumerate(file.text.splitlines(), 1):
                text = line.strip()
                if text.startswith("#") or (path.endswith(".service") and not text.startswith("Exec")):
                    continue
                text = text.partition("=")[2].lstrip("-@+!") if path.endswith(".service") else text
                named = addresses_in(text) if _OF_NETWORK.search(text) else ()
                if named:
                    yield Aside(NAMES, Place(path, number), text, addresses=named)
                if not adds and adds_something(text):
                    adds = True
                    yield Aside(MAY_CONFIGURE, Place(path, number), f"a hook adds addresses or routes: `{text}`")


# --- names ------------------------------------------------------------------------------


def _renamed(machine: Permitted, links: tuple[LinkFacts, ...]) -> Iterator[Aside]:
    """The names that .link files, udev's rules and the kernel's command line will give to ``links``."""
    physical = [link for link in links if link.kind in ("ethernet", "wireless")]
    files = _link_files(machine)
    for link in physical:
        said = _name_in_links(files, link) or _name_in_rules(machine, link) or _name_in_cmdline(machine, link)
        if said is not None and said.of != link.name:
            yield said
    for word in ("net.ifnames=0", "biosdevname=0"):
        now = word in _words(machine.read(others.CMDLINE))
        for path in others.NEXT_CMDLINE:
            kept = _command_lines(machine, path)
            then = [n for n, line in kept if re.search(rf"(?<![\w.]){re.escape(word)}(?!\S*\w)", line)]
            if not kept or machine.read(others.CMDLINE) is None or bool(then) == now:
                continue
            text = f"`{word}` " + ("comes to" if then else "goes from") + " the kernel's command line"
            for link in physical:
                yield Aside(RENAMED, Place(path, then[0] if then else kept[0][0]), text, link.name)


def _link_files(machine: Permitted) -> list[IniText]:
    """The .link files in the order in which they are tried, systemd.link(5)."""
    by_name: dict[str, str] = {}
    for folder in others.LINK_FOLDERS:
        for path in machine.glob(folder + "*.link"):
            by_name.setdefault(path.rpartition("/")[2], path)
    texts = []
    for name in sorted(by_name):
        file = machine.read(by_name[name])
        try:
            texts.append(IniText(file.text if file is not None else "", by_name[name]))
        except InputError:
            # udev passes it over as well.
            continue
    return texts


def _name_in_links(files: list[IniText], link: LinkFacts) -> Aside | None:
    for text in files:
        rules = match_rules([text])
        original = rules.pop("OriginalName", ["*"])
        if original != ["*"] or not link_fits(rules, link):
            continue
        names = [e for block in text.named("Link") for e in block.all("Name")]
        policies = [e for block in text.named("Link") for e in block.all("NamePolicy") if e.value]
        if policies and policies[-1].value.split()[0] == "mac" and link.mac is not None:
            name = "enx" + (link.permanent_mac or link.mac).replace(":", "")
            said = f"NamePolicy={policies[-1].value}"
            return Aside(RENAMED, Place(text.path, policies[-1].line), said, link.name, of=name)
        if names and not policies:
            entry = names[-1]
            return Aside(RENAMED, Place(text.path, entry.line), f"Name={entry.value}", link.name, of=entry.value)
        return None
    return None


def _name_in_rules(machine: Permitted, link: LinkFacts) -> Aside | None:
    mac = link.permanent_mac or link.mac
    for path, number, line in machine.lines(others.UDEV_RULES):
        address = re.search(r'ATTRS?\{address\}=="([^"]*)"', line)
        name = re.search(r'(?<![A-Z_])NAME:?="([^"]*)"', line)
        if address and name and not line.startswith("#") and address[1].lower() == mac:
            return Aside(RENAMED, Place(path, number), f'NAME="{name[1]}"', link.name, of=name[1])
    return None


def _name_in_cmdline(machine: Permitted, link: LinkFacts) -> Aside | None:
    mac = link.permanent_mac or link.mac
    for word in _words(machine.read(others.CMDLINE)):
        if word.startswith("ifname="):
            name, _, said = word.removeprefix("ifname=").partition(":")
            if said.lower() == mac:
                return Aside(RENAMED, Place(others.CMDLINE, 1), word, link.name, of=name)
    return None


# --- headers ----------------------------------------------------------------------------


def rewritten(machine: Readable, path: str, interface: str) -> Iterator[Aside]:
    """Whether the head of an interface file says that another program writes it again.

    First-boot provisioning is told apart: it can be switched off.
    """
    file = machine.read(path)
    lines = file.text.splitlines()[:_HEAD] if file is not None else []
    if says_generated("\n".join(lines)):
        return
    for number, line in enumerate(lines, 1):
        if line.lstrip().startswith("#") and _MANAGED.search(line):
            yield Aside(REWRITTEN, Place(path, number), line.strip("# \t"), interface)
            return
