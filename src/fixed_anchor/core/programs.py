"""What the programs of a host understand of what is written for them and run there, by their releases.

The one table of it: formats, daemons and rules read it. A release that nobody has tried counts as the newest one that
was; one that is not known at all likewise.
"""

from __future__ import annotations

import re
from collections.abc import Iterable

import msgspec


class Program(msgspec.Struct, frozen=True):
    """A program of a host: its ``name``, its own ``version`` without the packager's part, such as ``0.106``.

    ``features`` are those that it lists itself, ``None`` where it lists none.
    """

    name: str
    version: str
    features: tuple[str, ...] | None = None

    @property
    def shown(self) -> str:
        """``netplan 0.106``."""
        return f"{self.name} {self.version}"


class Ability(msgspec.Struct, frozen=True):
    """Something that ``program`` understands ``since`` a version, or where it lists the ``feature``.

    ``source`` says who says so, ``before`` what is written or run where it does not.
    """

    name: str
    program: str
    since: str
    source: str
    before: str
    feature: str = ""


#: ``to: default`` in a route of netplan.
DEFAULT_ROUTES = "default-routes"
#: ``networkctl reload``.
NETWORKD_RELOAD = "networkd-reload"
#: The section ``[DHCPv4]`` of a .network file.
DHCPV4_SECTION = "dhcpv4-section"
#: ``method=disabled`` for IPv6 in a profile of NetworkManager.
IPV6_DISABLED = "ipv6-disabled"

ABILITIES = (
    Ability(
        DEFAULT_ROUTES,
        "netplan",
        "0.103",
        "`netplan info`; tried: 0.101 refuses it, 0.106 takes it",
        "the routes 0.0.0.0/0 and ::/0",
        feature="default-routes",
    ),
    Ability(NETWORKD_RELOAD, "systemd", "244", "NEWS of systemd 244", "the daemon is started again"),
    Ability(DHCPV4_SECTION, "systemd", "243", "NEWS of systemd 243", "the section is called [DHCP]"),
    Ability(IPV6_DISABLED, "NetworkManager", "1.20", "NEWS of NetworkManager 1.20", "`ipv6: off` is refused"),
)

#: The versions with which conversions were tried there and back, oldest first: those of Debian 11, 12 and 13.
TRIED: dict[str, tuple[str, ...]] = {
    "systemd": ("247", "252", "257"),
    "netplan": ("0.101", "0.106", "1.1.2"),
    "NetworkManager": ("1.30", "1.42", "1.52"),
    "ifupdown": ("0.8.36", "0.8.41", "0.8.44"),
    "ifupdown2": ("3.0.0",),
    "dhclient": ("4.4.1", "4.4.3"),
    "dhcpcd": ("10.1.0",),
    "iproute2": ("5.10", "6.1", "6.15"),
}

#: The oldest version whose way back can be promised, and why an older one's cannot.
PROMISED: dict[str, tuple[str, str]] = {
    "iproute2": ("4.17", "its `ip -json` does not say all that a survey needs"),
    "NetworkManager": ("1.2", "it cannot apply an edited profile to a device as it runs"),
    "netplan": ("0.36", "it has no routes of an interface"),
    "systemd": ("229", "its networkd cannot be told to keep away from router advertisements"),
}


def ordered(version: str) -> tuple[int, ...]:
    """A version as numbers that can be compared: ``1.1.2`` is above ``1.1``."""
    return tuple(int(number) for number in re.findall(r"\d+", version))


def lacking(programs: Iterable[Program]) -> frozenset[str]:
    """The names of the abilities that ``programs`` do not have; of one that is not known nothing is lacking."""
    known = {program.name: program for program in programs}
    return frozenset(a.name for a in ABILITIES if a.program in known and not _has(known[a.program], a))


def _has(program: Program, ability: Ability) -> bool:
    if ability.feature and program.features is not None:
        return ability.feature in program.features
    return not program.version or ordered(program.version) >= ordered(ability.since)


def is_untried(program: Program) -> bool:
    """Whether it is newer than all that were tried, by as many numbers as the newest of those tells."""
    if program.name not in TRIED or not program.version:
        return False
    newest = ordered(TRIED[program.name][-1])
    return ordered(program.version)[: len(newest)] > newest


def too_old(program: Program) -> str | None:
    """Why no way back can be promised with it, ``None`` where it can."""
    oldest, why = PROMISED.get(program.name, ("", ""))
    if not oldest or not program.version or ordered(program.version) >= ordered(oldest):
        return None
    return f"{program.shown} is older than {oldest}: {why}"
