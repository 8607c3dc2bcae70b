"""Which programs a host has that carry its addressing out, and of what version: as they, or its packages, tell.

Like a daemon's module it runs nothing and reads no disk: it says what must be asked, and judges the answers.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Iterator

from fixed_anchor.core.programs import Program

#: What a command printed; nothing where nobody ran it.
Printed = Callable[[tuple[str, ...]], str]

#: The packages that have them, by the name of the program; distributions call them differently.
_PACKAGES = {
    "systemd": ("systemd",),
    "netplan": ("netplan.io", "netplan"),
    "NetworkManager": ("network-manager", "NetworkManager"),
    "ifupdown": ("ifupdown",),
    "ifupdown2": ("ifupdown2",),
    "dhclient": ("isc-dhcp-client", "dhcp-client"),
    "dhcpcd": ("dhcpcd-base", "dhcpcd5", "dhcpcd"),
    "resolvconf": ("resolvconf", "openresolv"),
    "iproute2": ("iproute2", "iproute"),
}
_EVERY = tuple(package for packages in _PACKAGES.values() for package in packages)
# dpkg-query(1), rpm(8): one line for each that is installed, its name and version.
_DPKG = ("dpkg-query", "-W", "-f", "${db:Status-Status} ${Package} ${Version}\\n", *_EVERY)
_RPM = ("rpm", "-q", "--qf", "installed %{NAME} %{VERSION}\\n", *_EVERY)
#: Asked only where files of netplan are: it takes as long as all the others.
FEATURES = ("netplan", "info")
#: Asked themselves where no package manager answers: systemctl(1), NetworkManager(8), ip(8).
_THEMSELVES = {
    "systemd": (("systemctl", "--version"), r"^systemd (\d+)"),
    "NetworkManager": (("NetworkManager", "--version"), r"^([0-9.]+)"),
    "iproute2": (("ip", "-V"), r"iproute2-(?:ss)?v?([0-9.]+)"),
}
COMMANDS = (_DPKG, _RPM, *(argv for argv, _ in _THEMSELVES.values()))
#: The record of the packages that are installed in a file tree, in the form of dpkg(1).
STATUS = "/var/lib/dpkg/status"
_FIELD = re.compile(r"^(Package|Status|Version): (.*)$", re.MULTILINE)


def that_run(printed: Printed) -> tuple[Program, ...]:
    """The programs of a running host by what :data:`COMMANDS` and :data:`FEATURES` ``printed``; of others nothing."""
    lines = (line.split() for argv in (_DPKG, _RPM) for line in printed(argv).splitlines())
    found = dict(_of_packages((words[1], words[2]) for words in lines if len(words) == 3 and words[0] == "installed"))
    for name, (argv, said) in _THEMSELVES.items():
        answer = re.search(said, printed(argv))
        if name not in found and answer is not None:
            found[name] = answer[1]
    return _in_order(found, _features(printed(FEATURES)))


def in_tree(status: str) -> tuple[Program, ...]:
    """The programs that are installed in a file tree, by the text of its :data:`STATUS`, dpkg(1)."""
    stanzas = (dict(_FIELD.findall(stanza)) for stanza in status.split("\n\n"))
    installed = (s for s in stanzas if s.get("Status", "").endswith(" installed"))
    return _in_order(dict(_of_packages((s.get("Package", ""), s.get("Version", "")) for s in installed)), None)


def _in_order(found: dict[str, str], features: tuple[str, ...] | None) -> tuple[Program, ...]:
    return tuple(
        Program(name, found[name], features if name == "netplan" else None) for name in _PACKAGES if name in found
    )


def _of_packages(installed: Iterable[tuple[str, str]]) -> Iterator[tuple[str, str]]:
    names = {package: name for name, packages in _PACKAGES.items() for package in packages}
    return ((names[package], _own_version(version)) for package, version in installed if package in names)


def _own_version(version: str) -> str:
    """``1:1.42.4-1+deb12u1`` is 1.42.4: without the packager's epoch and revision (deb-version(7))."""
    found = re.match(r"(?:\d+:)?(\d+(?:\.\d+)*)", version)
    return found[1] if found else ""


def _features(info: str) -> tuple[str, ...] | None:
    """What netplan lists as its features: a list in YAML, an item a line."""
    lines = info.splitlines()
    if not any(line.strip() == "features:" for line in lines):
        return None
    return tuple(found[1] for line in lines if (found := re.fullmatch(r"\s*- ([a-z0-9-]+)\s*", line)))
