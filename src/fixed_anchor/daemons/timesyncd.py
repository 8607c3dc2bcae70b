"""systemd-timesyncd, systemd-timesyncd.service(8): it takes its drop-ins when it is started again."""

from __future__ import annotations

from fixed_anchor.change.steps import Step
from fixed_anchor.daemons.protocol import Questions
from fixed_anchor.formats.timesyncd_conf import DROP_IN

#: Its own word for its servers: those of links come before those of the system, timedatectl(1).
SERVERS = ("timedatectl", "show-timesync")


class Timesyncd:
    """systemd-timesyncd."""

    name = "systemd-timesyncd"
    unit = "systemd-timesyncd.service"
    questions = Questions(
        commands=(SERVERS,),
        files=(DROP_IN, f"/etc/systemd/system/*.wants/{unit}", f"/lib/systemd/system/{unit}"),
    )

    def load(self, path: str) -> tuple[Step, ...]:
        return (("systemctl", "restart", self.unit),) if path == DROP_IN else ()

    def at_boot(self, path: str) -> tuple[Step, ...]:
        return ()

    def servers(self, out: str) -> tuple[str, ...]:
        """The servers in the answer to :data:`SERVERS`."""
        said = dict(line.partition("=")[::2] for line in out.splitlines())
        return tuple(w for key in ("LinkNTPServers", "SystemNTPServers") for w in said.get(key, "").split())
