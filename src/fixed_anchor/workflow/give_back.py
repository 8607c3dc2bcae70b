"""Giving a lease back whose address has gone: DHCPRELEASE, RFC 2131, section 4.4.6.

Run by the guard once a change is kept, as a command of its own:
``python -m fixed_anchor.workflow.give_back INTERFACE MAC ADDRESS SERVER CLIENT-ID``.
"""

from __future__ import annotations

import sys
from ipaddress import IPv4Address

from fixed_anchor.core.addresses import IPAddress
from fixed_anchor.core.errors import AnchorError
from fixed_anchor.packets.arp_probes import QUICKLY, ArpProbes
from fixed_anchor.packets.dhcp_release import Release
from fixed_anchor.vantages.raw import RawVantage

_MODULE = "fixed_anchor.workflow.give_back"


def give_back_command(
    interface: str, mac: str, address: IPAddress, server: IPAddress, client_id: str | None
) -> tuple[str, ...]:
    """The command that gives the lease of ``address`` back; ``client_id`` is in hexadecimal."""
    return (sys.executable, "-m", _MODULE, interface, mac, str(address), str(server), client_id or "-")


def give_back(
    interface: str, mac: str, address: IPv4Address, server: IPv4Address, router: IPv4Address | None, client_id: str
) -> str:
    """Sends the release from the address that has gone, and says how.

    The server is asked for by ARP; where it does not answer it is behind the ``router``.
    Raises :class:`~fixed_anchor.core.errors.NoAccess`. Servers do not acknowledge a release.
    """
    vantage = RawVantage(interface, mac)
    hops = [hop for hop in (server, router) if hop is not None]
    asked = ArpProbes(vantage.mac, hops, QUICKLY, until_answered=True)
    vantage.converse(asked)
    for hop in hops:
        macs = list(asked.holders[hop])
        if macs:
            identifier = bytes.fromhex(client_id) if client_id != "-" else None
            vantage.converse(Release(mac, macs[0], address, server, identifier))
            way = "" if hop == server else f" by way of {hop}"
            return f"the lease of {address} was given back to {server}{way}; servers do not acknowledge that"
    return f"the lease of {address} was not given back: neither {server} nor a router answers ARP"


def main(words: list[str]) -> int:
    """The command; its output goes to the log of the change."""
    from fixed_anchor.machines.here import Here
    from fixed_anchor.observe import kernel

    try:
        interface, mac, address, server, client_id = words
        routes = (r.route for r in kernel.routes(Here()) if r.interface == interface and r.route.is_default)
        router = next((r.next_hop for r in routes if isinstance(r.next_hop, IPv4Address)), None)
        print(give_back(interface, mac, IPv4Address(address), IPv4Address(server), router, client_id))
    except (AnchorError, ValueError) as error:
        print(f"the lease was not given back: {error}")
        return 1
    return 0


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
