"""hostname(1): it sets the kernel's name of the host from hostname(5)."""

from __future__ import annotations

import msgspec

from fixed_anchor.change.steps import Step, Steps
from fixed_anchor.daemons.protocol import Questions
from fixed_anchor.formats.host_names import HOSTNAME, HOSTS


class Hostname:
    """The host's own name."""

    name = "hostname"
    unit: str | None = None
    questions = Questions(files=(HOSTNAME, HOSTS))

    def load(self, path: str) -> tuple[Step, ...]:
        return (("hostname", "-F", HOSTNAME),) if path == HOSTNAME else ()

    def at_boot(self, path: str) -> tuple[Step, ...]:
        # The first process has set the name from this file before anything else could run.
        return self.load(path)


def with_former_name(steps: Steps, name: str) -> Steps:
    """The same steps where no file said the former ``name``: rolled back it is set as it was, once the file is gone."""
    former: dict[Step, Step] = {("hostname", "-F", HOSTNAME): ("hostname", name)}

    def told(phase: tuple[Step, ...]) -> tuple[Step, ...]:
        return tuple(former.get(step, step) for step in phase)

    return msgspec.structs.replace(steps, reload=told(steps.reload), boot=told(steps.boot))
