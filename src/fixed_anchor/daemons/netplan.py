"""netplan(5)'s generator: it turns netplan's files into those of the daemon that carries them out."""

from __future__ import annotations

from fixed_anchor.change.steps import Steps

#: Shows it in the middle of something, as a daemon's ``busy`` does.
BUSY = ("netplan (try|apply)",)

_GENERATE = ("netplan", "generate")


def generated(steps: Steps) -> Steps:
    """A daemon's ``steps`` for files that the generator makes: made anew before each loading.

    ``netplan generate`` and the daemon's own loading take effect like ``netplan apply``, in a
    third of the time and without touching other interfaces. That one comes last of all, where
    the daemon sticks. At boot the generator has run before any unit, with the files of the open
    change: so it runs once more.
    """
    apply = ("netplan", "apply")
    return Steps(
        leave=steps.leave,
        activate=(_GENERATE, *steps.activate),
        unload=steps.unload,
        reload=(_GENERATE, *steps.reload),
        escalate=(*steps.escalate, apply),
        boot=(_GENERATE, *steps.boot),
        drop=(_GENERATE, *steps.drop),
        drop_escalate=(*steps.drop_escalate, apply),
        releases=steps.releases,
    )
