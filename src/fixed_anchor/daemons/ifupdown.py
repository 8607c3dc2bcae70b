"""ifupdown: ifup(8) and ifdown(8) over interfaces(5), with a lease client of its own for DHCP."""

from __future__ import annotations

from fixed_anchor.change.steps import Step, Steps
from fixed_anchor.core.config import LinkFacts
from fixed_anchor.core.survey import FOR_EACH_LINK, NOBODY
from fixed_anchor.daemons.bare import ipv6_setting, left_bare
from fixed_anchor.daemons.ifupdown_running import change_bridge, fixed_in_one_go, stop_client
from fixed_anchor.daemons.protocol import (
    COPY,
    IN_DROP_IN,
    IN_FILES,
    IN_RESOLV_CONF,
    INTERFACE,
    NAMES,
    Governs,
    OwnParser,
    Questions,
    Seen,
    is_enabled,
    runs,
)
from fixed_anchor.formats.interfaces_read import MAIN
from fixed_anchor.formats.protocol import Declaration

OWN_PARSER = OwnParser(
    ("ifup", "--no-act", "--force", "--no-mappings", "-i", COPY + MAIN, NAMES), folder="/etc/network/", joined=MAIN
)
_IFSTATE = "/run/network/ifstate"

#: The programs that it starts for DHCP: processes of their own, one for each interface.
LEASE_CLIENTS = ("dhclient", "dhcpcd", "udhcpc")
#: dhclient.leases(5): that of one interface, or one for all.
LEASES = ("/var/lib/dhcp/dhclient.{}.leases", "/var/lib/dhcp/dhclient.leases")
#: What dhcpcd(8) holds on an interface, as variables of a shell.
DUMP_LEASE = ("dhcpcd", "-U", INTERFACE)
#: dhcpcd.conf(5), and the DUID that it made, by which it calls itself to servers where that file says `duid`.
DHCPCD_CONF, DHCPCD_DUID = "/etc/dhcpcd.conf", "/var/lib/dhcpcd/duid"


def _kernel_hears_routers(name: str) -> tuple[Step, ...]:
    """Has the kernel hear routers (ip-sysctl, Linux), as it will after a boot without dhcpcd.

    dhcpcd hears them itself and keeps the kernel from it, also where only `inet dhcp` is declared, and when it ends it
    leaves the kernel like that.
    """
    return tuple(
        ipv6_setting(name, setting, value)
        for setting, value in (("addr_gen_mode", "0"), ("autoconf", "1"), ("accept_ra", "1"))
    )


class Ifupdown:
    """ifup and ifdown, as ``networking.service`` or an administrator runs them."""

    name = "ifupdown"
    unit = "networking.service"
    reads = "ifupdown"
    own_client, numbers_metrics, joins_resolvers = True, False, False
    busy: tuple[str, ...] = ("(^|/)(ifup|ifdown)( |$)",)
    charge = Questions(commands=(is_enabled(unit),), files=(_IFSTATE,))
    further = Questions(files=("/var/lib/dhcp/dhclient*.leases", "/etc/dhcp/dhclient.conf", DHCPCD_CONF, DHCPCD_DUID))

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
        if writer == FOR_EACH_LINK:
            # ifup's own hook for systemd-resolved breaks DNS: the daemon is told directly.
            return IN_DROP_IN
        return IN_RESOLV_CONF if writer == NOBODY else IN_FILES

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
            return change_bridge(was, becomes, link)
        # Aliases are names of their own to ifupdown: their addresses go, and come, with these.
        old = before.aliases if before is not None else ()
        new = after.aliases if after is not None else ()
        gently = fixed_in_one_go(was, becomes, link) if old == new else None
        downs = (*(("ifdown", "--force", alias) for alias in old), down)
        undone = (*(("ifdown", "--force", alias) for alias in new), down)
        ups, again = ((up, *(("ifup", alias) for alias in names)) for names in (new, old))
        stop: tuple[Step, ...] = (stop_client(link.name),) if link.client == "dhclient" else ()
        if was is None or becomes is None:
            # Without a stanza ifup does nothing, and ifdown what the state that it keeps says.
            bare = left_bare(link)
            if was is None:
                return Steps(activate=ups, unload=undone, reload=bare, escalate=bare, drop=ups, drop_escalate=ups)
            return Steps(leave=downs, activate=bare, reload=again, escalate=(flush, ("ifup", "--force", link.name)))
        ends = link.client == "dhcpcd" and was.ipv4 == "dhcp" != becomes.ipv4
        hears = _kernel_hears_routers(link.name) if ends and becomes.hears_routers else ()
        return Steps(
            leave=downs if gently is None else stop,
            activate=(*hears, *ups) if gently is None else gently,
            unload=(*undone, flush),
            reload=again,
            escalate=(flush, ("ifup", "--force", link.name)),
            # What is up already is not brought up again: ifup would do nothing.
            drop=(*undone, flush, *ups) if gently is None else gently,
            drop_escalate=(*undone, flush, *ups),
            releases=gently is None and was is not None and was.ipv4 == "dhcp",
        )
