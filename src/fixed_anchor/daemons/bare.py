"""Leaving a link as it was before any file declared it: for daemons that do not see to that themselves."""

from __future__ import annotations

from fixed_anchor.change.steps import Step
from fixed_anchor.core.config import LinkFacts

#: Where sysctl(8) takes slashes between the parts of a name, dots may stand in that of an interface.
ACCEPT_RA = "net/ipv6/conf/{}/accept_ra"


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
    if link.bare.mtu is not None:
        steps.append(("ip", "link", "set", "dev", name, "mtu", str(link.bare.mtu)))
    if link.bare.accept_ra:
        steps.append(("sysctl", "-q", "-w", f"{ACCEPT_RA.format(name)}={link.bare.accept_ra}"))
    if link.bare.up:
        # Switched on anew it asks for routers, where it listens to them.
        steps.append(("ip", "link", "set", "dev", name, "up"))
    return tuple(steps)
