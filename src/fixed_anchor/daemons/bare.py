"""Leaving a link as it was before any file declared it: for daemons that do not see to that themselves."""

from __future__ import annotations

from fixed_anchor.change.steps import Fed, Step
from fixed_anchor.core.config import LinkFacts


def ipv6_setting(interface: str, name: str, value: str) -> Step:
    """Sets one of the kernel's settings of IPv6 on an interface (ip-sysctl, Linux), by what every host has."""
    return Fed(("tee", f"/proc/sys/net/ipv6/conf/{interface}/{name}"), f"{value}\n")


def with_its_mtu(link: LinkFacts) -> tuple[Step, ...]:
    """The command that gives ``link`` its MTU without a declaration again; nothing where that is not known."""
    if link.bare is None or link.bare.mtu is None:
        return ()
    return (("ip", "link", "set", "dev", link.name, "mtu", str(link.bare.mtu)),)


def left_bare(link: LinkFacts) -> tuple[Step, ...]:
    """Commands after which ``link`` has no address and no route, and is switched on or off as it was.

    Nothing where it is not known how it was. What was in the kernel alone is set again afterwards.
    """
    if link.bare is None:
        return ()
    name = link.name
    steps: list[Step] = [
        ("ip", "address", "flush", "dev", name, "scope", "global"),
        ("ip", "-4", "route", "flush", "dev", name),
        # Its link-local address, and the routes of that, go with the link.
        ("ip", "link", "set", "dev", name, "down"),
    ]
    steps += with_its_mtu(link)
    if link.bare.accept_ra:
        steps.append(ipv6_setting(name, "accept_ra", link.bare.accept_ra))
    if link.bare.up:
        # Switched on anew it asks for routers, where it listens to them.
        steps.append(("ip", "link", "set", "dev", name, "up"))
    return tuple(steps)
