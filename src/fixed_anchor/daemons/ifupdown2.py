"""ifupdown2: its own ifup(8) and ifdown(8) over its own interfaces(5), with a lease client of its own for DHCP."""

from __future__ import annotations

from fixed_anchor.change.steps import Step, Steps
from fixed_anchor.core.config import LinkFacts
from fixed_anchor.daemons.bare import left_bare
from fixed_anchor.daemons.ifupdown import Ifupdown
from fixed_anchor.daemons.ifupdown_running import change_bridge, fixed_in_one_go, stop_client
from fixed_anchor.daemons.protocol import COPY, Governs, OwnParser, Questions, Seen, is_enabled, runs
from fixed_anchor.formats.interfaces2 import CONF
from fixed_anchor.formats.interfaces_read import MAIN
from fixed_anchor.formats.protocol import Declaration

#: It ends with status 1 for a warning, too, such as that a bridge needs no MTU.
OWN_PARSER = OwnParser(
    ("ifup", "--syntax-check", "-a", "-i", COPY + MAIN), folder="/etc/network/", joined=MAIN, complains="error"
)
#: Defaults that it gives to interfaces beside their stanzas.
POLICIES = ("/etc/network/ifupdown2/policy.d/*.json", "/var/lib/ifupdown2/policy.d/*.json")


class Ifupdown2(Ifupdown):
    """ifupdown2, where resolvers and leases are as ifupdown has them.

    It is never told to load everything (``ifreload -a``): that takes ports off bridges, and addresses off all links,
    which no file names. Nor does ``ifup`` of a link that is up do: it changes what it can, leaves addresses of IPv6 and
    routes where it fails, and says 0.
    """

    name = "ifupdown2"
    reads = "ifupdown2"
    busy: tuple[str, ...] = ("(^|/)(ifup|ifdown|ifreload|start-networking)( |$)",)
    charge = Questions(commands=(is_enabled(Ifupdown.unit),), files=(CONF,))
    further = Ifupdown.further.joined(Questions(files=POLICIES))

    def governs(self, interface: str, seen: Seen) -> Governs:
        return Governs(seen.active, (runs(self.unit, seen.active),))

    def steps(self, before: Declaration | None, after: Declaration | None, link: LinkFacts) -> Steps:
        was = before.config if before is not None else None
        becomes = after.config if after is not None else None
        if link.kind == "bridge":
            return change_bridge(was, becomes, link)
        # Whatever the files say, it takes down what it has brought up, and keeps what that was.
        down, up = ("ifdown", "--force", link.name), ("ifup", link.name)
        flush = ("ip", "address", "flush", "dev", link.name, "scope", "global")
        again: tuple[Step, ...] = (flush, ("ifup", "--force", link.name))
        if was is None:
            bare = left_bare(link)
            return Steps(activate=(up,), unload=(down,), reload=bare, escalate=bare, drop=(up,), drop_escalate=again)
        if becomes is None:
            return Steps(leave=(down,), activate=left_bare(link), reload=(up,), escalate=again)
        gently = fixed_in_one_go(was, becomes, link)
        stop: tuple[Step, ...] = (stop_client(link.name),) if link.client == "dhclient" else ()
        return Steps(
            leave=(down,) if gently is None else stop,
            activate=(up,) if gently is None else gently,
            unload=(down, flush),
            reload=(up,),
            escalate=again,
            drop=(down, flush, up) if gently is None else gently,
            drop_escalate=(down, flush, up),
            releases=gently is None and was.ipv4 == "dhcp",
        )
