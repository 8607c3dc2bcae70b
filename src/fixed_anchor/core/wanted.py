"""From a plan to the configuration one interface shall have."""

from __future__ import annotations

import msgspec

from fixed_anchor.core.addresses import IPAddress, IPInterface, default_network, with_prefix
from fixed_anchor.core.config import Fallback, InterfaceConfig, Route
from fixed_anchor.core.plan import Gateway, InterfacePlan, Plan, Segment


def interface_address(segment: Segment, address: IPAddress, prefix: int | None) -> IPInterface:
    """``address`` with its own prefix, or that of the segment's subnet it lies in.

    An address outside every subnet gets the longest prefix: the finding
    ``outside-subnet`` stops it before it is used.
    """
    if prefix is None:
        subnet = segment.subnet_of(address)
        prefix = subnet.prefixlen if subnet else address.max_prefixlen
    return with_prefix(address, prefix)


def held_beside(config: InterfaceConfig, old: tuple[IPInterface, ...]) -> InterfaceConfig:
    """``config`` with ``old`` addresses held as well, after its own.

    One inside a subnet of the new ones is held alone (/32, /128): what is left of it when it goes
    must not take the others along, as the kernel does with the further addresses of a subnet.
    """
    networks = [a.network for a in config.addresses]

    def alone(address: IPInterface) -> IPInterface:
        inside = any(address.version == n.version and address.ip in n for n in networks)
        return with_prefix(address.ip, address.max_prefixlen) if inside else address

    added = tuple(alone(a) for a in old if all(a.ip != own.ip for own in config.addresses))
    return msgspec.structs.replace(config, addresses=(*config.addresses, *added))


def gateways_of(interface: InterfacePlan, segment: Segment) -> tuple[Gateway, ...]:
    """The gateways an interface uses: its own where it names any, else its segment's."""
    return segment.gateways if interface.gateways is None else interface.gateways


def _fallback(interface: InterfacePlan, segment: Segment) -> Fallback | None:
    """What it shall have where no DHCP server answers: with the gateway and the resolvers that it would be given."""
    if not interface.fallback:
        return None if interface.fallback is None else Fallback()
    held = interface.fallback[0]
    gateways = [g.address for g in gateways_of(interface, segment) if g.address.version == 4]
    resolvers = segment.resolvers if interface.resolvers is None else interface.resolvers
    return Fallback(
        interface_address(segment, held.address, held.prefix),
        gateways[0] if gateways else None,
        tuple(r for r in resolvers if r.version == 4),
    )


def wanted_config(plan: Plan, interface: InterfacePlan) -> InterfaceConfig:
    """The configuration that ``plan`` wants for ``interface``.

    Prefix, gateway, resolvers and search domains come from the segment unless the
    interface names its own. Only a fixed family gets a default route; an interface
    with no fixed family leaves resolvers and search domains to the lease.
    """
    segment = plan.segments[interface.segment]
    methods = {4: interface.ipv4, 6: interface.ipv6}
    addresses = tuple(
        interface_address(segment, held.address, held.prefix)
        for held in interface.hold
        if methods[held.address.version] == "fixed"
    )
    routes: list[Route] = []
    for gateway in gateways_of(interface, segment):
        version = gateway.address.version
        family = [a for a in addresses if a.version == version]
        if methods[version] != "fixed" or not family:
            continue
        on_link = not any(gateway.address in a.network for a in family)
        metric = gateway.metric if gateway.metric is not None else interface.metric
        routes.append(Route(default_network(version), gateway.address, metric, on_link))
    routes.extend(interface.routes)
    any_fixed = "fixed" in methods.values()
    all_leased = not any_fixed and any(m in ("dhcp", "ra") for m in methods.values())
    resolvers, search = interface.resolvers, interface.search
    if resolvers is None and (any_fixed or all_leased):
        resolvers = segment.resolvers if any_fixed else ()
    if search is None and (any_fixed or all_leased):
        search = segment.search if any_fixed else ()
    carries_default = interface.gateways is None or bool(interface.gateways)
    return InterfaceConfig(
        interface=interface.name,
        ipv4=interface.ipv4,
        ipv6=interface.ipv6,
        addresses=addresses,
        routes=tuple(routes),
        resolvers=resolvers,
        search=search,
        mtu=interface.mtu,
        time_servers=interface.time_servers,
        fallback=_fallback(interface, segment),
        netbios_servers=interface.netbios_servers,
        # An interface that must not carry the default route must not bring its resolvers either, and
        # resolvers that the plan names for it are not to be mixed with those of the lease.
        lease_routes=carries_default,
        lease_resolvers=carries_default and not interface.resolvers,
    )


def gateways_asked(plan: Plan, interface: InterfacePlan) -> tuple[IPAddress, ...]:
    """The gateways that the interface will use: those of its fixed families."""
    gateways = gateways_of(interface, plan.segments[interface.segment])
    four, six = interface.ipv4 == "fixed", interface.ipv6 == "fixed"
    return tuple([g.address for g in gateways if (four if g.address.version == 4 else six)])
