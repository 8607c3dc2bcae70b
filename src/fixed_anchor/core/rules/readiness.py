"""What speaks against a change at this very moment."""

from __future__ import annotations

from collections.abc import Iterator
from functools import partial

from fixed_anchor.core.findings import Finding, finding
from fixed_anchor.core.rules.case import HostCase


def readiness_findings(case: HostCase) -> Iterator[Finding]:
    """The findings about a change of the interfaces that the plan touches."""
    found = case.facts.readiness.get(case.host.name)
    if found is None:
        return
    interfaces = {i.name for i in case.host.interfaces if i.ipv4 != "untouched" or i.ipv6 != "untouched"}
    raised = partial(finding, host=case.host.name)
    for what in found.busy:
        yield raised("stack-busy", f"the network stack is in the middle of a change: {what}", seen_in="processes")
    for root in found.carry_root:
        if root.unknown is not None:
            yield raised(
                "root-unclear",
                f"the root file system comes over the network, by which interface is not known: {root.unknown}",
                seen_in=root.seen_in,
            )
        elif root.interface in interfaces:
            yield raised(
                "carries-root",
                f"{root.interface} carries the root file system: {root.seen_in}",
                interface=root.interface,
                seen_in=root.seen_in,
            )
    if not found.boots:
        yield raised(
            "no-boot-guard",
            "neither systemd nor OpenRC nor System V init boots this host: "
            "after a power cut nothing would roll an unconfirmed change back",
            seen_in="/run/systemd/system, /run/openrc, /etc/rcS.d",
        )
