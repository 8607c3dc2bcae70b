"""Giving a lease back whose address has gone: DHCPRELEASE, RFC 2131, section 4.4.6.

Run by the guard once a change is kept, as a command of its own, or from a seat where this program is not there:
``python -m fixed_anchor.workflow.linux.give_back INTERFACE MAC ADDRESS SERVER CLIENT-ID``.
"""

from __future__ import annotations

import sys
from collections.abc import Iterable, Iterator
from ipaddress import IPv4Address

from fixed_anchor.change.change import LeavingLease
from fixed_anchor.core.errors import AnchorError
from fixed_anchor.machines.protocol import Machine
from fixed_anchor.observe import kernel
from fixed_anchor.observe.stocktaking import look_at_kernel
from fixed_anchor.packets.arp_probes import QUICKLY, ArpProbes
from fixed_anchor.packets.dhcp_release import Release
from fixed_anchor.vantages.protocol import Frames

_MODULE = "fixed_anchor.workflow.linux.give_back"


def give_back_command(lease: LeavingLease) -> tuple[str, ...]:
    """The command that gives a lease back, for the guard of a host on which this program is."""
    words = (lease.interface, lease.mac, lease.address, lease.server, lease.client_id or "-")
    return (sys.executable, "-m", _MODULE, *words)


def give_back(
    frames: Frames, mac: str, address: IPv4Address, server: IPv4Address, router: IPv4Address | None, client_id: str
) -> str:
    """Sends the release from the address that has gone, and says how.

    The server is asked for by ARP; where it does not answer it is behind the ``router``.
    Raises :class:`~fixed_anchor.core.errors.NoAccess`. Servers do not acknowledge a release.
    """
    hops = [hop for hop in (server, router) if hop is not None]
    asked = ArpProbes(frames.mac, hops, QUICKLY, until_answered=True)
    frames.converse(asked)
    for hop in hops:
        macs = list(asked.holders[hop])
        if macs:
            identifier = bytes.fromhex(client_id) if client_id != "-" else None
            frames.converse(Release(mac, macs[0], address, server, identifier))
            way = "" if hop == server else f" by way of {hop}"
            return f"the lease of {address} was given back to {server}{way}; servers do not acknowledge that"
    return f"the lease of {address} was not given back: neither {server} nor a router answers ARP"


def router_on(machine: Machine, interface: str) -> IPv4Address | None:
    """The gateway of an interface that is in force."""
    routes = (r.route for r in kernel.routes(machine) if r.interface == interface and r.route.is_default)
    return next((r.next_hop for r in routes if isinstance(r.next_hop, IPv4Address)), None)


def give_back_from_seat(machine: Machine, leases: Iterable[LeavingLease]) -> Iterator[str]:
    """Gives leases of a reached host back from here, through a vantage there, and tells of each how it went."""
    survey = look_at_kernel(machine)
    for lease in leases:
        stays = f"the lease of {lease.address} stays until it ends"
        found = survey.interface(lease.interface)
        frames = machine.vantage(found).frames if found is not None else None
        if frames is None:
            yield f"{stays}: there is nothing on {machine.name} to give it back with"
            continue
        try:
            address, server = IPv4Address(lease.address), IPv4Address(lease.server)
            router = router_on(machine, lease.interface)
            yield give_back(frames, lease.mac, address, server, router, lease.client_id or "-")
        except (AnchorError, ValueError) as error:
            yield f"{stays}: {error}"


def main(words: list[str]) -> int:
    """The command; its output goes to the log of the change."""
    from fixed_anchor.machines.here import Here
    from fixed_anchor.vantages.raw import RawVantage

    try:
        interface, mac, address, server, client_id = words
        router = router_on(Here(), interface)
        frames = RawVantage(interface, mac)
        print(give_back(frames, mac, IPv4Address(address), IPv4Address(server), router, client_id))
    except (AnchorError, ValueError) as error:
        print(f"the lease was not given back: {error}")
        return 1
    return 0


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
