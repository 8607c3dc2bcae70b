"""What router advertisements and DHCPv6 gave an interface: what is in force, and neither declared nor leased."""

from __future__ import annotations

from fixed_anchor.core.addresses import IPAddress
from fixed_anchor.core.config import InterfaceConfig
from fixed_anchor.core.survey import Announced, Lease
from fixed_anchor.machines.readable import Readable
from fixed_anchor.observe.kernel import KernelLink, KernelRoute

#: The MTU of IPv6 on a link, ip-sysctl: the kernel, and NetworkManager, put there what routers announce.
MTU = "/proc/sys/net/ipv6/conf/{}/mtu"


def announced_on(
    machine: Readable,
    link: KernelLink,
    routes: tuple[KernelRoute, ...],
    resolvers: tuple[IPAddress, ...],
    search: tuple[str, ...],
    declared: InterfaceConfig | None,
    lease: Lease | None,
) -> Announced | None:
    """All of it; ``None`` where the interface is not configured by either.

    ``routes`` are those of the interface, ``resolvers`` and ``search`` what it uses; ``lease`` is its IPv4 one.
    """
    of_routers = [r for r in routes if r.protocol == "ra"]
    six = [a for a in link.addresses if a.address.version == 6 and a.origin in ("dhcp", "slaac")]
    if not of_routers and not six:
        return None
    known = (*(declared.resolvers or () if declared else ()), *(lease.resolvers if lease else ()))
    searched = (*(declared.search or () if declared else ()), *(lease.search if lease else ()))
    return Announced(
        resolvers=tuple(r for r in resolvers if r.version == 6 and r not in known),
        search=tuple(d for d in search if d not in searched),
        mtu=_mtu(machine, link, of_routers),
        routes=tuple(r.route for r in of_routers if not r.route.is_default and r.route.next_hop is not None),
        prefixes=tuple(dict.fromkeys(r.route.destination for r in routes if r.is_prefix)),
    )


def _mtu(machine: Readable, link: KernelLink, of_routers: list[KernelRoute]) -> int | None:
    """The MTU that routers announce (RFC 4861, section 4.6.4), where it is less than the link's."""
    file = machine.read(MTU.format(link.facts.name))
    text = file.text.strip() if file is not None else ""
    # systemd-networkd leaves the link alone, and says it of the routes.
    said = [r.mtu for r in of_routers if r.mtu is not None] + ([int(text)] if text.isdecimal() else [])
    least = min(said, default=None)
    return least if least is not None and link.mtu is not None and least < link.mtu else None
