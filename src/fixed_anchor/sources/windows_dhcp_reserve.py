"""A reservation for a Windows DHCP server: the command that it takes.

No export is drafted for it: importing one leaves a scope that is there as it is, and overwriting the scope replaces
all of it, with what was leased and reserved since the export.
"""

from __future__ import annotations

from fixed_anchor.sources.protocol import Reservation


def line(wanted: Reservation) -> str:
    """The command of its own administration; of IPv6 it wants the client's DUID, which nobody has told."""
    if ":" in wanted.address:
        return f"Add-DhcpServerv6Reservation -IPAddress {wanted.address} -Name {wanted.name} with the client's DUID"
    scope = wanted.subnet.partition("/")[0]
    client = wanted.mac.replace(":", "-")
    return (
        f"Add-DhcpServerv4Reservation -ScopeId {scope} -IPAddress {wanted.address} -ClientId {client} "
        f"-Name {wanted.name}"
    )
