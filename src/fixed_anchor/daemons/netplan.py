"""netplan(5)'s generator: it turns netplan's files into those of the daemon that carries them out."""

from __future__ import annotations

from fixed_anchor.change.steps import Steps
from fixed_anchor.daemons.protocol import COPY, OwnParser

#: Shows it in the middle of something, as a daemon's ``busy`` does.
BUSY = ("netplan (try|apply)",)

#: Where its packages put the generator that systemd runs at boot: links, systemd.generator(7).
GENERATORS = ("/lib/systemd/system-generators/netplan", "/usr/lib/systemd/system-generators/netplan")

_GENERATE = ("netplan", "generate")
OWN_PARSER = OwnParser((*_GENERATE, "--root-dir", COPY), folder="/etc/netplan/")
#: systemd runs its generators again, and netplan's among them: without Python, which the command above needs.
_RUN_GENERATORS = ("systemctl", "daemon-reload")


def generated(steps: Steps) -> Steps:
    """A daemon's ``steps`` for files that the generator makes: made anew before each loading.

    ``netplan generate`` and the daemon's own loading take effect like ``netplan apply``, in a
    third of the time and without touching other interfaces. That one comes last of all, where
    the daemon sticks; before it, lest Python is what is broken, systemd runs the generator, and
    the daemon loads once more. At boot the generator has run before any unit, with the files of
    the open change: so it runs once more.
    """
    apply = ("netplan", "apply")
    return Steps(
        leave=steps.leave,
        activate=(_GENERATE, *steps.activate),
        unload=steps.unload,
        reload=(_GENERATE, *steps.reload),
        escalate=(_RUN_GENERATORS, *steps.reload, *steps.escalate, apply),
        boot=(_GENERATE, _RUN_GENERATORS, *steps.boot),
        drop=(_GENERATE, *steps.drop),
        drop_escalate=(_RUN_GENERATORS, *steps.drop, *steps.drop_escalate, apply),
        releases=steps.releases,
    )
