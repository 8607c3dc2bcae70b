"""chronyd(8), the time daemon that chronyc(1) speaks to."""

from __future__ import annotations

from fixed_anchor.change.steps import Step
from fixed_anchor.daemons.protocol import Questions
from fixed_anchor.formats.chrony_conf import FOLDERS, MAIN, OWN

#: Its own word for its sources: all, by the names under which they were given, with commas between.
SERVERS = ("chronyc", "-c", "-N", "sources", "-a")


class Chrony:
    """chronyd as one family of distributions has it: its ``unit``, and where its files lie."""

    def __init__(self, unit: str, main: str) -> None:
        self.name = unit.removesuffix(".service")
        self.unit = unit
        self.main = main
        folders = [f"{folder}/{OWN}.*" for folder in FOLDERS]
        self.questions = Questions(commands=(SERVERS,), files=(*MAIN, *folders, f"/etc/systemd/system/*.wants/{unit}"))

    def load(self, path: str) -> tuple[Step, ...]:
        if path.endswith(f"/{OWN}.sources"):
            # It can be spoken to without its unit, on hosts without systemd, too; once is enough.
            return (("chronyc", "reload", "sources"),) if self.main == MAIN[0] else ()
        of_debian = path.startswith("/etc/chrony/")
        is_own = path in MAIN or (path.endswith(f"/{OWN}.conf") and path.startswith("/etc/chrony"))
        return (("systemctl", "restart", self.unit),) if is_own and of_debian == (self.main == MAIN[0]) else ()

    def at_boot(self, path: str) -> tuple[Step, ...]:
        return ()

    def servers(self, out: str) -> tuple[str, ...]:
        """The sources in the answer to :data:`SERVERS`: lines of ``^,?,NAME,...``."""
        words = (line.split(",") for line in out.splitlines())
        return tuple(dict.fromkeys(w[2] for w in words if len(w) > 2))
