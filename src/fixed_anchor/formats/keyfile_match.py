"""Which of NetworkManager's profiles wins for a link, nm-settings(5): connection, match, and one of the link's own."""

from __future__ import annotations

import uuid
from collections.abc import Iterator
from fnmatch import fnmatchcase

from fixed_anchor.core.aside import UNCLEAR, Aside
from fixed_anchor.core.config import LinkFacts, Place, Wireless
from fixed_anchor.formats.keyfile_read import (
    ETC,
    TYPES,
    is_generated,
    priority_of,
    profile_text,
    value_of,
    words_of,
)
from fixed_anchor.formats.wireless import kept_elsewhere, unknown_network
from fixed_anchor.text.ini import IniText, truth

_NAMESPACE = uuid.UUID("6f2d3b1c-5d0e-5c59-9f6e-2b7f0a6f1a10")


def ranked(profiles: list[IniText], link: LinkFacts) -> list[IniText]:
    """The profiles that may be brought up on ``link``, the one that wins first.

    Those that only a person brings up come last. At equal priority one for this link alone comes first.
    """
    found = []
    for profile in profiles:
        if value_of(profile, "connection", "type") not in types_of(link) or not _fits(profile, link):
            continue
        by_hand = not starts_by_itself(profile)
        found.append((by_hand, -priority_of(profile), not is_bound(profile, link), profile.path, profile))
    return [entry[4] for entry in sorted(found, key=lambda entry: entry[:4])]


def types_of(link: LinkFacts) -> tuple[str, ...]:
    """The profile types for the kind of ``link``."""
    return TYPES.get(link.kind, TYPES["ethernet"])


def starts_by_itself(profile: IniText) -> bool:
    """Whether NetworkManager brings it up without being told."""
    return truth(value_of(profile, "connection", "autoconnect") or "yes") is not False


def is_bound(profile: IniText, link: LinkFacts) -> bool:
    """Whether a profile names the one interface that it is for, by its name or its MAC."""
    macs = [m for section in types_of(link) if (m := value_of(profile, section, "mac-address"))]
    return value_of(profile, "connection", "interface-name") is not None or bool(macs)


def _fits(profile: IniText, link: LinkFacts) -> bool:
    name = value_of(profile, "connection", "interface-name")
    if name is not None and name != link.name:
        return False
    macs = [m for section in types_of(link) if (m := value_of(profile, section, "mac-address"))]
    if macs and macs[-1].lower().replace("-", ":") != (link.permanent_mac or link.mac):
        return False
    return all(
        _matches(words_of(value_of(profile, "match", key) or ""), value)
        for key, value in (("interface-name", link.name), ("driver", link.driver), ("path", link.path))
    )


def _matches(patterns: list[str], value: str | None) -> bool:
    """nm-settings(5), ``match``: ``|`` is enough alone, ``&`` is required, ``!`` inverts and is required too."""
    optional: list[bool] = []
    for pattern in patterns:
        required = pattern.startswith("&")
        glob = pattern.lstrip("|&")
        inverted = glob.startswith("!")
        fits = value is not None and fnmatchcase(value, glob.removeprefix("!"))
        if inverted or required:
            if fits == inverted:
                return False
        else:
            optional.append(fits)
    return not optional or any(optional)


def unclear(profiles: list[IniText], link: LinkFacts) -> Iterator[Aside]:
    """The profiles that may be for ``link``, by conditions that are not looked at."""
    for profile in ranked(profiles, link):
        for block in profile.named("match"):
            for entry in block.entries:
                if entry.key == "kernel-command-line" and entry.value:
                    text = f"it depends on {entry.key}={entry.value}"
                    yield Aside(UNCLEAR, Place(profile.path, entry.line), text, link.name)


def is_shared(profile: IniText, profiles: list[IniText], link: LinkFacts, links: tuple[LinkFacts, ...]) -> bool:
    """Whether the profile that wins for ``link`` does so for another link of the host as well."""
    if is_bound(profile, link):
        return False
    for other in links:
        first = ranked(profiles, other)[:1] if other.name != link.name and other.master is None else []
        if first and first[0].path == profile.path:
            return True
    return False


def own_profile(shared: IniText, text: str, link: LinkFacts, path: str) -> IniText:
    """A profile for ``link`` alone that says what the ``shared`` one with its ``text`` says, and wins."""
    profile = profile_text(text, path, forget=True)
    for block in profile.named("match"):
        profile.drop_block(block)
    for key, value in (
        ("id", link.name),
        ("uuid", own_uuid(link)),
        ("interface-name", link.name),
        ("autoconnect-priority", str(priority_of(shared) + 10)),
    ):
        profile.set("connection", key, value)
    return profile_text(profile.result(), path)


def own_path(link: LinkFacts) -> str:
    """Where a profile for ``link`` alone is laid."""
    return f"{ETC}{link.name}.nmconnection"


def own_paths(link: LinkFacts) -> Iterator[str]:
    """The same, and further ones, for where a file of that name is for something else."""
    yield own_path(link)
    yield from (f"{ETC}{link.name}-{number}.nmconnection" for number in range(2, 1000))


def own_uuid(link: LinkFacts) -> str:
    """The UUID of a profile for ``link`` alone: always the same for the same link."""
    return str(uuid.uuid5(_NAMESPACE, f"{link.name} {link.permanent_mac or link.mac}"))


def new_profile(link: LinkFacts, method4: str = "auto", radio: list[str] | None = None) -> str:
    """A profile that says what NetworkManager's automatic one does, with a UUID of its own.

    ``method4`` is its method of IPv4, ``radio`` the lines of the network of a wireless link.
    """
    lines = [
        "[connection]",
        f"id={link.name}",
        f"uuid={own_uuid(link)}",
        f"type={types_of(link)[0]}",
        f"interface-name={link.name}",
        "autoconnect-priority=10",
        "",
        *(radio or ()),
        "[ipv4]",
        f"method={method4}",
        "",
        "[ipv6]",
        "method=auto",
    ]
    return "\n".join(lines) + "\n"


def radio_of(profiles: list[IniText], wireless: Wireless) -> list[str]:
    """The sections that name a radio network, nm-settings-keyfile(5): its passphrase is the plan's, or a profile's.

    Raises :class:`NotSupported` for a network that no profile knows, or that wants more than a passphrase.
    """
    password = wireless.password
    if password is None:
        known = [
            p for p in profiles if any(_network_of(p, section) == wireless.network for section in TYPES["wireless"])
        ]
        if not known:
            raise unknown_network(wireless)
        keys = ("wifi-security", "802-11-wireless-security")
        password = next((found for section in keys if (found := value_of(known[0], section, "psk"))), None)
        if password is None:
            raise kept_elsewhere(wireless, known[0].path)
    lines = ["[wifi]", f"ssid={_escaped(wireless.network)}", "mode=infrastructure", ""]
    return [*lines, "[wifi-security]", "key-mgmt=wpa-psk", f"psk={_escaped(password)}", ""]


def _network_of(profile: IniText, section: str) -> str | None:
    value = value_of(profile, section, "ssid")
    return value.replace("\\;", ";").replace("\\s", " ").replace("\\\\", "\\") if value is not None else None


def _escaped(text: str) -> str:
    """A text as the value of a key of GLib: backslashes, and blanks at its beginning."""
    escaped = text.replace("\\", "\\\\")
    blanks = len(escaped) - len(escaped.lstrip(" "))
    return "\\s" * blanks + escaped[blanks:]


def declaring(profiles: list[IniText], link: LinkFacts) -> IniText | None:
    """The profile of the administrator's that declares ``link``: not one of netplan's making."""
    mine = ranked(profiles, link)
    return mine[0] if mine and not is_generated(mine[0].path) else None
