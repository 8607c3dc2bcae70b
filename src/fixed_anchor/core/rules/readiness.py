"""What speaks against a change at this very moment."""

from __future__ import annotations

from collections.abc import Iterator
from functools import partial

from fixed_anchor.core.findings import BLOCKER, Finding, FindingKind, finding
from fixed_anchor.core.rules.case import HostCase

STACK_BUSY = FindingKind(
    "stack-busy",
    "host",
    BLOCKER,
    "the network stack is in the middle of a change of its own",
    "Two changes at once end in neither of the two; one that waits to be confirmed would undo this one.",
    "Wait until it is over, or end it.",
)
CARRIES_ROOT = FindingKind(
    "carries-root",
    "host",
    BLOCKER,
    "the root file system comes in by this interface",
    "While its address changes the host cannot read its own programs, nor those that would bring it back.",
    "Change the address where the host gets it at boot, and boot it anew.",
)
ROOT_UNCLEAR = FindingKind(
    "root-unclear",
    "host",
    BLOCKER,
    "by which interface the root file system comes in is not known",
    "If it is the one that changes, the host loses its own programs in the middle of the change.",
    "Find out on the host: `ip route get` with the address of the server in /proc/mounts.",
    undetermined=True,
)
NO_BOOT_GUARD = FindingKind(
    "no-boot-guard",
    "host",
    BLOCKER,
    "nothing would roll an unconfirmed change back at boot",
    "After a power cut in the middle of a change the host would boot with files that nobody has confirmed.",
    "Accept it where somebody can be at the console, or change the host by hand.",
)


def readiness_findings(case: HostCase) -> Iterator[Finding]:
    """The findings about a change of the interfaces that the plan touches."""
    found = case.facts.readiness.get(case.host.name)
    if found is None:
        return
    interfaces = {i.name for i in case.host.touched}
    raised = partial(finding, host=case.host.name)
    for what in found.busy:
        yield raised(STACK_BUSY, f"the network stack is in the middle of a change: {what}", seen_in="processes")
    for root in found.carry_root:
        if root.unknown is not None:
            yield raised(
                ROOT_UNCLEAR,
                f"the root file system comes over the network, by which interface is not known: {root.unknown}",
                seen_in=root.seen_in,
            )
        elif root.interface in interfaces:
            yield raised(
                CARRIES_ROOT,
                f"{root.interface} carries the root file system: {root.seen_in}",
                interface=root.interface,
                seen_in=root.seen_in,
            )
    if not found.boots:
        yield raised(
            NO_BOOT_GUARD,
            "neither systemd nor OpenRC nor System V init boots this host: "
            "after a power cut nothing would roll an unconfirmed change back",
            seen_in="/run/systemd/system, /run/openrc, /etc/rcS.d",
        )
