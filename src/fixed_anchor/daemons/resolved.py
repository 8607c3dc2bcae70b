"""systemd-resolved, systemd-resolved.service(8): it loads the drop-ins of resolved.conf(5)."""

from __future__ import annotations

from fixed_anchor.change.steps import Step
from fixed_anchor.daemons.protocol import INTERFACE, Questions
from fixed_anchor.formats.resolved_conf import DROP_IN


class Resolved:
    """systemd-resolved. It takes a drop-in when it is started again."""

    name = "systemd-resolved"
    unit: str | None = "systemd-resolved.service"
    questions = Questions(
        commands=(("resolvectl", "dns"), ("resolvectl", "domain")),
        for_interface=(("resolvectl", "dns", INTERFACE), ("resolvectl", "domain", INTERFACE)),
        files=(DROP_IN,),
    )

    def load(self, path: str) -> tuple[Step, ...]:
        return (("systemctl", "restart", "systemd-resolved.service"),) if path == DROP_IN else ()

    def at_boot(self, path: str) -> tuple[Step, ...]:
        return ()
