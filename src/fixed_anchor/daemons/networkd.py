"""systemd-networkd: networkctl(1), systemd-networkd.service(8)."""

from __future__ import annotations

from fixed_anchor.change.steps import Steps
from fixed_anchor.core.config import LinkFacts
from fixed_anchor.core.programs import NETWORKD_RELOAD
from fixed_anchor.core.survey import NOBODY
from fixed_anchor.daemons.bare import left_bare
from fixed_anchor.daemons.protocol import IN_FILES, IN_RESOLV_CONF, Governs, Questions, Seen, is_enabled, runs
from fixed_anchor.formats.protocol import Declaration

#: Where it keeps a record of each lease, by the number of the link.
LEASES = "/run/systemd/netif/leases/"


class Networkd:
    """systemd-networkd, with ``.network`` files of its own or of netplan's making."""

    name = "systemd-networkd"
    unit = "systemd-networkd.service"
    reads = "networkd"
    own_client, numbers_metrics, joins_resolvers = False, False, False
    busy: tuple[str, ...] = ("networkctl (reload|reconfigure|up|down)",)
    charge = Questions(commands=(is_enabled(unit),))
    further = Questions(files=(f"{LEASES}*",))

    def governs(self, interface: str, seen: Seen) -> Governs:
        return Governs(seen.active, (runs(self.unit, seen.active),))

    def profile(self, interface: str, seen: Seen) -> tuple[str, ...]:
        return ()

    def resolver_place(self, writer: str) -> str:
        # It tells its resolvers to systemd-resolved alone.
        return IN_RESOLV_CONF if writer == NOBODY else IN_FILES

    def lease_file(self, interface: str) -> str | None:
        return None

    def steps(self, before: Declaration | None, after: Declaration | None, link: LinkFacts) -> Steps:
        # A reload touches no interface whose files are as before. It exits 0 for much that goes wrong, and
        # sometimes leaves a link half configured: verification and the guard look at the result.
        restart = ("systemctl", "restart", self.unit)
        load = (restart if NETWORKD_RELOAD in link.lacks else ("networkctl", "reload"),)
        # A link that loses its file loses its addresses and routes, and stays switched on.
        bare = left_bare(link)
        if before is None:
            stuck = (restart, *bare)
            return Steps(activate=load, reload=(*load, *bare), escalate=stuck, drop=load, drop_escalate=load)
        if after is None:
            return Steps(activate=(*load, *bare), reload=load, escalate=(("networkctl", "reconfigure", link.name),))
        again = (("networkctl", "reconfigure", link.name), restart)
        return Steps(activate=load, reload=load, escalate=again, drop=load, drop_escalate=again)
