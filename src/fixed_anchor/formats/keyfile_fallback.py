"""The profile that NetworkManager falls back to: a second one for the same device, of a lower priority."""

from __future__ import annotations

import uuid

from fixed_anchor.core.config import Fallback, LinkFacts
from fixed_anchor.formats.keyfile_match import is_bound
from fixed_anchor.formats.keyfile_read import ETC, family_of, priority_of, value_of
from fixed_anchor.text.ini import IniText, truth

#: So much lower is its priority.
_BELOW = 10


def fallback_path(link: LinkFacts) -> str:
    """Where it is laid."""
    return f"{ETC}{link.name}-fallback.nmconnection"


def fallback_of(profiles: list[IniText], winner: IniText, link: LinkFacts) -> Fallback:
    """What another profile for ``link`` would set where the ``winner`` gets no lease; nothing where none does."""
    for profile in profiles:
        if profile.path == winner.path or not is_bound(profile, link):
            continue
        starts = truth(value_of(profile, "connection", "autoconnect") or "yes") is True
        if not starts or value_of(profile, "ipv4", "method") != "manual":
            continue
        if priority_of(profile) >= priority_of(winner):
            continue
        held, routes, resolvers, _, _ = family_of(profile, 4)
        if held:
            hops = [r.next_hop for r in routes if r.is_default]
            return Fallback(held[0], hops[0] if hops else None, tuple(resolvers))
    return Fallback()


def fallback_profile(winner: IniText, link: LinkFacts, fallback: Fallback) -> str:
    """The text of a profile for ``fallback``."""
    assert fallback.address is not None
    gateway = f",{fallback.gateway}" if fallback.gateway is not None else ""
    resolvers = "".join(f"{r};" for r in fallback.resolvers)
    kind = value_of(winner, "connection", "type") or "ethernet"
    lines = [
        "# For when no DHCP server answers.",
        "[connection]",
        f"id={link.name}-fallback",
        f"uuid={uuid.uuid5(uuid.NAMESPACE_DNS, f'fallback.{link.permanent_mac or link.mac}.{link.name}')}",
        f"type={kind}",
        f"interface-name={link.name}",
        f"autoconnect-priority={priority_of(winner) - _BELOW}",
        "",
        "[ipv4]",
        "method=manual",
        f"address1={fallback.address}{gateway}",
        *([f"dns={resolvers}"] if resolvers else []),
        "",
        "[ipv6]",
        f"method={value_of(winner, 'ipv6', 'method') or 'auto'}",
    ]
    return "".join(f"{line}\n" for line in lines)


def give_way(winner: IniText) -> None:
    """Has the profile fail where it gets no lease, and be tried once: only then another one has its turn."""
    winner.set("ipv4", "may-fail", "false")
    winner.set("connection", "autoconnect-retries", "1")
