"""ifupdown: ifup(8) and ifdown(8) over interfaces(5), with a lease client of its own for DHCP."""

from __future__ import annotations

from fixed_anchor.change.steps import Fed, Step, Steps, route_words
from fixed_anchor.core.config import InterfaceConfig, LinkFacts
from fixed_anchor.core.errors import NotSupported
from fixed_anchor.daemons.protocol import (
    IN_DROP_IN,
    IN_FILES,
    IN_RESOLV_CONF,
    Governs,
    Questions,
    Seen,
    is_enabled,
    runs,
)
from fixed_anchor.formats.protocol import Declaration

_IFSTATE = "/run/network/ifstate"

#: The programs that it starts for DHCP: processes of their own, one for each interface.
LEASE_CLIENTS = ("dhclient", "dhcpcd", "udhcpc")
#: dhclient.leases(5): that of one interface, or one for all.
LEASES = ("/var/lib/dhcp/dhclient.{}.leases", "/var/lib/dhcp/dhclient.leases")


class Ifupdown:
    """ifup and ifdown, as ``networking.service`` or an administrator runs them."""

    name = "ifupdown"
    unit = "networking.service"
    busy: tuple[str, ...] = ("(^|/)(ifup|ifdown)( |$)",)
    charge = Questions(commands=(is_enabled(unit),), files=(_IFSTATE,))
    further = Questions(files=("/var/lib/dhcp/dhclient*.leases", "/etc/dhcp/dhclient.conf"))

    def governs(self, interface: str, seen: Seen) -> Governs:
        listed = {line.partition("=")[0] for line in seen.texts.get(_IFSTATE, "").split()}
        is_up = interface in listed
        evidence = [runs(self.unit, seen.active or is_up)]
        if is_up:
            evidence.append(f"{_IFSTATE} lists it as up")
        return Governs(seen.active or is_up, tuple(evidence))

    def profile(self, interface: str, seen: Seen) -> tuple[str, ...]:
        return ()

    def resolver_place(self, writer: str) -> str:
        if writer == "systemd-resolved":
            # ifup's own hook for systemd-resolved breaks DNS: the daemon is told directly.
            return IN_DROP_IN
        return IN_RESOLV_CONF if writer == "nobody" else IN_FILES

    def lease_file(self, interface: str) -> str | None:
        return "/etc/dhcp/dhclient.conf"

    def steps(self, before: Declaration | None, after: Declaration | None, link: LinkFacts) -> Steps:
        # ifdown must run while the old stanza is in the file: it stops the lease client that the
        # stanza started. With the new one in place it would not, and the client would go on.
        down, up = ("ifdown", "--force", link.name), ("ifup", link.name)
        flush = ("ip", "address", "flush", "dev", link.name, "scope", "global")
        was = before.config if before is not None else None
        becomes = after.config if after is not None else None
        if link.kind == "bridge":
            return _bridge(was, becomes, link)
        # Aliases are names of their own to ifupdown: their addresses go, and come, with these.
        old = before.aliases if before is not None else ()
        new = after.aliases if after is not None else ()
        gently = _gently(was, becomes, link) if old == new else None
        downs = (*(("ifdown", "--force", alias) for alias in old), down)
        undone = (*(("ifdown", "--force", alias) for alias in new), down)
        ups, again = ((up, *(("ifup", alias) for alias in names)) for names in (new, old))
        stop: tuple[Step, ...] = (_stop(link.name),) if link.client == "dhclient" else ()
        return Steps(
            leave=downs if gently is None else stop,
            activate=ups if gently is None else gently,
            unload=(*undone, flush),
            reload=again,
            escalate=(flush, ("ifup", "--force", link.name)),
            # What is up already is not brought up again: ifup would do nothing.
            drop=(*undone, flush, *ups) if gently is None else gently,
            drop_escalate=(*undone, flush, *ups),
            releases=gently is None and was is not None and was.ipv4 == "dhcp",
        )


def _bridge(was: InterfaceConfig | None, becomes: InterfaceConfig | None, link: LinkFacts) -> Steps:
    """The steps of a bridge: ifdown would take it away, and the ports that others have put on it with it.

    It is changed as it runs, both ways. Raises :class:`NotSupported` for what cannot be changed so.
    """
    refused = NotSupported(
        f"ifdown would take the bridge {link.name} away from the ports of its guests, and only its IPv4 addresses, "
        "gateway and lease can be changed while it stays",
        remedy="leave IPv6, MTU and resolvers of its stanza as they are, or change the files and boot the host anew",
    )
    if was is None or becomes is None or not {was.ipv4, becomes.ipv4} <= {"dhcp", "fixed"}:
        raise refused
    if not _only_ipv4(was, becomes) or _leased_by_another(link):
        raise refused
    there, back = _anew(becomes, link.name), _anew(was, link.name)
    gently = _gently(was, becomes, link)
    stop: tuple[Step, ...] = (_stop(link.name),)
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


def _anew(config: InterfaceConfig, name: str) -> tuple[Step, ...]:
    """Commands after which a link that stays up has the IPv4 state of ``config``, whatever it had before."""
    flush = f"address flush dev {name} scope global\nroute flush dev {name} proto boot\n"
    if config.ipv4 == "dhcp":
        pid, leases = f"/run/dhclient.{name}.pid", f"/var/lib/dhcp/dhclient.{name}.leases"
        return (Fed(("ip", "-4", "-batch", "-"), flush), ("dhclient", "-4", "-i", "-pf", pid, "-lf", leases, name))
    lines = [f"address replace {a} brd + dev {name}" for a in config.of_family(4)]
    lines += [f"route replace {' '.join(route_words(r, name))}" for r in config.routes if r.destination.version == 4]
    return (Fed(("ip", "-4", "-batch", "-"), flush + "".join(f"{line}\n" for line in lines)),)


def _leased_by_another(link: LinkFacts) -> bool:
    """Whether an IPv4 address comes from a lease client that is not dhclient, or from none that is seen."""
    return any(a.version == 4 for a in link.leased) and link.client != "dhclient"


def _stop(name: str) -> Step:
    """Ends dhclient without giving its lease back: the address may still be needed."""
    return ("dhclient", "-x", "-pf", f"/run/dhclient.{name}.pid", name)


def _only_ipv4(before: InterfaceConfig, after: InterfaceConfig) -> bool:
    """Whether nothing but IPv4 addressing changes. Hooks of ifup tell other programs of resolvers."""
    rest = [
        (c.ipv6, c.of_family(6), [r for r in c.routes if r.destination.version == 6], c.mtu) for c in (before, after)
    ]
    return rest[0] == rest[1] and not after.resolvers and not after.search


def _gently(before: InterfaceConfig | None, after: InterfaceConfig | None, link: LinkFacts) -> tuple[Step, ...] | None:
    """Commands that bring the new IPv4 state into force in one go, with the link up all the time.

    ifdown and ifup take the link down and run for a second; the kernel can be told in a
    moment. ``None`` where more than fixed IPv4 addressing changes: then ifup must do it all.
    """
    if before is None or after is None or after.ipv4 != "fixed" or before.ipv4 not in ("dhcp", "fixed"):
        return None
    if not _only_ipv4(before, after):
        return None
    if not link.in_kernel or _leased_by_another(link):
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
        lines.append(f"route flush {dev} proto boot")
        lines += ["route add " + " ".join(route_words(r, link.name)) for r in routes[1]]
    text = "".join(f"{line}\n" for line in lines)
    return (Fed(("ip", "-4", "-batch", "-"), text),)
