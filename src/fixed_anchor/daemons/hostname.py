"""hostname(1): it sets the kernel's name of the host from hostname(5)."""

from __future__ import annotations

from fixed_anchor.change.steps import Step
from fixed_anchor.daemons.protocol import Questions
from fixed_anchor.formats.host_names import HOSTNAME, HOSTS


class Hostname:
    """The host's own name."""

    name = "hostname"
    unit: str | None = None
    questions = Questions(files=(HOSTNAME, HOSTS))

    def load(self, path: str) -> tuple[Step, ...]:
        return (("hostname", "-F", HOSTNAME),) if path == HOSTNAME else ()
