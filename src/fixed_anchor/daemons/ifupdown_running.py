"""Commands that change a link of interfaces(5) as it runs: ifdown would take a bridge away from its ports."""

from __future__ import annotations

from fixed_anchor.change.steps import Fed, Step, Steps, route_words
from fixed_anchor.core.config import InterfaceConfig, LinkFacts
from fixed_anchor.core.errors import NotSupported
from fixed_anchor.daemons.bare import ipv6_setting


def stop_client(name: str) -> Step:
    """Ends dhclient without giving its lease back: the address may still be needed."""
    return ("dhclient", "-x", "-pf", f"/run/dhclient.{name}.pid", name)


def leased_by_another(link: LinkFacts) -> bool:
    """Whether an IPv4 address comes from a lease client that is not dhclient, or from none that is seen."""
    return any(a.version == 4 for a in link.leased) and link.client != "dhclient"


def change_bridge(was: InterfaceConfig | None, becomes: InterfaceConfig | None, link: LinkFacts) -> Steps:
    """The steps of a bridge, which stays all the time: its addresses, gateways, MTU and resolvers, both ways.

    Raises :class:`NotSupported` for what cannot be changed so.
    """
    if was is None or becomes is None:
        raise _refused(link, "its stanza must be there before and after")
    if not {was.ipv4, becomes.ipv4} <= {"dhcp", "fixed", "off"} or leased_by_another(link):
        raise _refused(link, "its lease client is none that can be told so")
    if "dhcp" in (was.ipv6, becomes.ipv6) and (was.ipv6, was.of_family(6)) != (becomes.ipv6, becomes.of_family(6)):
        raise _refused(link, "DHCPv6 is none of what can be changed so")
    there, back = _anew(was, becomes, link), _anew(becomes, was, link)
    gently = fixed_in_one_go(was, becomes, link)
    stop: tuple[Step, ...] = (stop_client(link.name),)
    return Steps(
        leave=stop if link.client == "dhclient" else (),
        activate=gently or there,
        # In the new state a lease client runs where it asks for a lease.
        unload=stop if becomes.ipv4 == "dhcp" else (),
        reload=back,
        escalate=back,
        drop=gently or there,
        drop_escalate=there,
    )


def _refused(link: LinkFacts, why: str) -> NotSupported:
    return NotSupported(
        f"ifdown would take the bridge {link.name} away from the ports of its guests, and it cannot be changed while "
        f"it stays: {why}",
        remedy="leave that as it is, or change the files and reboot the host",
    )


def _anew(before: InterfaceConfig, config: InterfaceConfig, link: LinkFacts) -> tuple[Step, ...]:
    """Commands after which a link that stays up has the state of ``config``, whatever it had of ``before``."""
    steps: list[Step] = []
    name = link.name
    if config.mtu != before.mtu and (mtu := config.mtu or link.mtu) is not None:
        steps.append(("ip", "link", "set", "dev", name, "mtu", str(mtu)))
    if _of(before, 4) != _of(config, 4):
        steps += _ipv4_anew(config, name)
    if _of(before, 6) != _of(config, 6):
        steps += _ipv6_anew(config, name)
    if (before.resolvers, before.search) != (config.resolvers, config.search):
        steps.append(_resolvers(config, name))
    return tuple(steps)


def _of(config: InterfaceConfig, version: int) -> object:
    routes = [r for r in config.routes if r.destination.version == version]
    return config.method(version), config.of_family(version), routes, version == 6 and config.accepts_ra


def _ipv4_anew(config: InterfaceConfig, name: str) -> list[Step]:
    # A default route of ifupdown2's calls itself the kernel's.
    flush = (
        f"address flush dev {name} scope global\nroute flush dev {name} proto boot\n"
        f"route flush exact 0.0.0.0/0 dev {name}\n"
    )
    if config.ipv4 == "dhcp":
        pid, leases = f"/run/dhclient.{name}.pid", f"/var/lib/dhcp/dhclient.{name}.leases"
        return [Fed(("ip", "-4", "-batch", "-"), flush), ("dhclient", "-4", "-i", "-pf", pid, "-lf", leases, name)]
    lines = [f"address replace {a} brd + dev {name}" for a in config.of_family(4)]
    lines += [f"route replace {' '.join(route_words(r, name))}" for r in config.routes if r.destination.version == 4]
    return [Fed(("ip", "-4", "-batch", "-"), flush + "".join(f"{line}\n" for line in lines))]


def _ipv6_anew(config: InterfaceConfig, name: str) -> list[Step]:
    """What ifup does of IPv6: it sets addresses and gateways, and says whether routers are listened to."""
    listens = config.ipv6 == "ra" or config.accepts_ra
    steps: list[Step] = [ipv6_setting(name, "accept_ra", "1" if listens else "0")]
    flush = (
        f"address flush dev {name} scope global\nroute flush dev {name} proto boot\n"
        f"route flush dev {name} proto ra\nroute flush exact ::/0 dev {name}\n"
    )
    lines = [f"address replace {a} dev {name}" for a in config.of_family(6)]
    lines += [f"route replace {' '.join(route_words(r, name))}" for r in config.routes if r.destination.version == 6]
    if listens:
        # Begun anew, IPv6 asks for routers; of a bridge nothing else goes down with it.
        steps += [ipv6_setting(name, "disable_ipv6", value) for value in ("1", "0")]
    return [*steps, Fed(("ip", "-6", "-batch", "-"), flush + "".join(f"{line}\n" for line in lines))]


def _resolvers(config: InterfaceConfig, name: str) -> Step:
    """What its hook tells resolvconf(8) of the options of a stanza, by the name that it uses."""
    lines = [f"nameserver {r}" for r in config.resolvers or ()]
    lines += [f"search {' '.join(config.search)}"] if config.search else []
    if not lines:
        return ("resolvconf", "-d", f"{name}.inet")
    return Fed(("resolvconf", "-a", f"{name}.inet"), "".join(f"{line}\n" for line in lines))


def only_ipv4(before: InterfaceConfig, after: InterfaceConfig) -> bool:
    """Whether nothing but IPv4 addressing changes. Hooks of ifup tell other programs of resolvers."""
    rest = [
        (c.ipv6, c.of_family(6), [r for r in c.routes if r.destination.version == 6], c.mtu) for c in (before, after)
    ]
    return rest[0] == rest[1] and not after.resolvers and not after.search


def fixed_in_one_go(
    before: InterfaceConfig | None, after: InterfaceConfig | None, link: LinkFacts
) -> tuple[Step, ...] | None:
    """Commands that bring the new IPv4 state into force in one go, with the link up all the time.

    ifdown and ifup take the link down and run for a second; the kernel can be told in a
    moment. ``None`` where more than fixed IPv4 addressing changes: then ifup must do it all.
    """
    if before is None or after is None or after.ipv4 != "fixed" or before.ipv4 not in ("dhcp", "fixed"):
        return None
    if not only_ipv4(before, after):
        return None
    if not link.in_kernel or leased_by_another(link):
        return None
    wanted, held = after.of_family(4), [a for a in link.in_kernel if a.version == 4]
    dev, forever = f"dev {link.name}", "valid_lft forever preferred_lft forever"
    anew = held[:1] != list(wanted[:1])
    # A lone address (/32) belongs to no subnet and comes first: so it is never away.
    lines = [f"address replace {a} {dev} {forever}" for a in wanted if a.network.prefixlen == 32]
    # The first address of a subnet is the preferred source, and takes the further ones along when it goes.
    going = [a for a in held if a not in wanted or (anew and a.network.prefixlen < 32)]
    lines += [f"address del {a} {dev}" for a in going]
    for address in wanted:
        if address.network.prefixlen < 32 and (anew or address not in held or address in link.leased):
            broadcast = "brd + " if address.network.prefixlen < 31 else ""
            lines.append(f"address replace {address} {broadcast}{dev} {forever}")
    routes = [[r for r in c.routes if r.destination.version == 4] for c in (before, after)]
    if anew or before.ipv4 == "dhcp" or routes[0] != routes[1]:
        # A default route of ifupdown2's calls itself the kernel's.
        lines += [f"route flush {dev} proto boot", f"route flush exact 0.0.0.0/0 {dev}"]
        lines += ["route add " + " ".join(route_words(r, link.name)) for r in routes[1]]
    text = "".join(f"{line}\n" for line in lines)
    return (Fed(("ip", "-4", "-batch", "-"), text),)
