"""The network scripts of the Red Hat family: ifup(8) and ifdown(8) over ifcfg files."""

from __future__ import annotations

from fixed_anchor.change.steps import Steps
from fixed_anchor.core.config import LinkFacts
from fixed_anchor.daemons.bare import left_bare
from fixed_anchor.daemons.protocol import IN_FILES, Governs, Questions, Seen, is_enabled, runs
from fixed_anchor.formats.protocol import Declaration


class NetworkScripts:
    """The scripts that ``network.service`` runs."""

    name = "network-scripts"
    unit = "network.service"
    reads = "ifcfg"
    own_client, numbers_metrics, joins_resolvers = False, False, True
    busy: tuple[str, ...] = ("(^|/)(ifup|ifdown)( |$)",)
    charge = Questions(commands=(is_enabled(unit),))
    further = Questions(files=("/etc/dhcp/dhclient-*.conf",))

    def governs(self, interface: str, seen: Seen) -> Governs:
        return Governs(seen.active, (runs(self.unit, seen.active),))

    def profile(self, interface: str, seen: Seen) -> tuple[str, ...]:
        return ()

    def resolver_place(self, writer: str) -> str:
        return IN_FILES

    def lease_file(self, interface: str) -> str | None:
        return f"/etc/dhcp/dhclient-{interface}.conf"

    def steps(self, before: Declaration | None, after: Declaration | None, link: LinkFacts) -> Steps:
        # The lease client is ended by what the file says when `ifdown` runs: so it runs while that is there.
        down, up = ("ifdown", link.name), ("ifup", link.name)
        flush = ("ip", "address", "flush", "dev", link.name, "scope", "global")
        bare = left_bare(link)
        if before is None:
            return Steps(
                activate=(up,), unload=(down,), reload=bare, escalate=bare, drop=(up,), drop_escalate=(flush, up)
            )
        if after is None:
            return Steps(leave=(down,), activate=bare, reload=(up,), escalate=(flush, up))
        return Steps(
            leave=(down,),
            activate=(up,),
            unload=(down,),
            reload=(up,),
            escalate=(flush, up),
            drop=(down, flush, up),
            drop_escalate=(flush, up),
        )
