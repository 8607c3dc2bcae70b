"""Telling the neighbours at which MAC addresses are now: no stack does, and they keep the old one for minutes.

The verification of a change does it for the addresses of which it has seen that nobody else has them. When a change
is rolled back the guard runs it as a command, for whatever is in force then, after a look of its own:
``python -m fixed_anchor.workflow.network.announce INTERFACE``.
"""

from __future__ import annotations

import sys
from collections.abc import Iterable
from ipaddress import IPv6Address

from fixed_anchor.core.addresses import IPAddress
from fixed_anchor.core.errors import AnchorError, NoAccess
from fixed_anchor.machines.readable import Readable
from fixed_anchor.packets.announcements import Announcements
from fixed_anchor.packets.arp_probes import AFTERWARDS
from fixed_anchor.vantages.protocol import Frames, Vantage
from fixed_anchor.workflow.network.look import look

_MODULE = "fixed_anchor.workflow.network.announce"


def announce_command(interface: str) -> tuple[str, ...]:
    """The command that announces what is in force on an interface."""
    return (sys.executable, "-m", _MODULE, interface)


def announce(frames: Frames, addresses: Iterable[IPAddress], is_router: bool) -> dict[IPAddress, str]:
    """Announces ``addresses``, of which somebody has seen that nobody else has them; about 2 s.

    Returns why not, for those that another machine claimed meanwhile. Raises :class:`NoAccess`.
    """
    announcements = Announcements(frames.mac, addresses, is_router=is_router)
    frames.converse(announcements)
    return {address: f"{', '.join(macs)} has it too" for address, macs in announcements.contested.items()}


def announce_what_is_alone(
    vantage: Vantage, addresses: Iterable[IPAddress], own: frozenset[str], is_router: bool
) -> dict[IPAddress, str]:
    """Announces those of ``addresses`` that no MAC but the host's ``own`` answers for; about 4 s.

    Returns for each that was not announced why. Raises :class:`NoAccess`.
    """
    wanted = tuple(dict.fromkeys(addresses))
    if vantage.frames is None:
        return dict.fromkeys(wanted, vantage.why_not or f"{vantage.name} sends no frames: that needs root")
    looked = look(vantage, wanted, pattern=AFTERWARDS)
    why_not = dict(looked.why_not)
    for address, answer in looked.answers.items():
        others = [holder.mac for holder in answer.foreign(own)]
        if others:
            why_not[address] = f"{', '.join(others)} has it too"
    free = [address for address in wanted if address not in why_not]
    return why_not | (announce(vantage.frames, free, is_router) if free else {})


def is_router(machine: Readable, interface: str) -> bool:
    """Whether the machine forwards IPv6 between its links, and so calls itself a router (RFC 4861, section 4.4)."""
    file = machine.read(f"/proc/sys/net/ipv6/conf/{interface}/forwarding")
    return file is not None and file.text.strip() not in ("", "0")


def main(words: list[str]) -> int:
    """The command; its output goes to the log of the change."""
    from fixed_anchor.machines.here import Here
    from fixed_anchor.observe import kernel
    from fixed_anchor.vantages.raw import RawVantage

    try:
        (name,) = words
        here = Here()
        links = kernel.links(here)
        link = next((link for link in links if link.facts.name == name), None)
        if link is None or link.facts.mac is None:
            raise NoAccess(f"{name} is not there, or has no MAC")
        addresses = [a.address.ip for a in link.addresses if a.origin != "link-local"]
        local = (a.address.ip for a in link.addresses if a.origin == "link-local")
        link_local = next((a for a in local if isinstance(a, IPv6Address)), None)
        vantage = RawVantage(name, link.facts.mac, link_local=link_local)
        own = frozenset(m for other in links for m in (other.facts.mac, other.facts.permanent_mac) if m)
        why_not = announce_what_is_alone(vantage, addresses, own, is_router(here, name))
    except (AnchorError, ValueError) as error:
        print(f"nothing was announced: {error}")
        return 1
    for address in addresses:
        print(f"announced: {address}" if address not in why_not else f"not announced: {address}: {why_not[address]}")
    return 0


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
